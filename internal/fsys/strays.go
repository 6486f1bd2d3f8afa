package fsys

import (
	"cmp"
	"math"
	"slices"

	"twinshelf/internal/span"
)

// Stray is a stretch in use that has to move, in the unit of the free stretches.
type Stray struct {
	span.Span
	Own bool // of the volume's own files
}

// Place gives strays, of which those of long units and more are long, a place each: first the volume's own and the
// long ones, longest first, which shall stay in few pieces; then the rest as it lies, so that it is read and written in
// its order. put gets the pieces: n units at from go to to. Errors are put's, and a *Cant where too little is free.
func (f *FreeRuns) Place(strays []Stray, long int64, put func(from, to, n int64) error) error {
	weight := func(s Stray) int64 {
		switch {
		case s.Own:
			return math.MaxInt64
		case s.Len() >= long:
			return s.Len()
		}
		return 0
	}
	slices.SortStableFunc(strays, func(a, b Stray) int {
		return cmp.Or(cmp.Compare(weight(b), weight(a)), cmp.Compare(a.Start, b.Start))
	})
	for _, s := range strays {
		take := f.Take
		if weight(s) == 0 {
			take = f.TakeNext
		}
		runs, err := take(s.Len())
		if err != nil {
			return &Cant{Why: err.Error()}
		}
		from := s.Start
		for _, r := range runs {
			if err := put(from, r.Start, r.Len()); err != nil {
				return err
			}
			from += r.Len()
		}
	}
	return nil
}
