package workshop

import (
	"context"
	"errors"
	"slices"
	"time"

	"twinshelf/internal/keeping"
	"twinshelf/internal/routine"
)

const (
	// counted is over how long the runs ahead are counted, lately over how many twins what each brings is taken.
	counted = 4 * 7 * 24 * time.Hour
	lately  = 10
	// mostCounted bounds the runs that are counted: one a minute is more than any routine has.
	mostCounted = int(counted / time.Minute)
)

// ErrNoOutlook means that a routine brings nothing onto the open shelf.
var ErrNoOutlook = errors.New("it brings nothing onto the shelf that is open")

// RoutineRoom says how the open shelf fills by a routine, with what its rule drops.
func (w *room) RoutineRoom(ctx context.Context, r *routine.Routine, now time.Time) (o keeping.Outlook, err error) {
	s := w.shelf()
	if !captures(r) || !slices.ContainsFunc(r.Shelves, func(name string) bool { return answersTo(s, name) }) {
		return o, ErrNoOutlook
	}
	twins, problems := s.Twins(ctx)
	if len(problems) > 0 {
		return o, errors.Join(problems...)
	}
	free, err := s.Free(ctx)
	if err != nil {
		return o, err
	}
	rules, err := keeping.ReadRules(ctx, s)
	if err != nil {
		return o, err
	}
	rule := rules.For(r.Machine)
	thins := slices.ContainsFunc(r.Steps, func(x routine.Step) bool { return x.Action == routine.Thin })
	switch {
	case thins && len(r.Keep.Generations) > 0:
		rule = r.Keep
	case !thins && !rule.Auto:
		rule = keeping.Rule{}
	}
	return keeping.LookAhead(free, keeping.Brings(twins, r.Machine, lately), perWeek(r, now), rule, now), nil
}

// perWeek is how often a routine runs in a week; 0 where no clock says.
func perWeek(r *routine.Routine, now time.Time) float64 {
	n := 0
	for at := now; n < mostCounted; n++ {
		next := r.Ahead(at, 1)
		if len(next) == 0 || next[0].After(now.Add(counted)) {
			break
		}
		at = next[0]
	}
	if n > 0 {
		return float64(n) / (float64(counted) / float64(7*24*time.Hour))
	}
	for _, x := range r.When {
		if x.Kind == routine.Older && x.For > 0 {
			return float64(7*24*time.Hour) / float64(x.For)
		}
	}
	return 0
}
