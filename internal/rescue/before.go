package rescue

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/careful"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
)

// recall takes over what was tried in the sittings before.
func (p *patient) recall(s *shelf.Shelf, t *shelf.Twin, i int) error {
	n := 0
	for from, b := range shelf.TriesOn(s).Of(p.rc, t.ID, i) {
		if next, err := p.states.Unpack(from, b); err == nil {
			n += next - from
		} else {
			p.states.Forget(span.Span{End: p.Device.Size()})
			n = 0
			break
		}
	}
	if n == p.states.Chunks() {
		return nil
	}
	p.rc.Note("what was tried in the sittings before can't be read: places that were bad are tried again")
	return p.infer(t, i)
}

// infer works out what was got from the twin alone: what its own maps call used and it doesn't miss.
func (p *patient) infer(t *shelf.Twin, i int) error {
	old := &patient{Source: p.Source, states: p.states}
	var err error
	if old.survey, err = surveyOf(p.rc, p.canvas.base, t, i); err != nil {
		return err
	}
	missing := t.Disks[i].Missing
	for _, r := range t.Disks[i].Regions {
		if !r.Captured { // nothing of it is there
			missing.Add(r.Span)
		}
	}
	for _, a := range old.survey.Areas {
		if r := p.canvas.base.RegionAt(a.Span.Start); !a.Content.Maps && r.Whole == "" && r.Part != 0 ||
			r.Span != a.Span {
			missing.Add(a.Span) // it was read by maps that aren't believed now: what it has isn't known
		}
	}
	for sp := range old.wanted() {
		for got := range span.Of(sp).Subtract(missing.Clip(sp)).All() {
			inner := span.Span{Start: (got.Start + p.states.Sector() - 1) / p.states.Sector() * p.states.Sector(),
				End: got.End / p.states.Sector() * p.states.Sector()}
			if !inner.Empty() {
				p.states.MarkGot(inner)
			}
		}
	}
	return nil
}

// samples is how many places are read again to see whether the drive still holds what it held.
const samples = 32

// sampled are places all over the disk that were got, a physical sector of each.
func (p *patient) sampled() iter.Seq[span.Span] {
	size, unit := p.Device.Size(), p.work.Physical
	return func(yield func(span.Span) bool) {
		for i := range int64(samples) {
			at := (size/samples*i + size/samples/3) / unit * unit
			for r := range p.states.Runs(span.Span{Start: at, End: min(size, at+size/samples)}) {
				sp := span.At((r.Start+unit-1)/unit*unit, unit)
				if r.State != careful.Got || !r.Covers(sp) {
					continue
				}
				if !yield(sp) {
					return
				}
				break
			}
		}
	}
}

// same reads samples of what was got before and compares them.
func (p *patient) same(ctx context.Context, base *shelf.Disk) error {
	now, was := make([]byte, p.work.Physical), make([]byte, p.work.Physical)
	for sp := range p.sampled() {
		n, err := p.drive.Read(ctx, now, sp.Start)
		var bad *careful.Failed
		if err != nil && !errors.As(err, &bad) {
			return err
		}
		if err != nil || n < len(now) {
			continue
		}
		if err := disk.ReadFull(base, was, sp.Start); err != nil {
			return fmt.Errorf("what the sitting before got can't be read: %w", err)
		}
		if string(now) != string(was) {
			return fmt.Errorf("%w: byte %d differs; begin a new rescue of it (--anew)", ErrChanged, sp.Start)
		}
	}
	return nil
}

// sameAsGot compares a drive that was attached anew with what was got of it. Places that can't be read now say nothing.
func (p *patient) sameAsGot(ctx context.Context, dev disk.Device) error {
	if f, ok := dev.(interface{ SetPatience(time.Duration) }); ok {
		f.SetPatience(answersWithin)
		defer f.SetPatience(0)
	}
	now, was := disk.Aligned(int(p.work.Physical)), make([]byte, p.work.Physical)
	for sp := range p.sampled() {
		err := disk.ReadFull(disk.Until(ctx, dev), now, sp.Start)
		if ctx.Err() != nil || disk.Gone(err) {
			return err
		}
		if errors.Is(err, disk.ErrStalled) {
			return nil // it isn't tormented for more
		}
		if err != nil {
			continue
		}
		if err := p.canvas.read(ctx, was, sp.Start); err != nil {
			return fmt.Errorf("what was got can't be read: %w", err)
		}
		if string(now) != string(was) {
			return fmt.Errorf("%w: byte %d differs", ErrChanged, sp.Start)
		}
	}
	return nil
}

// answersWithin is how long a drive that came back may take for a sample; one that takes longer says nothing by it.
const answersWithin = 5 * time.Second

// surveyOf looks at a disk of a twin as the sitting that made it did.
func surveyOf(ctx context.Context, base *shelf.Disk, t *shelf.Twin, i int) (*survey.Survey, error) {
	if t.Disks[i].Table == nil {
		return survey.Divided(ctx, base)
	}
	return survey.Of(ctx, base, nil)
}
