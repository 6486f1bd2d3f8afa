package rescue

import (
	"context"
	"errors"
	"fmt"

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

// same reads samples of what was got before and compares them.
func (p *patient) same(ctx context.Context, base *shelf.Disk) error {
	size := p.Device.Size()
	now, was := make([]byte, p.work.Physical), make([]byte, p.work.Physical)
	for i := range int64(samples) {
		at := (size/samples*i + size/samples/3) / p.work.Physical * p.work.Physical
		for r := range p.states.Runs(span.Span{Start: at, End: min(size, at+size/samples)}) {
			sp := span.At((r.Start+p.work.Physical-1)/p.work.Physical*p.work.Physical, p.work.Physical)
			if r.State != careful.Got || !r.Covers(sp) {
				continue
			}
			n, err := p.drive.Read(ctx, now, sp.Start)
			var bad *careful.Failed
			if err != nil && !errors.As(err, &bad) {
				return err
			}
			if err == nil && n == len(now) {
				if err := disk.ReadFull(base, was, sp.Start); err != nil {
					return fmt.Errorf("what the sitting before got can't be read: %w", err)
				}
				if string(now) != string(was) {
					return fmt.Errorf("%w: byte %d differs; begin a new rescue of it (--anew)", ErrChanged, sp.Start)
				}
			}
			break
		}
	}
	return nil
}

// surveyOf looks at a disk of a twin as the sitting that made it did.
func surveyOf(ctx context.Context, base *shelf.Disk, t *shelf.Twin, i int) (*survey.Survey, error) {
	if t.Disks[i].Table == nil {
		return survey.Divided(ctx, base)
	}
	return survey.Of(ctx, base, nil)
}
