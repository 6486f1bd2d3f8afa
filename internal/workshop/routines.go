package workshop

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"time"

	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
	"twinshelf/internal/machine"
	"twinshelf/internal/routine"
)

// Routines is the book of saved work.
func (w *room) Routines() *routine.Book {
	return routine.NewBook(filepath.Join(w.State.Folder(), "routines"))
}

// RoutineStates say how it stands with all routines at a moment, by name; problems are of those that can't be read. It
// looks what is attached, and keeps since when.
func (w *room) RoutineStates(now time.Time) (list []*routine.Standing, problems []error) {
	b := w.Routines()
	since, err := w.attachedSince(now)
	if err != nil {
		problems = append(problems, err)
	}
	names, err := b.Names()
	if err != nil {
		return nil, append(problems, fmt.Errorf("the routines can't be listed: %w", err))
	}
	world := routine.World{Now: now, Battery: onBattery(), Busy: !b.Idle(), Since: since}
	for _, name := range names {
		r, err := b.Find(name)
		var s *routine.Standing
		if err == nil {
			s, err = b.Standing(r, world)
		}
		if err != nil {
			problems = append(problems, fmt.Errorf("%s: %w", name, err))
			continue
		}
		list = append(list, s)
	}
	return list, problems
}

// RoutineState says how it stands with one.
func (w *room) RoutineState(r *routine.Routine, now time.Time) (*routine.Standing, error) {
	since, err := w.attachedSince(now)
	if err != nil {
		return nil, err
	}
	return w.Routines().Standing(r, routine.World{Now: now, Battery: onBattery(),
		Busy: !w.Routines().Idle(), Since: since})
}

func onBattery() bool {
	p := machine.Look("/").Power
	return p.Told && p.Battery && !p.Mains
}

// attachedSince is since when the disks on the bench are there, by their serial numbers; what is new of that is kept.
func (w *room) attachedSince(now time.Time) (map[string]time.Time, error) {
	b := w.Routines()
	was := b.Since()
	since := map[string]time.Time{}
	for _, d := range w.Bench.List() {
		if serial := d.Identity.Serial; serial != "" {
			since[serial] = now
			if t, known := was[serial]; known {
				since[serial] = t
			}
		}
	}
	if maps.EqualFunc(was, since, time.Time.Equal) {
		return since, nil
	}
	return since, b.KeepSince(since)
}

// RoutineDoubts are the questions that a capture by a routine would raise now, by what the open shelf knows of its
// disks.
func (w *room) RoutineDoubts(ctx context.Context, r *routine.Routine) (out []string) {
	s := w.shelf()
	if s == nil || !captures(r) {
		return nil
	}
	var ids []disk.Identity
	for _, d := range w.Bench.List() {
		if slices.Contains(r.Disks, routine.DiskOf(d.Identity)) {
			ids = append(ids, d.Identity)
		}
	}
	for _, d := range capture.DoubtsOf(ctx, s, r.Machine, ids) {
		out = append(out, d.Says)
	}
	return out
}

func captures(r *routine.Routine) bool {
	return slices.ContainsFunc(r.Steps, func(s routine.Step) bool { return s.Action == routine.Capture })
}
