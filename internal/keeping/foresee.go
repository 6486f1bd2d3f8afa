package keeping

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/units"
)

// Growth is how a machine's part of the shelf grows.
type Growth struct {
	Machine string  `json:"machine"`
	Twins   int     `json:"twin_count"`
	Stored  int64   `json:"stored"`   // bytes that its twins brought
	PerWeek float64 `json:"per_week"` // bytes
}

// Foresight is how full a shelf is and when it will be full.
type Foresight struct {
	Stored   int64      `json:"stored"` // bytes
	Free     store.Room `json:"free"`   // bytes
	PerWeek  float64    `json:"per_week"`
	Machines []Growth   `json:"machines"` // the fastest first
	Full     time.Time  `json:"full"`     // at this pace; zero when it doesn't grow
}

// leastSpan is over how long growth is measured at least: two dates of one afternoon are no pace.
const leastSpan = 7 * 24 * time.Hour

// Foresee works out the pace of growth from the dates and what each brought. The first twin of a
// machine is no growth: it had to come once.
func Foresee(twins []*shelf.Twin, stored int64, free store.Room, now time.Time) Foresight {
	f := Foresight{Stored: stored, Free: free}
	byMachine := map[string][]*shelf.Twin{}
	for _, t := range twins {
		byMachine[t.Machine] = append(byMachine[t.Machine], t)
	}
	for m, mine := range byMachine {
		slices.SortFunc(mine, func(a, b *shelf.Twin) int { return a.Taken.Compare(b.Taken) })
		g := Growth{Machine: m, Twins: len(mine), Stored: mine[0].Added}
		later := int64(0)
		for _, t := range mine[1:] {
			later += t.Added
		}
		g.Stored += later
		if took := max(leastSpan, mine[len(mine)-1].Taken.Sub(mine[0].Taken)); len(mine) > 1 {
			g.PerWeek = float64(later) / (took.Hours() / (7 * 24))
		}
		f.PerWeek += g.PerWeek
		f.Machines = append(f.Machines, g)
	}
	slices.SortFunc(f.Machines, func(a, b Growth) int {
		return cmp.Or(cmp.Compare(b.PerWeek, a.PerWeek), cmp.Compare(a.Machine, b.Machine))
	})
	if f.PerWeek > 0 && free.Known() {
		weeks := float64(free) / f.PerWeek
		if weeks < 52*200 {
			f.Full = now.Add(time.Duration(weeks * 7 * 24 * float64(time.Hour)))
		}
	}
	return f
}

// Words says it in a sentence.
func (f Foresight) Words() string {
	s := fmt.Sprintf("%s stored, %s", units.Bytes(f.Stored), f.Free.Words())
	switch {
	case f.PerWeek == 0:
		return s + "; no pace can be told yet"
	case !f.Free.Known():
		return fmt.Sprintf("%s; grows by %s a week", s, units.Bytes(int64(f.PerWeek)))
	case f.Full.IsZero():
		return fmt.Sprintf("%s; grows by %s a week, not full for generations", s, units.Bytes(int64(f.PerWeek)))
	}
	return fmt.Sprintf("%s; grows by %s a week, full about %s at this pace", s, units.Bytes(int64(f.PerWeek)),
		f.Full.Format("January 2006"))
}

// Grown is what all twins brought up to each of n moments, evenly spaced from the first date to the last, in bytes.
func Grown(twins []*shelf.Twin, n int) (from, to time.Time, stored []int64) {
	stored = make([]int64, n)
	if len(twins) == 0 || n == 0 {
		return from, to, stored
	}
	from, to = twins[0].Taken, twins[0].Taken
	for _, t := range twins {
		if t.Taken.Before(from) {
			from = t.Taken
		}
		if t.Taken.After(to) {
			to = t.Taken
		}
	}
	for _, t := range twins {
		at := n - 1
		if whole := to.Sub(from); whole > 0 {
			at = int(float64(t.Taken.Sub(from)) / float64(whole) * float64(n-1))
		}
		stored[at] += t.Added
	}
	for i := 1; i < n; i++ {
		stored[i] += stored[i-1]
	}
	return from, to, stored
}
