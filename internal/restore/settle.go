package restore

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
	"twinshelf/internal/units"
)

const (
	// step is how finely places are tried that fail, in bytes: the sector of most failing disks.
	step = 4096
	// mostBad is how much a target may fail to keep until it is given up, in bytes.
	mostBad = 16 << 20
)

// flush makes sure that everything before byte upto is on the medium, reads a sample of it back, and
// writes down how far the work came.
func (w *writer) flush(upto int64) error {
	window := span.Span{Start: max(head, w.since), End: upto}
	err := w.w.Sync()
	if err != nil && disk.Gone(err) {
		return err
	}
	if err == nil {
		err = w.hurt
	}
	if w.hurt = nil; err == nil {
		err = w.sample()
	}
	if disk.Gone(err) {
		return err
	}
	if err != nil {
		if err := w.settle(window, err); err != nil {
			return err
		}
	}
	w.came.Upto, w.since = upto, upto
	w.came.Done, w.came.Total = w.rc.Come()
	if err := w.save(); err != nil {
		w.rc.Note("how far the restore came can't be written down (%v); if it is cut off it has to begin again", err)
		w.notes = nil
	}
	w.last = time.Now()
	return w.rc.Err()
}

// take has a piece that was written stand a chance of being read back at the next flush.
func (w *writer) take(piece disk.Piece) {
	if w.taken++; rand.IntN(w.taken) == 0 {
		w.pick = piece
	}
}

// sample reads one of the pieces written lately back from the medium: a drive that claims a size which it hasn't
// is found out early.
func (w *writer) sample() error {
	if w.taken == 0 {
		return nil
	}
	w.taken = 0
	forget(w.w, w.pick.Span)
	if ok, err := w.holds(w.pick); err != nil || !ok {
		if err != nil {
			return err
		}
		return fmt.Errorf("%d bytes from byte %d on read back differently from what was written", w.pick.Len(),
			w.pick.Start)
	}
	return nil
}

// forget has the next reading of a stretch come from the medium.
func forget(d disk.Device, sp span.Span) {
	if f, ok := d.(interface{ ForgetIn(span.Span) }); ok {
		f.ForgetIn(sp)
	}
}

// holds says whether the target holds a piece. The error is of a disk that has vanished.
func (w *writer) holds(piece disk.Piece) (bool, error) {
	want, err := w.Disk.Read(piece, nil)
	if err == nil {
		have := make([]byte, len(want))
		if err = disk.ReadFull(w.w, have, piece.Start); err == nil {
			return bytes.Equal(want, have), nil
		}
	}
	if disk.Gone(err) {
		return false, err
	}
	return false, nil
}

// settle goes over a stretch in which something failed: it reads everything back, writes again what differs, step
// by step, and keeps in Bad what the target doesn't take.
func (w *writer) settle(window span.Span, cause error) error {
	w.settled = true
	w.rc.Note("%v; %s from byte %d on are read back and what differs is written again", cause,
		units.Bytes(window.Len()), window.Start)
	forget(w.w, window)
	for piece, err := range w.Disk.Pieces() {
		if err != nil || piece.Start >= window.End {
			break
		}
		if piece.Kind == disk.Undefined || piece.Start < head {
			continue
		}
		for sp := range disk.Chunks(piece.Span.Intersect(window), 1<<20) {
			if err := w.settleChunk(disk.Piece{Span: sp, Kind: piece.Kind}); err != nil {
				return err
			}
			if err := w.rc.Err(); err != nil {
				return err
			}
		}
	}
	if n := w.came.Bad.Total(); n > 0 {
		w.rc.Note("the target doesn't keep %s, first at byte %d; the proof will name what lies there", units.Exact(n),
			w.came.Bad.Bounds().Start)
	}
	return nil
}

func (w *writer) settleChunk(piece disk.Piece) error {
	want := make([]byte, piece.Len())
	if piece.Kind == disk.Data {
		if err := disk.ReadFull(w.Disk, want, piece.Start); err != nil {
			return nil // of the source: its own affair, and dealt with elsewhere
		}
	}
	have := make([]byte, len(want))
	if disk.ReadFull(w.w, have, piece.Start) == nil && bytes.Equal(want, have) {
		return nil
	}
	for sp := range disk.Chunks(piece.Span, step) {
		want, have := want[sp.Start-piece.Start:sp.End-piece.Start], have[:sp.Len()]
		if disk.ReadFull(w.w, have, sp.Start) == nil && bytes.Equal(want, have) {
			continue
		}
		_, err := w.w.WriteAt(want, sp.Start)
		if err == nil {
			err = w.w.Sync()
		}
		if disk.Gone(err) {
			return err
		}
		if forget(w.w, sp); err == nil && disk.ReadFull(w.w, have, sp.Start) == nil && bytes.Equal(want, have) {
			continue
		}
		w.came.Bad.Add(sp)
		w.rc.MarkWritten(sp, run.Unreadable)
		if w.came.Bad.Total() > mostBad {
			return fmt.Errorf("the target doesn't keep what is written: more than %s, the first at byte %d; choose "+
				"another target", units.Bytes(mostBad), w.came.Bad.Bounds().Start)
		}
	}
	return nil
}

// unread puts a piece that the source didn't give off to the end.
func (w *writer) unread(b *block) error {
	w.markRead(b.piece.Span, run.Unreadable)
	if w.Lenient {
		w.came.Later.Add(b.piece.Span)
		return w.rc.Step(b.piece.Len())
	}
	// A hurt block of a twin won't get better.
	w.rc.Note("%v; zeros are written instead, from byte %d of the target on", b.err, b.piece.Start)
	w.came.Missing.Add(b.piece.Span)
	return w.write(disk.Piece{Span: b.piece.Span, Kind: disk.Zero}, nil)
}

// tolerates says whether the work goes on although the source doesn't give something.
func (w *writer) tolerates(err error) bool {
	return err == nil || !disk.Gone(err) && (w.Lenient || store.IsHurt(err))
}

// start reads a piece of the first MiB. What the source doesn't give step by step becomes zeros and is noted.
func (w *writer) start(piece disk.Piece) ([]byte, error) {
	b, err := w.Disk.Read(disk.Piece{Span: piece.Span, Kind: piece.Kind}, nil)
	if err == nil {
		return b, nil
	}
	if !w.tolerates(err) {
		return nil, err
	}
	b = make([]byte, piece.Len())
	for sp := range disk.Chunks(piece.Span, step) {
		p := b[sp.Start-piece.Start : sp.End-piece.Start]
		err := disk.ReadFull(w.Disk, p, sp.Start)
		if disk.Gone(err) {
			return nil, err
		}
		if err != nil {
			clear(p)
			w.came.Missing.Add(sp)
		}
	}
	if n := w.came.Missing.Clip(piece.Span).Total(); n > 0 {
		w.rc.Note("%s of the first MiB of the source can't be read; zeros are there instead, and it may not start",
			units.Exact(n))
	}
	return b, nil
}
