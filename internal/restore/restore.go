// Package restore writes a planned disk onto a target: through the guard, in
// disk order, with the first MiB last, so that a half-written disk isn't taken
// for a good one.
package restore

import (
	"fmt"
	"runtime"
	"sync"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/rehearse"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// Plan is a restore that hasn't begun.
type Plan struct {
	Source disk.Mapped
	Target disk.Target
	Guard  *disk.Guard
	Fit    *fit.Plan

	planned *rehearse.Planned
	toWrite int64
	data    int64
}

// New plans the restore of source onto target as it is wished; nothing is written. It refuses what can't
// work or mustn't be done.
func New(source disk.Mapped, target disk.Target, guard *disk.Guard, wish fit.Wish) (*Plan, error) {
	f, err := fit.Make(source, target.Identity, wish)
	if err != nil {
		return nil, err
	}
	if err := guard.Check(target); err != nil {
		return nil, err
	}
	planned, err := rehearse.Compose(source, f)
	if err != nil {
		return nil, err
	}
	p := &Plan{Source: source, Target: target, Guard: guard, Fit: f, planned: planned}
	for piece, err := range planned.Pieces() {
		if err != nil {
			return nil, fmt.Errorf("the twin can't be restored: %w; prove it to see which parts are hurt", err)
		}
		switch piece.Kind {
		case disk.Data:
			p.data += piece.Len()
			p.toWrite += piece.Len()
		case disk.Zero:
			p.toWrite += piece.Len()
		}
	}
	// The planned disk is checked as if it were the finished one.
	t, err := table.Read(planned, planned.Size(), planned.SectorSize())
	if err != nil {
		return nil, err
	}
	if f.Table.Sound(source.Size()) && (!t.Sound(planned.Size()) || t.Worst() == table.Damage && f.Table.Worst() != table.Damage) {
		return nil, fmt.Errorf("the planned disk's table would not be sound (%v); nothing was written", t.Findings)
	}
	return p, nil
}

// Rehearse composes the disk that a restore onto such a target would make.
func Rehearse(source disk.Mapped, target disk.Identity, wish fit.Wish) (*rehearse.Planned, error) {
	f, err := fit.Make(source, target, wish)
	if err != nil {
		return nil, err
	}
	return rehearse.Compose(source, f)
}

// Planned is the disk as it will be.
func (p *Plan) Planned() *rehearse.Planned { return p.planned }

// Bytes are the bytes to write at the most, and how many of them aren't zeros.
func (p *Plan) Bytes() (write, data int64) { return p.toWrite, p.data }

// Assumed rate for the estimate, in bytes per second.
const writingRate = 150 * units.MB

// Estimate is how long the writing will probably take.
func (p *Plan) Estimate() time.Duration {
	return time.Duration(float64(p.data) / writingRate * float64(time.Second))
}

// Phases are the names of the phases of a restore.
var Phases = []string{phaseWrite, phaseTable, phaseFlush}

const (
	phaseWrite = "Write the disk"
	phaseTable = "Write the start of the disk"
	phaseFlush = "Flush"
)

// head is what is written last, in bytes.
const head = 1 << 20

// ahead is how many pieces are read ahead of the writing.
const ahead = 6

type block struct {
	piece disk.Piece
	buf   []byte
	err   error
	ready chan struct{}
}

// Run writes. When it fails or is cancelled, the target has no table yet: its
// first MiB is cleared before anything else and written last.
func (p *Plan) Run(rc *run.Context) (err error) {
	w, err := p.Guard.Open(p.Target)
	if err != nil {
		return err
	}
	defer w.Close()
	rc.Rails(p.Source.Size(), p.planned.Size())
	rc.Phase(phaseWrite, p.toWrite)
	if err := p.writeTo(rc, w); err != nil {
		return fmt.Errorf("%w; the target is written in part and has no table, so that nobody takes it for a good disk; nothing else was touched, and the restore can be started again", err)
	}
	rc.Phase(phaseFlush, 0)
	if err := w.Sync(); err != nil {
		return err
	}
	t, err := table.Read(p.planned, p.planned.Size(), p.planned.SectorSize())
	if err == nil {
		err = w.Reread(t.Starts())
	}
	if err != nil {
		rc.Note("the kernel doesn't show the target's new parts (%v); take the disk out and put it in again to see them", err)
	}
	return nil
}

// writeTo is the copy itself: a reader that keeps a few pieces ahead, workers
// that fetch them, and this goroutine writing in order.
func (p *Plan) writeTo(rc *run.Context, w disk.Writable) error {
	first := span.Span{End: min(head, p.planned.Size())}
	if err := disk.WriteZeros(w, first, nil); err != nil {
		return err
	}
	stop := make(chan struct{})
	order := make(chan *block, ahead)
	todo := make(chan *block, ahead)
	free := make(chan []byte, ahead+2)
	for range ahead + 2 {
		free <- nil
	}
	var wg sync.WaitGroup
	defer wg.Wait()
	defer close(stop)
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for b := range todo {
				b.buf, b.err = p.planned.Read(b.piece, b.buf)
				close(b.ready)
			}
		})
	}
	wg.Go(func() {
		defer close(order)
		defer close(todo)
		p.schedule(order, todo, free, stop)
	})
	var later []disk.Piece
	for b := range order {
		if b.piece.Kind == disk.Data {
			<-b.ready
		}
		if b.err != nil {
			return b.err
		}
		if b.piece.Start < first.End {
			later = append(later, b.piece)
			if b.buf != nil {
				free <- b.buf
			}
			continue
		}
		if err := p.write(rc, w, b.piece, b.buf); err != nil {
			return err
		}
		if b.piece.Kind == disk.Data {
			free <- b.buf
		}
	}
	if err := w.Sync(); err != nil {
		return err
	}
	rc.Phase(phaseTable, first.Len())
	for _, piece := range later {
		if piece.Kind == disk.Undefined {
			continue
		}
		buf, err := p.planned.Read(disk.Piece{Span: piece.Span, Kind: piece.Kind}, nil)
		if err != nil {
			return err
		}
		if err := p.write(rc, w, disk.Piece{Span: piece.Span, Kind: disk.Data}, buf); err != nil {
			return err
		}
	}
	return nil
}

// schedule hands the pieces out in order; zero pieces are cut at the head so
// that only little is held back for the end.
func (p *Plan) schedule(order, todo chan<- *block, free <-chan []byte, stop <-chan struct{}) {
	send := func(ch chan<- *block, b *block) bool {
		select {
		case ch <- b:
			return true
		case <-stop:
			return false
		}
	}
	for piece, err := range p.planned.Pieces() {
		b := &block{piece: piece, err: err, ready: make(chan struct{})}
		if err != nil {
			close(b.ready)
			send(order, b)
			return
		}
		if piece.Kind != disk.Data && piece.Start < head && piece.End > head {
			early := &block{piece: disk.Piece{Span: span.Span{Start: piece.Start, End: head}, Kind: piece.Kind}}
			if !send(order, early) {
				return
			}
			b.piece.Start = head
		}
		if piece.Kind == disk.Data {
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

// write puts one piece onto the target.
func (p *Plan) write(rc *run.Context, w disk.Writable, piece disk.Piece, buf []byte) error {
	switch piece.Kind {
	case disk.Undefined:
		return rc.Err()
	case disk.Zero:
		if err := disk.WriteZeros(w, piece.Span, func(sp span.Span, written bool) error {
			rc.MarkWritten(sp, run.Finished)
			rc.MarkRead(p.planned.Source(sp), run.Finished)
			if !written {
				return rc.Skip(sp.Len())
			}
			return rc.Step(sp.Len())
		}); err != nil {
			return err
		}
		return rc.Err()
	}
	if _, err := w.WriteAt(buf, piece.Start); err != nil {
		return err
	}
	rc.MarkWritten(piece.Span, run.Finished)
	rc.MarkRead(p.planned.Source(piece.Span), run.Finished)
	return rc.Step(piece.Len())
}

// Warnings says what is missing or doubtful in a disk of a twin, in words.
func Warnings(d *shelf.TwinDisk) []string {
	var out []string
	for _, r := range d.Parts() {
		if !r.Captured {
			out = append(out, fmt.Sprintf("part %d (%s) was not captured; on the target it will hold whatever is there now", r.Part, r.Title()))
		}
		if r.Unclean != "" {
			out = append(out, fmt.Sprintf("part %d (%s) was not quiet when it was captured: %s", r.Part, r.Title(), r.Unclean))
		}
	}
	if n := d.Missing.Total(); n > 0 {
		out = append(out, fmt.Sprintf("%s of the source could not be read and will be zeros", units.Bytes(n)))
	}
	return out
}
