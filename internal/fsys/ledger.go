package fsys

import (
	"context"
	"fmt"
	"iter"
	"math/bits"

	"twinshelf/internal/span"
)

// Accountable is a Volume whose structures and records account for its space without its allocation maps: those may
// lie, and a file that they call free is lost to whoever believes them.
type Accountable interface {
	Volume
	// Grid is how the volume's space is handed out.
	Grid() Grid
	// Account enters in l everything that structures, records, folders and attributes name. An error means that they
	// can't be followed, or that they contradict each other: then nobody knows all that is named.
	Account(ctx context.Context, l *Ledger) error
}

// Grid is space that is handed out in units: Count of them, of Unit bytes each, the first at byte Start of the volume.
// What lies outside of it always counts as used.
type Grid struct{ Start, Unit, Count int64 }

// Owner is what names a place: "inode 12", "the file record 40".
type Owner struct {
	Kind   string
	Number int64
}

func (o Owner) String() string { return fmt.Sprintf("%s %d", o.Kind, o.Number) }

const (
	// ledgerWindow is how many units are looked at in one go, so that each set of a ledger takes 128 MiB at the most,
	// and less where nothing is named; larger volumes are gone through more than once.
	ledgerWindow = 1 << 30
	ledgerPage   = 1 << 12 // words
	pageUnits    = ledgerPage * 64
)

// Ledger notes which units of a volume are named, and finds those that are named twice.
type Ledger struct {
	grid   Grid
	window span.Span // units
	own    unitSet   // named once, by one owner
	shared unitSet   // named by owners that may share them
	owned  int64     // units entered by Own, in all windows
	// seek is a unit whose owner is looked for; -1 for none.
	seek   int64
	seeker Owner
}

func newLedger(g Grid, window span.Span) *Ledger {
	n := (window.Len() + pageUnits - 1) / pageUnits
	return &Ledger{grid: g, window: window, own: make(unitSet, n), shared: make(unitSet, n), seek: -1}
}

// Own enters a stretch of bytes of the volume that o alone may name.
func (l *Ledger) Own(sp span.Span, o Owner) error {
	units, err := l.units(sp, o)
	if err != nil {
		return err
	}
	if l.owned += units.Len(); l.owned > l.grid.Count {
		return Contradiction(sp.Start, "with %s more space is named than the volume has", o)
	}
	here := units.Intersect(l.window).Shift(-l.window.Start)
	if here.Empty() {
		return nil
	}
	for _, set := range []unitSet{l.own, l.shared} {
		if u, taken := set.first(here); taken {
			return Contradiction(l.byteOf(u+l.window.Start), "%s names a place that something else names too", o)
		}
	}
	l.own.add(here)
	return nil
}

// Share enters a stretch that others like o may name as well.
func (l *Ledger) Share(sp span.Span, o Owner) error {
	units, err := l.units(sp, o)
	here := units.Intersect(l.window).Shift(-l.window.Start)
	if err != nil || here.Empty() {
		return err
	}
	if u, taken := l.own.first(here); taken {
		return Contradiction(l.byteOf(u+l.window.Start), "%s names a place that something else names too", o)
	}
	l.shared.add(here)
	return nil
}

// Need enters a stretch that must be kept whoever else has named it before.
func (l *Ledger) Need(sp span.Span, o Owner) error {
	units, err := l.units(sp, o)
	if here := units.Intersect(l.window).Shift(-l.window.Start); err == nil && !here.Empty() {
		l.own.add(here)
	}
	return err
}

// units is the units that a stretch touches. What lies before the grid is nobody's.
func (l *Ledger) units(sp span.Span, o Owner) (span.Span, error) {
	g := l.grid
	sp.Start = max(sp.Start, g.Start)
	if sp.Empty() {
		return span.Span{}, nil
	}
	u := span.Span{Start: (sp.Start - g.Start) / g.Unit, End: (sp.End - g.Start + g.Unit - 1) / g.Unit}
	if u.End > g.Count {
		return span.Span{}, Contradiction(sp.Start, "what %s names reaches beyond the end of the volume", o)
	}
	if l.seek >= 0 && u.Start <= l.seek && l.seek < u.End && l.seeker.Kind == "" {
		l.seeker = o
	}
	return u, nil
}

func (l *Ledger) byteOf(unit int64) int64 { return l.grid.Start + unit*l.grid.Unit }

// missing is the first named unit of a stretch of bytes that isn't kept.
func (l *Ledger) missing(gap span.Span) (int64, bool) {
	g := l.grid
	gap = gap.Intersect(span.At(g.Start, g.Count*g.Unit))
	if gap.Empty() {
		return 0, false
	}
	u := span.Span{Start: (gap.Start - g.Start) / g.Unit, End: (gap.End - g.Start + g.Unit - 1) / g.Unit}
	here := u.Intersect(l.window).Shift(-l.window.Start)
	if here.Empty() {
		return 0, false
	}
	for _, set := range []unitSet{l.own, l.shared} {
		if n, named := set.first(here); named {
			return n + l.window.Start, true
		}
	}
	return 0, false
}

// namedUntil is the first unit after u that isn't named, or the end of the window.
func (l *Ledger) namedUntil(u int64) int64 {
	here := u - l.window.Start
	for {
		last := here
		for _, set := range []unitSet{l.own, l.shared} {
			here = set.until(here, l.window.Len())
		}
		if here == last || here >= l.window.Len() {
			return here + l.window.Start
		}
	}
}

// NotKept is a place that a volume's records name and that its maps, or whoever kept it, left out.
type NotKept struct {
	At    int64 // byte of the volume
	Owner Owner
}

func (e *NotKept) Error() string {
	return fmt.Sprintf("at byte %d: %s names a place that the volume's own map calls free", e.At, e.Owner)
}

// CheckKept compares what the structures and records of a volume name with the stretches that are kept, ascending and
// relative to the volume. The error is a NotKept where one of them is missing, and another where records can't be
// followed.
func CheckKept(ctx context.Context, v Accountable, kept iter.Seq2[span.Span, error]) error {
	account := func(l *Ledger) error { return v.Account(ctx, l) }
	return eachGap(v.Grid(), account, kept, func(l *Ledger, gap span.Span) error {
		if u, named := l.missing(gap); named {
			return &NotKept{l.byteOf(u), ownerOf(ctx, v, u)}
		}
		return nil
	})
}

// Beyond collects what is named beside the stretches that are kept, ascending and relative to the volume. name enters
// what is named; it is called for one window of the volume after the other. Most stretches at the most are collected.
func Beyond(g Grid, name func(*Ledger) error, kept iter.Seq2[span.Span, error], most int) (span.Set, error) {
	var out []span.Span
	err := eachGap(g, name, kept, func(l *Ledger, gap span.Span) error {
		for {
			u, named := l.missing(gap)
			if !named {
				return nil
			}
			end := l.namedUntil(u)
			sp := span.Span{Start: max(gap.Start, l.byteOf(u)), End: min(gap.End, l.byteOf(end))}
			if n := len(out); n > 0 && out[n-1].End == sp.Start {
				out[n-1].End = sp.End
			} else if out = append(out, sp); len(out) > most {
				return Contradiction(sp.Start,
					"records name more than %d stretches that the volume's map calls free", most)
			}
			if gap.Start = sp.End; gap.Empty() {
				return nil
			}
		}
	})
	return span.Of(out...), err
}

// eachGap has everything named that is, window by window, and gives the stretches that aren't kept.
func eachGap(g Grid, name func(*Ledger) error, kept iter.Seq2[span.Span, error],
	do func(*Ledger, span.Span) error) error {
	next, stop := iter.Pull2(kept)
	defer stop()
	at := int64(0) // everything before is compared
	end := g.Start + g.Count*g.Unit
	cur, err, more := next()
	for first := int64(0); first < g.Count; first += ledgerWindow {
		window := span.Span{Start: first, End: min(first+ledgerWindow, g.Count)}
		l := newLedger(g, window)
		if err := name(l); err != nil {
			return err
		}
		until := min(end, l.byteOf(window.End))
		for at < until {
			if more && err != nil {
				return err
			}
			gap := span.Span{Start: at, End: until}
			if more {
				gap.End = min(until, cur.Start)
			}
			if !gap.Empty() {
				if err := do(l, gap); err != nil {
					return err
				}
			}
			if !more || cur.Start >= until {
				break
			}
			if at = cur.End; at <= until {
				cur, err, more = next()
			}
		}
		at = max(at, until)
	}
	for more && err == nil { // the rest of what is kept must be readable too
		_, err, more = next()
	}
	if more {
		return err
	}
	return nil
}

// ownerOf goes through the records once more to tell who names a unit.
func ownerOf(ctx context.Context, v Accountable, unit int64) Owner {
	l := newLedger(v.Grid(), span.At(unit, 1))
	l.seek = unit
	if err := v.Account(ctx, l); err != nil || l.seeker.Kind == "" {
		return Owner{"something at byte", l.byteOf(unit)}
	}
	return l.seeker
}

// unitSet is a set of units of a window, in pages that are made when they are needed.
type unitSet []*[ledgerPage]uint64

// words calls do with the words that sp touches and the bits of them that are in it, until it says false.
func (s unitSet) words(sp span.Span, page func(i int64) *[ledgerPage]uint64,
	do func(w *uint64, mask uint64, unit int64) bool) {
	for u := sp.Start; u < sp.End; {
		p := page(u / pageUnits)
		if p == nil {
			u = (u/pageUnits + 1) * pageUnits
			continue
		}
		n := min(64-u%64, sp.End-u)
		if !do(&p[u%pageUnits/64], mask(int(n))<<(u%64), u) {
			return
		}
		u += n
	}
}

func (s unitSet) add(sp span.Span) {
	s.words(sp, func(i int64) *[ledgerPage]uint64 {
		if s[i] == nil {
			s[i] = new([ledgerPage]uint64)
		}
		return s[i]
	}, func(w *uint64, mask uint64, _ int64) bool {
		*w |= mask
		return true
	})
}

// first is the first unit of sp that is in the set.
func (s unitSet) first(sp span.Span) (unit int64, found bool) {
	s.words(sp, func(i int64) *[ledgerPage]uint64 { return s[i] }, func(w *uint64, mask uint64, u int64) bool {
		if hit := *w & mask; hit != 0 {
			unit, found = u/64*64+int64(bits.TrailingZeros64(hit)), true
		}
		return !found
	})
	return unit, found
}

// until is the first unit from u on, below end, that isn't in the set.
func (s unitSet) until(u, end int64) int64 {
	for u < end {
		p := s[u/pageUnits]
		if p == nil {
			return u
		}
		free := ^p[u%pageUnits/64] >> (u % 64)
		if n := min(int64(bits.TrailingZeros64(free)), 64-u%64); n < 64-u%64 {
			return min(u+n, end)
		}
		u = (u/64 + 1) * 64
	}
	return end
}
