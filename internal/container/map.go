package container

import (
	"cmp"
	"fmt"
	"iter"
	"slices"

	"twinshelf/internal/span"
)

// maxSegments bounds the segments of a device.
const maxSegments = 1 << 20

// Place is where something begins on a member.
type Place struct {
	Member int
	Off    int64 // bytes
}

// Segment is a stretch of a device that lies on members in turns of Stripe bytes, beginning with the first place; with
// one place it lies there as it is.
type Segment struct {
	Inner  span.Span // bytes of the device
	Stripe int64     // bytes; of no meaning with one place
	Places []Place
}

// Map says where the bytes of a device lie. It never changes.
type Map struct {
	segments []Segment // ascending, without gaps
}

// Run is a stretch of a device that lies in one piece.
type Run struct {
	Inner span.Span
	Place
}

// Outer is the run on its member.
func (r Run) Outer() span.Span { return span.At(r.Off, r.Inner.Len()) }

// NewMap takes segments that follow each other from byte 0 on, and whose stripes come out even.
func NewMap(segments []Segment) (*Map, error) {
	if len(segments) > maxSegments {
		return nil, fmt.Errorf("%d segments are more than the %d that are followed", len(segments), maxSegments)
	}
	m := &Map{slices.Clone(segments)}
	slices.SortFunc(m.segments, func(a, b Segment) int { return cmp.Compare(a.Inner.Start, b.Inner.Start) })
	at := int64(0)
	for _, s := range m.segments {
		n := int64(len(s.Places))
		switch {
		case s.Inner.Start != at || s.Inner.Empty():
			return nil, fmt.Errorf("what follows byte %d of the device begins at byte %d", at, s.Inner.Start)
		case n == 0:
			return nil, fmt.Errorf("%s of the device lie nowhere", s.Inner)
		case n > 1 && (s.Stripe <= 0 || s.Inner.Len()%(n*s.Stripe) != 0):
			return nil, fmt.Errorf("%s of the device don't come out even in %d stripes of %d bytes", s.Inner, n,
				s.Stripe)
		}
		at = s.Inner.End
	}
	return m, nil
}

// Size is that of the device, in bytes.
func (m *Map) Size() int64 {
	if len(m.segments) == 0 {
		return 0
	}
	return m.segments[len(m.segments)-1].Inner.End
}

// Segments are what the map is made of; the caller mustn't change them.
func (m *Map) Segments() []Segment { return m.segments }

// Equal says whether two maps lay a device over the same places.
func (m *Map) Equal(o *Map) bool {
	return slices.EqualFunc(m.segments, o.segments, func(a, b Segment) bool {
		return a.Inner == b.Inner && (len(a.Places) == 1 || a.Stripe == b.Stripe) && slices.Equal(a.Places, b.Places)
	})
}

// from is the index of the segment that holds byte at of the device.
func (m *Map) from(at int64) int {
	i, _ := slices.BinarySearchFunc(m.segments, at, func(s Segment, at int64) int {
		return cmp.Compare(s.Inner.End-1, at)
	})
	return i
}

// Runs yields where a stretch of the device lies, in the device's order.
func (m *Map) Runs(sp span.Span) iter.Seq[Run] {
	return func(yield func(Run) bool) {
		for i := m.from(sp.Start); i < len(m.segments); i++ {
			s := &m.segments[i]
			hit := s.Inner.Intersect(sp)
			if hit.Empty() {
				return
			}
			for at := hit.Start; at < hit.End; {
				r := s.run(at, hit.End)
				if !yield(r) {
					return
				}
				at = r.Inner.End
			}
		}
	}
}

// run is the longest run from byte at of the device on, and before end.
func (s *Segment) run(at, end int64) Run {
	off := at - s.Inner.Start
	if len(s.Places) == 1 {
		p := s.Places[0]
		p.Off += off
		return Run{span.Span{Start: at, End: end}, p}
	}
	n, chunk := int64(len(s.Places)), off/s.Stripe
	p := s.Places[chunk%n]
	p.Off += chunk/n*s.Stripe + off%s.Stripe
	return Run{span.Span{Start: at, End: min(end, at+s.Stripe-off%s.Stripe)}, p}
}

// On adds to out where stretches of the device lie on a member.
func (m *Map) On(member int, sp span.Span, out *span.Set) {
	for i := m.from(sp.Start); i < len(m.segments); i++ {
		s := &m.segments[i]
		hit := s.Inner.Intersect(sp)
		if hit.Empty() {
			return
		}
		for k, p := range s.Places {
			if p.Member == member {
				out.Add(s.on(k, hit))
			}
		}
	}
}

// on is where a stretch lies on the place number k: its stripes there follow each other.
func (s *Segment) on(k int, hit span.Span) span.Span {
	off := hit.Shift(-s.Inner.Start)
	p := s.Places[k]
	if len(s.Places) == 1 {
		return off.Shift(p.Off)
	}
	return span.Span{Start: s.onBefore(k, off.Start), End: s.onBefore(k, off.End)}.Shift(p.Off)
}

// onBefore is how many of the first n bytes of the segment lie on the place number k.
func (s *Segment) onBefore(k int, n int64) int64 {
	round := s.Stripe * int64(len(s.Places))
	return n/round*s.Stripe + min(s.Stripe, max(0, n%round-int64(k)*s.Stripe))
}

// Inner yields what of the device lies in a stretch of a member, in no order.
func (m *Map) Inner(member int, outer span.Span) iter.Seq[span.Span] {
	return func(yield func(span.Span) bool) {
		for i := range m.segments {
			s := &m.segments[i]
			for k, p := range s.Places {
				hit := span.At(p.Off, s.Inner.Len()/int64(len(s.Places))).Intersect(outer).Shift(-p.Off)
				if p.Member == member && !hit.Empty() && !s.inner(k, hit, yield) {
					return
				}
			}
		}
	}
}

// inner yields what of the device lies in a stretch of the place number k, counted from its start.
func (s *Segment) inner(k int, hit span.Span, yield func(span.Span) bool) bool {
	n := int64(len(s.Places))
	if n == 1 {
		return yield(hit.Shift(s.Inner.Start))
	}
	for at := hit.Start; at < hit.End; {
		end := min(hit.End, (at/s.Stripe+1)*s.Stripe)
		start := s.Inner.Start + (at/s.Stripe*n+int64(k))*s.Stripe + at%s.Stripe
		if !yield(span.At(start, end-at)) {
			return false
		}
		at = end
	}
	return true
}
