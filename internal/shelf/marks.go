package shelf

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"sort"

	"twinshelf/internal/disk"
)

// marking notes which blocks of the index some twins need: a bit for each entry. Names are looked up in
// large sorted batches, so that the index is read in order and memory stays flat.
type marking struct {
	s        *Shelf
	segments []*segment
	bits     [][]uint64
	soft     [][]uint64 // those of them that only listings need
	pending  []Name
	derived  []Name // of listings
	lenient  bool   // whether names that no entry answers to are passed over
	// Missing are names that no entry answers to; only the first few are kept.
	missing map[Name]bool
	lost    int
	doubled map[Name]bool // names that stand in several places; only the first of them are kept
	// stored is the room that newly marked blocks take, in bytes.
	stored int64
}

const (
	markBatch   = 1 << 18
	keptMissing = 1 << 16
)

// marking starts with nothing marked. The index must not change meanwhile.
func (s *Shelf) marking() *marking {
	s.mu.RLock()
	defer s.mu.RUnlock()
	m := &marking{s: s, segments: slices.Clone(s.segments), missing: map[Name]bool{}, doubled: map[Name]bool{}}
	for _, seg := range m.segments {
		m.bits = append(m.bits, make([]uint64, (seg.count+63)/64))
		m.soft = append(m.soft, make([]uint64, (seg.count+63)/64))
	}
	return m
}

// set marks names, which it sorts, and gives those that weren't marked before.
func (m *marking) set(names []Name) (fresh []Name, err error) {
	slices.SortFunc(names, func(a, b Name) int { return bytes.Compare(a[:], b[:]) })
	names = slices.Compact(names)
	for len(names) > 0 {
		b := bucketOf(names[0])
		n := sort.Search(len(names), func(i int) bool { return bucketOf(names[i]) > b })
		f, err := m.setBucket(b, names[:n])
		if err != nil {
			return nil, err
		}
		fresh = append(fresh, f...)
		names = names[n:]
	}
	return fresh, nil
}

// setBucket marks every place of each name: which of several reads right isn't known yet.
func (m *marking) setBucket(b int, names []Name) (fresh []Name, err error) {
	seen := make([]int, len(names)) // places of each name
	for i := len(m.segments) - 1; i >= 0; i-- {
		seg := m.segments[i]
		p, err := seg.bucket(b)
		if err != nil {
			return nil, err
		}
		first := seg.first(b)
		for j, n := range names {
			from, to := namedIn(p, n)
			for k := from; k < to; k++ {
				r := seg.record(p[k*indexEntry:])
				if seg.gone[r.pack] {
					continue
				}
				if m.mark(i, first+k, r, seen[j] == 0) {
					fresh = append(fresh, n)
				}
				seen[j]++
			}
		}
	}
	for j, n := range names {
		if seen[j] > 1 && len(m.doubled) < keptMissing {
			m.doubled[n] = true
		}
		if seen[j] == 0 && !m.lenient {
			m.lost++
			if len(m.missing) < keptMissing {
				m.missing[n] = true
			}
		}
	}
	return fresh, nil
}

// mark marks an entry, and says whether its name is one that wasn't needed before. first is the first of several places.
func (m *marking) mark(segment, entry int, r indexRecord, first bool) bool {
	at, bit := entry/64, uint64(1)<<(entry%64)
	switch marked := m.bits[segment][at]&bit != 0; {
	case !marked:
		m.bits[segment][at] |= bit
		if m.lenient {
			m.soft[segment][at] |= bit
		}
		if first {
			m.stored += entryLen + int64(r.stored)
		}
		return first
	case !m.lenient && m.soft[segment][at]&bit != 0: // a twin needs it too
		m.soft[segment][at] &^= bit
		return first
	}
	return false
}

// settle leaves of a block that stands in several places only the first that reads right marked. Where none does all stay.
func (m *marking) settle(ctx context.Context) error {
	for n := range m.doubled {
		if err := ctx.Err(); err != nil {
			return err
		}
		type entry struct{ segment, number int }
		var all []entry
		good := -1
		for i := len(m.segments) - 1; i >= 0; i-- {
			seg := m.segments[i]
			p, err := seg.bucket(bucketOf(n))
			if err != nil {
				return err
			}
			from, to := namedIn(p, n)
			for k := from; k < to; k++ {
				at := seg.record(p[k*indexEntry:]).place
				if seg.gone[at.pack] {
					continue
				}
				if good < 0 {
					if r, err := m.s.pack(at.pack); err == nil {
						if _, err := m.s.readBlock(packPath(at.pack), r, at, n, nil); err == nil {
							good = len(all)
						}
					}
				}
				all = append(all, entry{i, seg.first(bucketOf(n)) + k})
			}
		}
		for k, e := range all {
			if good >= 0 && k != good {
				m.bits[e.segment][e.number/64] &^= 1 << (e.number % 64)
			}
		}
	}
	return nil
}

// has says whether entry n of segment i is marked.
func (m *marking) has(i, n int) bool { return m.bits[i][n/64]&(1<<(n%64)) != 0 }

// onlyListed says whether entry n of segment i is marked, but only for a listing.
func (m *marking) onlyListed(i, n int) bool { return m.soft[i][n/64]&(1<<(n%64)) != 0 }

// twin marks everything that a twin needs. Nodes that were marked before were walked before.
func (m *marking) twin(ctx context.Context, t *Twin) error {
	t, err := m.s.Whole(t)
	if err != nil {
		return err
	}
	for i := range t.Disks {
		for j := range t.Disks[i].Regions {
			r := &t.Disks[i].Regions[j]
			at := map[Name]int{}
			var nodes []Name
			for k, text := range r.Nodes {
				if text == "" {
					continue
				}
				n, err := ParseName(text)
				if err != nil {
					return fmt.Errorf("twin %s, part %d: %w", t.ID, r.Part, err)
				}
				nodes, at[n] = append(nodes, n), k
			}
			fresh, err := m.set(nodes)
			if err != nil {
				return err
			}
			for _, n := range fresh {
				if err := m.node(n, nodeLen(r.Span.Len(), int64(m.s.head.BlockSize), at[n])); err != nil {
					return fmt.Errorf("twin %s of %s, part %d: %w", t.ID, t.Machine, r.Part, err)
				}
				if err := ctx.Err(); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func (m *marking) node(n Name, blocks int) error {
	b, err := m.s.Block(n, nil)
	if err != nil {
		return err
	}
	refs, err := DecodeNode(b, blocks)
	if err != nil {
		return err
	}
	for _, r := range refs {
		if r.Kind == disk.Data {
			m.pending = append(m.pending, r.Name)
		}
	}
	if len(m.pending) < markBatch {
		return nil
	}
	return m.flush()
}

// flush marks the blocks that were collected.
func (m *marking) flush() error {
	_, err := m.set(m.pending)
	m.pending = m.pending[:0]
	return err
}

// all marks what several twins need.
func (m *marking) all(ctx context.Context, twins []*Twin) error {
	for _, t := range twins {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := m.twin(ctx, t); err != nil {
			return err
		}
		if err := m.listing(t.ID); err != nil {
			return err
		}
	}
	if err := m.flushDerived(); err != nil {
		return err
	}
	return m.flush()
}
