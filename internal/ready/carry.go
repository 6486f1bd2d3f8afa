package ready

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

const (
	phaseKeep  = "Keep what is there"
	phaseFlush = "Flush"
	phaseRead  = "Read back"
)

// Phases are the names of the phases of carrying the plan out.
func (p *Plan) Phases() []string {
	out := []string{phaseKeep}
	for _, s := range p.Steps {
		out = append(out, s.Title)
	}
	return append(out, phaseFlush, phaseRead)
}

// Assumed rate for the estimate of many small writes, in bytes per second.
const scatteredRate = 60 * units.MB

// Estimate is how long it will probably take.
func (p *Plan) Estimate() time.Duration { return time.Second + p.Expected().Total() }

// Expected is how long each phase will probably take.
func (p *Plan) Expected() run.Expected {
	takes := func(n int64) time.Duration {
		return time.Duration(float64(n) / scatteredRate * float64(time.Second))
	}
	out := run.Expected{0}
	for _, s := range p.Steps {
		out = append(out, takes(s.Bytes()))
	}
	return append(out, 0, takes(p.Bytes()))
}

// Run carries the plan out: it keeps what will be overwritten, writes through
// the guard, the table last, and reads everything back. The keepsake is valid
// also when the run fails after keeping.
func (p *Plan) Run(rc *run.Context, guard *disk.Guard, keep Keepsakes) (*Keepsake, error) {
	w, err := guard.Open(p.Target)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	return p.onto(rc, w, keep)
}

// Before are the areas of the disk as they were when the plan was made.
func (p *Plan) Before() []survey.Area { return p.old }

// written is every byte that the plan writes.
func (p *Plan) written() span.Set {
	var set span.Set
	for _, q := range p.planned.Patches() {
		set.Add(q.Span())
	}
	return set
}

// essential is what a keepsake holds whatever the plan writes: both ends of the
// disk, and the heads and tails of all its parts.
func essential(size int64, old []survey.Area) span.Set {
	set := span.Of(span.At(0, min(edge, size)), span.Span{Start: size - min(edge, size), End: size})
	for _, a := range old {
		n := min(headLen, a.Span.Len())
		set.Add(span.At(a.Span.Start, n))
		set.Add(span.Span{Start: a.Span.End - n, End: a.Span.End})
	}
	return set
}

func (p *Plan) onto(rc *run.Context, w disk.Writable, keep Keepsakes) (*Keepsake, error) {
	if err := p.unchanged(w); err != nil {
		return nil, err
	}
	rc.Rails(0, w.Size())
	least := essential(w.Size(), p.old)
	k := Keepsake{Why: p.why}
	for i := range p.old {
		k.Held = append(k.Held, describeOld(&p.old[i]))
	}
	kept, err := keep.keep(rc, w, p.planned, p.written().Union(least), least, k)
	if err != nil {
		return nil, err
	}
	if kept.Incomplete != "" {
		rc.Note("what was on the disk can't be put back later: %s", kept.Incomplete)
	}
	for i, s := range p.Steps {
		rc.Phase(s.Title, s.Bytes())
		if err := s.write(rc, w); err != nil {
			return kept, p.stopped(i, err)
		}
	}
	rc.Phase(phaseFlush, 0)
	if err := settle(rc, w); err != nil {
		return kept, p.stopped(len(p.Steps), err)
	}
	if err := p.readBack(rc, w); err != nil {
		return kept, err
	}
	kept.Finished = true
	if err := kept.save(); err != nil {
		rc.Note("the keepsake couldn't be marked as finished: %v", err)
	}
	return kept, nil
}

// write carries a step out.
func (s Step) write(rc *run.Context, w disk.Writable) error {
	step := func(sp span.Span, written bool) error {
		rc.MarkWritten(sp, run.Finished)
		if !written {
			return rc.Skip(sp.Len())
		}
		return rc.Step(sp.Len())
	}
	if !s.Table {
		for _, q := range s.Patches {
			if err := q.Write(w, step); err != nil {
				return err
			}
		}
		return w.Sync()
	}
	for i := len(s.Patches) - 1; i >= 0; i-- {
		if err := s.Patches[i].Write(w, step); err != nil {
			return err
		}
		if err := w.Sync(); err != nil {
			return err
		}
	}
	return nil
}

// stopped says what is written and what isn't when step at failed.
func (p *Plan) stopped(at int, err error) error {
	var done, open []string
	for i, s := range p.Steps {
		if i < at {
			done = append(done, s.Title)
		} else {
			open = append(open, s.Title)
		}
	}
	words := "nothing was finished"
	if len(done) > 0 {
		words = "finished: " + strings.Join(done, "; ")
	}
	if len(open) > 0 {
		words += "; begun or not: " + strings.Join(open, "; ")
	}
	cause := "stopped"
	if !errors.Is(err, context.Canceled) {
		cause = "failed"
	}
	return fmt.Errorf("%s in the middle: %w. %s. Carry the plan out again, or put back what was there (its keepsake "+
		"was kept)", cause, err, words)
}

// settle flushes and has the kernel read the table again.
func settle(rc *run.Context, w disk.Writable) error {
	if err := w.Sync(); err != nil {
		return err
	}
	if f, ok := w.(*disk.WritableFile); ok {
		f.Forget()
		t, err := table.Read(f, f.Size(), f.SectorSize())
		if err == nil {
			err = f.Reread(t.Starts())
		}
		if err != nil {
			rc.Note("the kernel doesn't show the new parts (%v); take the disk out and put it in again to see "+
				"them", err)
		}
	}
	return nil
}

// readBack compares everything that was written with the plan.
func (p *Plan) readBack(rc *run.Context, w disk.Device) error {
	spans := p.written()
	rc.Phase(phaseRead, spans.Total())
	have, want := make([]byte, pieceLen), make([]byte, pieceLen)
	for _, sp := range order(spans, w.Size()) {
		h, n := have[:sp.Len()], want[:sp.Len()]
		if err := disk.ReadFull(w, h, sp.Start); err != nil {
			return fmt.Errorf("what was written can't be read back: %w", err)
		}
		if err := disk.ReadFull(p.planned, n, sp.Start); err != nil {
			return err
		}
		if i := differAt(h, n); i >= 0 {
			return fmt.Errorf("the disk reads back something else than was written, at byte %d; it can't be relied on",
				sp.Start+int64(i))
		}
		if err := rc.Step(sp.Len()); err != nil {
			return err
		}
	}
	return nil
}

// differAt is the first byte in which two equally long stretches differ, or -1.
func differAt(a, b []byte) int {
	if bytes.Equal(a, b) {
		return -1
	}
	for i := range a {
		if a[i] != b[i] {
			return i
		}
	}
	return -1
}
