package restore

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"sync"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/careful"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// A disk that is copied directly may be failing: the copy jumps on from bad places, as a rescue does, and comes back to
// what it left when everything else is written.

// errJumped is what a piece comes with that wasn't asked for.
var errJumped = errors.New("it lies near a place that can't be read")

// leaps are the jumps of a copy over its target, by several readers.
type leaps struct {
	mu    sync.Mutex
	jumps careful.Jumps
}

// over says whether a piece is jumped over.
func (l *leaps) over(sp span.Span) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return sp.Start < l.jumps.Landing()
}

// came notes what became of a piece that was read.
func (l *leaps) came(sp span.Span, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if err != nil {
		l.jumps.Failed(sp)
		return
	}
	l.jumps.Gave(sp.Len())
}

// fetching copies stretches of the planned disk onto the target.
type fetching struct {
	w      *writer
	buf    []byte
	budget careful.Budget
}

// Fetch copies a stretch.
func (f *fetching) Fetch(ctx context.Context, sp span.Span) (int64, error) {
	b := f.buf[:sp.Len()]
	if err := disk.ReadFull(f.w.Disk, b, sp.Start); err != nil {
		return 0, f.budget.Failed(sp.Start, err)
	}
	if _, err := f.w.w.WriteAt(b, sp.Start); err != nil {
		if disk.Gone(err) {
			return 0, err
		}
		f.w.came.Bad.Add(sp)
	}
	return sp.Len(), ctx.Err()
}

// again tries what the source didn't give: from the edges of each stretch up to the first bad place, then half by half,
// then in steps of 4 KiB. What it still doesn't give becomes zeros and is noted.
func (w *writer) again() error {
	if w.came.Later.Empty() {
		return nil
	}
	later := w.came.Later
	w.rc.Phase(phaseAgain, later.Total())
	f := &fetching{w: w, buf: make([]byte, units.MiB)}
	r := &careful.Reading{States: careful.NewStates(w.Disk.Size(), w.Disk.SectorSize()), Physical: step,
		Source: f, Large: units.MiB}
	var stopped error
	r.After = func(sp span.Span, got int64) {
		if got > 0 {
			w.markRead(span.At(sp.Start, got), run.Finished)
		}
		stopped = errors.Join(stopped, w.rc.Step(got))
	}
	for sp := range later.All() {
		r.States.MarkDoubtful(sp)
	}
	all := func() iter.Seq[span.Span] { return later.All() }
	err := r.Narrow(w.rc, all)
	if err == nil && stopped == nil {
		err = r.Single(w.rc, all, 1)
	}
	if f.budget.Spent() {
		w.rc.Note("the source hung %d times while what it didn't give was read again: the rest of that is missing; a "+
			"rescue lets it rest, and gets more", f.budget.Stalls)
		if errors.Is(err, disk.ErrStalled) { // anything else, such as a cancelling, still ends the work
			err = nil
		}
	}
	if err = errors.Join(err, stopped); err != nil {
		return err
	}
	for sp := range later.All() {
		for run := range r.States.Runs(sp) {
			if run.State == careful.Got {
				continue
			}
			if err := w.lost(run.Intersect(sp)); err != nil {
				return err
			}
		}
	}
	if n := w.came.Missing.Total(); n > 0 {
		w.rc.Note("%s of the source can't be read, first for byte %d of the target; zeros are there instead",
			units.Exact(n), w.came.Missing.Bounds().Start)
	}
	w.came.Later = span.Set{}
	return w.w.Sync()
}

// lost notes that the source doesn't give a stretch, and puts zeros there.
func (w *writer) lost(sp span.Span) error {
	zeros := make([]byte, step)
	for part := range disk.Chunks(sp, step) {
		w.came.Missing.Add(part)
		if _, err := w.w.WriteAt(zeros[:part.Len()], part.Start); err != nil {
			if disk.Gone(err) {
				return err
			}
			w.came.Bad.Add(part)
		}
	}
	return nil
}

// read reads a piece, unless it is jumped over.
func (w *writer) read(b *block) {
	if w.Lenient && b.piece.Start >= head && w.leaps.over(b.piece.Span) {
		b.err = fmt.Errorf("byte %d isn't read yet: %w", b.piece.Start, errJumped)
		return
	}
	b.buf, b.err = w.Disk.Read(b.piece, b.buf)
	if w.Lenient && b.piece.Start >= head {
		w.leaps.came(b.piece.Span, b.err)
	}
}
