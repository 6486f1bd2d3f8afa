package restore

import (
	"errors"
	"fmt"
	"iter"
	"runtime"
	"sync"
	"syscall"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// Phases are the names of the phases of any restore.
var Phases = []string{phaseWrite, phaseAgain, phaseTable, phaseFlush}

// Phases are the names of the phases of this one.
func (p *Restore) Phases() []string {
	if p.Lenient {
		return Phases
	}
	return []string{phaseWrite, phaseTable, phaseFlush}
}

const (
	phaseWrite = "Write the disk"
	phaseAgain = "Read again what the source didn't give"
	phaseTable = "Write the start of the disk"
	phaseFlush = "Flush"
)

const (
	// head is what is written last, in bytes.
	head = 1 << 20
	// mostAhead is how many pieces are read ahead of the writing; of many targets each has a share of that, and
	// leastAhead.
	mostAhead  = 6
	leastAhead = 1
	// checkpoint is how long it takes until the next flush; an interrupted restore goes on from the last one.
	checkpoint = 20 * time.Second
)

// Run writes. When it fails or is cancelled, the target has no table yet: its first MiB is cleared before anything else
// and written last. When it ends well Bad and Missing say what isn't as planned.
func (p *Restore) Run(rc *run.Context) (err error) {
	w, err := p.Guard.Open(p.Target)
	if err != nil {
		return err
	}
	defer w.Close()
	rc.Rails(p.Order.Source.Size(), p.Disk.Size())
	rc.ExpectWritten(disk.Stretches(p.Disk, disk.Data, disk.Zero))
	rc.ExpectRead(p.fromSource())
	rc.Phase(phaseWrite, p.toWrite)
	if err := p.writeTo(rc, w); err != nil {
		goesOn := "the restore can be started again"
		if p.notes != nil && p.came.Upto > head {
			goesOn = "start it again as it was planned, and it goes on from byte " + fmt.Sprint(p.came.Upto)
		}
		return fmt.Errorf("%w; the target is written in part and has no table, so that nobody takes it for a good "+
			"disk; nothing else was touched, and %s", err, goesOn)
	}
	rc.Phase(phaseFlush, 0)
	if err := w.Sync(); err != nil {
		return err
	}
	if p.notes != nil {
		if err := p.notes.Clear(); err != nil {
			rc.Note("the note of how far the restore came can't be removed (%v); it does no harm", err)
		}
	}
	t, err := table.Read(p.Disk, p.Disk.Size(), p.Disk.SectorSize())
	if err == nil {
		err = w.Reread(t.Starts())
	}
	if err != nil {
		rc.Note("the kernel doesn't show the target's new parts (%v); take the disk out and put it in again to see "+
			"them", err)
	}
	return nil
}

type block struct {
	piece disk.Piece
	buf   []byte
	err   error // of the reading
	done  bool  // an earlier run wrote it
	ready chan struct{}
}

// writer is a run's writing onto a target.
type writer struct {
	*Restore
	leaps leaps
	rc    *run.Context
	w     disk.Writable
	since int64 // byte of the target from which on nothing was flushed yet
	last  time.Time
	// hurt says that a write failed since then; pick is one of the pieces taken since then.
	hurt  error
	pick  disk.Piece
	taken int
	// follow is Restore.Follow where that is to be called.
	follow func(written span.Span)
}

// fromSource are the stretches of the source that are read.
func (p *Restore) fromSource() iter.Seq[span.Span] {
	return func(yield func(span.Span) bool) {
		for sp := range disk.Stretches(p.Disk, disk.Data) {
			for from := range p.Disk.Sources(sp) {
				if !yield(from) {
					return
				}
			}
		}
	}
}

// writeTo is the copy itself: a reader that keeps a few pieces ahead, workers
// that fetch them, and this goroutine writing in order.
func (p *Restore) writeTo(rc *run.Context, target disk.Writable) error {
	w := &writer{Restore: p, rc: rc, w: target}
	if err := w.goOn(); err != nil {
		return err
	}
	first := span.Span{End: min(head, p.Disk.Size())}
	if err := disk.WriteZeros(target, first, nil); err != nil {
		return err
	}
	if err := target.Sync(); err != nil { // from here on nobody takes it for what it was
		return err
	}
	if err := w.mayBeFollowed(); err != nil {
		return err
	}
	w.since, w.last = p.came.Upto, time.Now()
	later, err := w.body(first)
	if err != nil {
		return err
	}
	if err := w.again(); err != nil {
		return err
	}
	rc.Phase(phaseTable, first.Len())
	for _, piece := range later {
		if piece.Kind == disk.Undefined {
			continue
		}
		buf, err := w.start(piece)
		if err != nil {
			return err
		}
		if _, err := target.WriteAt(buf, piece.Start); err != nil {
			return fmt.Errorf("the start of the target can't be written, and without it the rest is of no use: %w; "+
				"choose another target", err)
		}
		if err := w.did(piece.Span); err != nil {
			return err
		}
	}
	return nil
}

// mayBeFollowed finds out whether what is read back before the end counts.
func (w *writer) mayBeFollowed() error {
	if w.Follow == nil || w.found {
		return nil
	}
	if one, ok := w.w.(interface{ Apart() bool }); !ok || !one.Apart() {
		w.rc.Waits("the drive's capacity is being checked")
		defer w.rc.Waits("")
		known, err := capacity(w.rc, w.w, w.Keep)
		if err != nil || !known {
			return err
		}
	}
	w.follow = w.Follow
	return nil
}

// goOn looks whether what an earlier run wrote is still there, by samples; otherwise everything is written.
func (w *writer) goOn() error {
	if !w.found {
		w.came = Progress{}
		return nil
	}
	const samples = 16
	n := 0
	for piece, err := range w.Disk.Pieces() {
		if err != nil || piece.Start >= w.came.Upto {
			break
		}
		if piece.Kind != disk.Data || piece.Start < head || w.came.Bad.Overlaps(piece.Span) ||
			w.came.Missing.Overlaps(piece.Span) || w.came.Later.Overlaps(piece.Span) {
			continue
		}
		// The first few, and then some over the whole length.
		if int64(n) > piece.Start*samples/max(1, w.came.Upto)+2 {
			continue
		}
		n++
		ok, err := w.holds(piece)
		if err != nil {
			return err
		}
		if !ok {
			w.rc.Note("what an earlier run wrote isn't there any more (byte %d): everything is written from the "+
				"beginning", piece.Start)
			w.came = Progress{}
			return nil
		}
	}
	w.rc.Note("goes on at byte %d, where an earlier run was cut off; %s of what that one wrote were looked at and "+
		"are right", w.came.Upto, units.Plural(n, "piece"))
	return nil
}

// ahead is how many pieces are read ahead of the writing.
func (p *Restore) ahead() int { return max(leastAhead, mostAhead/(1+p.Beside/2)) }

// body writes everything but the first MiB, and gives what belongs there.
func (w *writer) body(first span.Span) (later []disk.Piece, err error) {
	stop, ahead := make(chan struct{}), w.ahead()
	order := make(chan *block, ahead)
	todo := make(chan *block, ahead)
	free := make(chan []byte, ahead+2)
	for range ahead + 2 {
		free <- nil
	}
	from := w.came.Upto // what comes before it is written already
	var wg sync.WaitGroup
	defer wg.Wait()
	defer close(stop)
	for range min(ahead, runtime.GOMAXPROCS(0)) {
		wg.Go(func() {
			for b := range todo {
				w.read(b)
				close(b.ready)
			}
		})
	}
	wg.Go(func() {
		defer close(order)
		defer close(todo)
		w.schedule(from, order, todo, free, stop)
	})
	for b := range order {
		data := b.piece.Kind == disk.Data && !b.done
		if data {
			<-b.ready
		}
		switch {
		case b.done:
			err = w.did(b.piece.Span, skipped)
		case !w.tolerates(b.err):
			err = b.err
		case b.piece.Start < first.End:
			later = append(later, b.piece)
		case b.err != nil:
			err = w.unread(b)
		default:
			err = w.write(b.piece, b.buf)
		}
		if err != nil {
			return nil, w.cutOff(err, b.piece.Start)
		}
		if data {
			free <- b.buf
		}
		if w.follow != nil {
			w.follow(span.Span{Start: first.End, End: b.piece.End})
		}
		if !b.done && b.piece.Start >= first.End && time.Since(w.last) >= w.every {
			if err := w.flush(b.piece.End); err != nil {
				return nil, err
			}
		}
	}
	return later, w.flush(w.Disk.Size())
}

// cutOff notes how far the work came when it is cancelled in an orderly way.
func (w *writer) cutOff(err error, at int64) error {
	if w.rc.Err() != nil && at > head && w.notes != nil {
		_ = w.flush(at) // it returns the cancelling
	}
	return err
}

// schedule hands the pieces out in order; zero pieces are cut at the head so
// that only little is held back for the end, and at from, where an earlier run ended.
func (w *writer) schedule(from int64, order, todo chan<- *block, free <-chan []byte, stop <-chan struct{}) {
	send := func(ch chan<- *block, b *block) bool {
		select {
		case ch <- b:
			return true
		case <-stop:
			return false
		}
	}
	for piece, err := range w.Disk.Pieces() {
		if err != nil {
			b := &block{piece: piece, err: err, ready: make(chan struct{})}
			close(b.ready)
			b.piece.Kind = disk.Data
			send(order, b)
			return
		}
		for _, cut := range []int64{head, from} {
			if piece.Kind != disk.Data && piece.Start < cut && piece.End > cut {
				early := piece
				early.End, piece.Start = cut, cut
				if !send(order, &block{piece: early, done: early.Start >= head}) {
					return
				}
			}
		}
		b := &block{piece: piece, ready: make(chan struct{}), done: piece.Start >= head && piece.End <= from}
		if piece.Kind == disk.Data && !b.done {
			select {
			case b.buf = <-free:
			case <-stop:
				return
			}
			if !send(todo, b) {
				return
			}
		}
		if !send(order, b) {
			return
		}
	}
}

// how says how a stretch was dealt with.
type how int

const (
	written how = iota
	skipped
)

// did notes that a stretch of the target is as planned.
func (w *writer) did(sp span.Span, h ...how) error {
	w.rc.MarkWritten(sp, run.Finished)
	w.markRead(sp, run.Finished)
	if len(h) > 0 && h[0] == skipped {
		return w.rc.Skip(sp.Len())
	}
	return w.rc.Step(sp.Len())
}

// markRead shows where what belongs at a stretch of the target was read.
func (w *writer) markRead(sp span.Span, state run.Cell) {
	for from := range w.Disk.Sources(sp) {
		w.rc.MarkRead(from, state)
	}
}

// write puts one piece onto the target. A place that fails is dealt with at the next flush.
func (w *writer) write(piece disk.Piece, buf []byte) error {
	switch piece.Kind {
	case disk.Undefined:
		return w.rc.Err()
	case disk.Zero:
		for sp := range disk.Chunks(piece.Span, zeroStep) {
			err := disk.WriteZeros(w.w, sp, func(sp span.Span, wrote bool) error {
				if !wrote {
					return w.did(sp, skipped)
				}
				return w.did(sp)
			})
			if w.rc.Err() != nil {
				return w.rc.Err()
			}
			if err := w.failed(err); err != nil {
				return err
			}
		}
		return nil
	}
	if _, err := w.w.WriteAt(buf, piece.Start); err != nil {
		if err := w.failed(err); err != nil {
			return err
		}
	} else {
		w.take(piece)
	}
	return w.did(piece.Span)
}

const zeroStep = 64 << 20

// failed keeps an error of the target for the next flush, and gives one that ends everything.
func (w *writer) failed(err error) error {
	if err == nil || disk.Gone(err) || errors.Is(err, syscall.ENOSPC) {
		return err
	}
	w.hurt = err
	w.last = time.Time{} // look at it at once
	return nil
}
