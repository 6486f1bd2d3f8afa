package capture

import (
	"context"
	"errors"
	"iter"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/careful"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
)

// errJumped is what a block comes with that wasn't asked for.
var errJumped = errors.New("it lies near a place that can't be read")

// unasked says why a block isn't asked for: the disk is gone, or it is near a bad place, and its turn comes at the end.
func (rd *reader) unasked(on span.Span) error {
	if rd.gone != nil {
		return rd.gone
	}
	if on.Start < rd.jumps.Landing() {
		return errJumped
	}
	return nil
}

// landed notes what became of a read, and gives its error.
func (rd *reader) landed(x *read) error {
	switch {
	case rd.gone != nil:
		return rd.gone
	case x.err == nil:
		rd.jumps.Gave(x.on.Len())
	case !errors.Is(x.err, errJumped):
		rd.jumps.Failed(x.on)
	}
	return x.err
}

// postpone keeps a block that can't be read for the end of the run: a failing
// disk gives more while it isn't tormented at one place.
func (rd *reader) postpone(err error, d deferred) {
	if rd.gone == nil && disk.Gone(err) {
		rd.gone = err
		rd.rc.Note("%s can't be reached any more at byte %d (%v); everything after it is missing",
			disk.Sticker(rd.dev.Identity()), d.block.Start, err)
	}
	rd.rc.MarkRead(d.block, run.Unreadable)
	if rd.gone != nil {
		// No second try: the block is stored as zeros and counted as missing.
		for _, sp := range d.spans {
			d.out.Missing.Add(sp)
		}
		d.node.refs[d.slot].Kind = disk.Zero
		rd.release(d.node)
		return
	}
	rd.retry = append(rd.retry, d)
}

// retryStep is the sector of most failing drives, in bytes.
const retryStep = 4096

// again reads the postponed blocks: from their edges up to the first bad place, then half by half, then in steps of
// 4 KiB; and notes exactly what can't be read.
func (w *work) again() {
	if len(w.retry) == 0 {
		return
	}
	total := int64(0)
	for _, d := range w.retry {
		total += span.Of(d.spans...).Total()
	}
	w.rc.Phase(phaseRetry, total)
	f := &fetching{states: map[disk.Device]*careful.States{}}
	for len(w.retry) > 0 && w.rc.Err() == nil && w.err() == nil {
		d := w.retry[0]
		w.retry = w.retry[1:]
		buf := (<-w.free)[:d.block.Len()]
		clear(buf)
		f.dev, f.buf, f.base = d.dev, buf, d.block.Start
		missing := f.all(w.rc, d.spans)
		for sp := range missing.All() {
			d.out.Missing.Add(sp)
			clear(buf[sp.Start-f.base : sp.End-f.base])
		}
		if lost := missing.Total(); lost > 0 {
			w.rc.Note("%s: %d bytes from byte %d on can't be read", disk.Sticker(d.dev.Identity()), lost, d.block.Start)
		}
		w.jobs <- job{buf, d.node, d.slot}
		_ = w.rc.Step(span.Of(d.spans...).Total())
	}
	if f.budget.Spent() {
		w.rc.Note("the drive hung %d times while what it didn't give was read again: the rest of that is missing; a "+
			"rescue lets it rest, and gets more", f.budget.Stalls)
	}
}

// fetching reads parts of a block.
type fetching struct {
	dev    disk.Device
	buf    []byte
	base   int64 // byte of the device at which buf begins
	budget careful.Budget
	states map[disk.Device]*careful.States
}

// all reads the spans of a block and gives what of them doesn't come.
func (f *fetching) all(ctx context.Context, spans []span.Span) (missing span.Set) {
	if f.states[f.dev] == nil {
		f.states[f.dev] = careful.NewStates(f.dev.Size(), f.dev.SectorSize())
	}
	r := &careful.Reading{States: f.states[f.dev], Source: f,
		Physical: max(retryStep, int64(f.dev.SectorSize())), Large: int64(len(f.buf))}
	for _, sp := range spans {
		r.States.MarkDoubtful(sp)
	}
	wanted := func() iter.Seq[span.Span] { return slices.Values(spans) }
	if f.budget.Spent() {
		return span.Of(spans...)
	}
	err := r.Narrow(ctx, wanted)
	if err == nil {
		_ = r.Single(ctx, wanted, 1)
	}
	for _, sp := range spans { // whatever ended it: what didn't come is missing
		for run := range r.States.Runs(sp) {
			if run.State != careful.Got {
				missing.Add(run.Intersect(sp))
			}
		}
	}
	return missing
}

// Fetch reads a stretch.
func (f *fetching) Fetch(ctx context.Context, sp span.Span) (int64, error) {
	if err := disk.ReadFull(f.dev, f.buf[sp.Start-f.base:sp.End-f.base], sp.Start); err != nil {
		return 0, f.budget.Failed(sp.Start, err)
	}
	return sp.Len(), ctx.Err()
}
