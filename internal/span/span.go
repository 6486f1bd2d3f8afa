// Package span holds sets of half-open byte ranges [Start, End).
//
// Used areas, planned areas, unreadable areas and finished areas of a device
// are all span sets. Offsets and lengths are int64 bytes throughout.
package span

import (
	"cmp"
	"encoding/json"
	"fmt"
	"iter"
	"slices"
	"sort"
)

// Span is the half-open byte range [Start, End).
type Span struct{ Start, End int64 }

// At returns the span of n bytes that begins at off.
func At(off, n int64) Span { return Span{off, off + n} }

// Len is the length in bytes; zero for an empty or reversed span.
func (s Span) Len() int64 { return max(0, s.End-s.Start) }

// Empty says whether the span holds no byte.
func (s Span) Empty() bool { return s.End <= s.Start }

// Intersect returns the common part of both spans; empty when there is none.
func (s Span) Intersect(o Span) Span {
	r := Span{max(s.Start, o.Start), min(s.End, o.End)}
	if r.Empty() {
		return Span{}
	}
	return r
}

// Overlaps says whether both spans share a byte.
func (s Span) Overlaps(o Span) bool { return max(s.Start, o.Start) < min(s.End, o.End) }

// Covers says whether o lies wholly within s.
func (s Span) Covers(o Span) bool { return o.Empty() || s.Start <= o.Start && o.End <= s.End }

// Shift moves the span by d bytes.
func (s Span) Shift(d int64) Span { return Span{s.Start + d, s.End + d} }

// String gives the span as "[start, end)" in bytes.
func (s Span) String() string { return fmt.Sprintf("[%d, %d)", s.Start, s.End) }

// Set is an ordered set of disjoint spans that don't touch each other.
// The zero value is the empty set. A Set is a value: operations return new sets,
// only Add changes its receiver.
type Set struct {
	spans []Span
	// owner is the set that spans belong to: a copy of it takes its own before it changes them.
	owner *Set
}

// Of returns the set of the bytes in the given spans, in any order; n spans cost
// O(n log n) whatever their order.
func Of(spans ...Span) Set {
	spans = slices.Clone(spans)
	slices.SortFunc(spans, func(a, b Span) int { return cmp.Compare(a.Start, b.Start) })
	var s Set
	for _, sp := range spans {
		s.Add(sp)
	}
	return s
}

// Add puts the bytes of sp into the set. Adding in ascending order is O(1).
func (s *Set) Add(sp Span) {
	if sp.Empty() {
		return
	}
	if s.owner != s {
		s.spans, s.owner = slices.Clone(s.spans), s
	}
	n := len(s.spans)
	if n == 0 || sp.Start > s.spans[n-1].End {
		s.spans = append(s.spans, sp)
		return
	}
	// The first span that ends at or after sp's start, and the first that begins past its end.
	i := sort.Search(n, func(i int) bool { return s.spans[i].End >= sp.Start })
	j := i + sort.Search(n-i, func(k int) bool { return s.spans[i+k].Start > sp.End })
	if i < j {
		sp.Start = min(sp.Start, s.spans[i].Start)
		sp.End = max(sp.End, s.spans[j-1].End)
	}
	s.spans = slices.Replace(s.spans, i, j, sp)
}

// All yields the spans in ascending order.
func (s Set) All() iter.Seq[Span] { return slices.Values(s.spans) }

// Count is the number of separate spans.
func (s Set) Count() int { return len(s.spans) }

// Empty says whether the set holds no byte.
func (s Set) Empty() bool { return len(s.spans) == 0 }

// Total is the number of bytes in the set.
func (s Set) Total() int64 {
	var n int64
	for _, sp := range s.spans {
		n += sp.Len()
	}
	return n
}

// Bounds is the smallest span that covers the set.
func (s Set) Bounds() Span {
	if len(s.spans) == 0 {
		return Span{}
	}
	return Span{s.spans[0].Start, s.spans[len(s.spans)-1].End}
}

// Covers says whether every byte of sp is in the set.
func (s Set) Covers(sp Span) bool {
	if sp.Empty() {
		return true
	}
	i := s.from(sp.Start)
	return i < len(s.spans) && s.spans[i].Covers(sp)
}

// Overlaps says whether any byte of sp is in the set.
func (s Set) Overlaps(sp Span) bool {
	i := s.from(sp.Start)
	return !sp.Empty() && i < len(s.spans) && s.spans[i].Start < sp.End
}

// from is the index of the first span that ends after off.
func (s Set) from(off int64) int {
	return sort.Search(len(s.spans), func(i int) bool { return s.spans[i].End > off })
}

// Clip returns the bytes of the set that lie within sp.
func (s Set) Clip(sp Span) Set {
	var r Set
	for i := s.from(sp.Start); i < len(s.spans) && s.spans[i].Start < sp.End; i++ {
		r.Add(s.spans[i].Intersect(sp))
	}
	return r
}

// Union returns the bytes that are in either set.
func (s Set) Union(o Set) Set {
	r := Set{spans: make([]Span, 0, len(s.spans)+len(o.spans))}
	a, b := s.spans, o.spans
	for len(a) > 0 || len(b) > 0 {
		if len(b) == 0 || len(a) > 0 && a[0].Start <= b[0].Start {
			r.Add(a[0])
			a = a[1:]
		} else {
			r.Add(b[0])
			b = b[1:]
		}
	}
	return r
}

// Intersect returns the bytes that are in both sets.
func (s Set) Intersect(o Set) Set {
	var r Set
	a, b := s.spans, o.spans
	for len(a) > 0 && len(b) > 0 {
		r.Add(a[0].Intersect(b[0]))
		if a[0].End < b[0].End {
			a = a[1:]
		} else {
			b = b[1:]
		}
	}
	return r
}

// Subtract returns the bytes of s that are not in o.
func (s Set) Subtract(o Set) Set {
	var r Set
	b := o.spans
	for _, sp := range s.spans {
		for len(b) > 0 && b[0].End <= sp.Start {
			b = b[1:]
		}
		for _, cut := range b {
			if cut.Start >= sp.End {
				break
			}
			r.Add(Span{sp.Start, cut.Start})
			sp.Start = max(sp.Start, cut.End)
		}
		r.Add(sp)
	}
	return r
}

// Complement returns the bytes of within that are not in s.
func (s Set) Complement(within Span) Set { return Of(within).Subtract(s) }

// Shift returns the set moved by d bytes.
func (s Set) Shift(d int64) Set {
	r := Set{spans: slices.Clone(s.spans)}
	for i := range r.spans {
		r.spans[i] = r.spans[i].Shift(d)
	}
	return r
}

// Equal says whether both sets hold the same bytes.
func (s Set) Equal(o Set) bool { return slices.Equal(s.spans, o.spans) }

// MarshalJSON writes the set as [[start, end], …].
func (s Set) MarshalJSON() ([]byte, error) {
	pairs := make([][2]int64, len(s.spans))
	for i, sp := range s.spans {
		pairs[i] = [2]int64{sp.Start, sp.End}
	}
	return json.Marshal(pairs)
}

// UnmarshalJSON reads [[start, end], …] in any order.
func (s *Set) UnmarshalJSON(b []byte) error {
	var pairs [][2]int64
	if err := json.Unmarshal(b, &pairs); err != nil {
		return err
	}
	*s = Set{}
	for _, p := range pairs {
		if p[0] < 0 || p[1] < p[0] {
			return fmt.Errorf("span [%d, %d) is not a byte range", p[0], p[1])
		}
		s.Add(Span{p[0], p[1]})
	}
	return nil
}
