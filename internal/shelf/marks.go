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
	m := &marking{s: s, segments: slices.Clone(s.segments), missing: map[Name]bool{}}
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

func (m *marking) setBucket(b int, names []Name) (fresh []Name, err error) {
	var found [16]uint64
	seen := found[:0:16]
	if k := (len(names) + 63) / 64; k > 16 {
		seen = make([]uint64, k)
	} else {
		seen = found[:k]
	}
	for i := len(m.segments) - 1; i >= 0; i-- {
		seg := m.segments[i]
		p, err := seg.bucket(b)
		if err != nil {
			return nil, err
		}
		count, first := len(p)/indexEntry, seg.first(b)
		for j, n := range names {
			if seen[j/64]&(1<<(j%64)) != 0 {
				continue
			}
			k := sort.Search(count, func(k int) bool { return bytes.Compare(p[k*indexEntry:][:32], n[:]) >= 0 })
			if k == count || !bytes.Equal(p[k*indexEntry:][:32], n[:]) {
				continue
			}
			r := seg.record(p[k*indexEntry:])
			if seg.gone[r.pack] {
				continue
			}
			seen[j/64] |= 1 << (j % 64)
			at, bit := (first+k)/64, uint64(1)<<((first+k)%64)
			switch marked := m.bits[i][at]&bit != 0; {
			case !marked:
				m.bits[i][at] |= bit
				m.stored += entryLen + int64(r.stored)
				if fresh = append(fresh, n); m.lenient {
					m.soft[i][at] |= bit
				}
			case !m.lenient && m.soft[i][at]&bit != 0: // a twin needs it too
				m.soft[i][at] &^= bit
				fresh = append(fresh, n)
			}
		}
	}
	for j, n := range names {
		if seen[j/64]&(1<<(j%64)) == 0 && !m.lenient {
			m.lost++
			if len(m.missing) < keptMissing {
				m.missing[n] = true
			}
		}
	}
	return fresh, nil
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
