package store

import (
	"bytes"
	"context"
	"slices"
	"sort"
)

// Marking notes which blocks of the index are needed: a bit for each entry. Names are looked up in large sorted
// batches, so that the index is read in order and memory stays flat. It is used by one goroutine.
type Marking struct {
	s        *Store
	segments []*segment
	bits     [][]uint64
	soft     [][]uint64 // those of them that only derived blocks are needed for
	pending  []Name
	derived  []Name
	lenient  bool          // whether names that no entry answers to are passed over
	missing  map[Name]bool // names that no entry answers to; only the first MostMissing are kept
	lost     int
	doubled  map[Name]bool // names that stand in several places; only the first of them are kept
	stored   int64         // bytes of newly marked entries
	done     func()
}

const (
	markBatch = 1 << 18
	// MostMissing is how many names of missing blocks are kept.
	MostMissing = 1 << 16
)

// Marking starts with nothing marked. It is of the index as it stands now, which stays readable until Close.
func (s *Store) Marking() *Marking {
	m := &Marking{s: s, missing: map[Name]bool{}, doubled: map[Name]bool{}}
	m.segments, m.done = s.index.snapshot()
	for _, seg := range m.segments {
		m.bits = append(m.bits, make([]uint64, (seg.count+63)/64))
		m.soft = append(m.soft, make([]uint64, (seg.count+63)/64))
	}
	return m
}

// Close ends the marking; it may be called more than once.
func (m *Marking) Close() { m.done() }

// Missing are the names of blocks that no entry answers to, the first MostMissing of them.
func (m *Marking) Missing() map[Name]bool { return m.missing }

// Lost is how many blocks no entry answers to.
func (m *Marking) Lost() int { return m.lost }

// Stored is the room that the entries take which were marked since the last call, in bytes.
func (m *Marking) Stored() int64 {
	n := m.stored
	m.stored = 0
	return n
}

// Blocks is the number of entries in the index.
func (m *Marking) Blocks() (n int) {
	for _, seg := range m.segments {
		n += seg.count
	}
	return n
}

// Set marks names at once, sorts them, and gives those that weren't marked before.
func (m *Marking) Set(ctx context.Context, names []Name) (fresh []Name, err error) {
	slices.SortFunc(names, func(a, b Name) int { return bytes.Compare(a[:], b[:]) })
	names = slices.Compact(names)
	for len(names) > 0 {
		b := bucketOf(names[0])
		n := sort.Search(len(names), func(i int) bool { return bucketOf(names[i]) > b })
		f, err := m.setBucket(ctx, b, names[:n])
		if err != nil {
			return nil, err
		}
		fresh = append(fresh, f...)
		names = names[n:]
	}
	return fresh, nil
}

// setBucket marks every place of each name: which of several reads right isn't known yet.
func (m *Marking) setBucket(ctx context.Context, b int, names []Name) (fresh []Name, err error) {
	seen := make([]int, len(names)) // places of each name
	for i := len(m.segments) - 1; i >= 0; i-- {
		seg := m.segments[i]
		p, err := seg.bucket(ctx, b)
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
		if seen[j] > 1 && len(m.doubled) < MostMissing {
			m.doubled[n] = true
		}
		if seen[j] == 0 && !m.lenient {
			m.lost++
			if len(m.missing) < MostMissing {
				m.missing[n] = true
			}
		}
	}
	return fresh, nil
}

// mark marks an entry, and says whether its name is one that wasn't needed before. first is the first of several
// places.
func (m *Marking) mark(segment, entry int, r indexRecord, first bool) bool {
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
	case !m.lenient && m.soft[segment][at]&bit != 0: // needed otherwise too
		m.soft[segment][at] &^= bit
		return first
	}
	return false
}

// Settle leaves of a block that stands in several places only the first that reads right marked. Where none does all
// stay.
func (m *Marking) Settle(ctx context.Context) error {
	for n := range m.doubled {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := m.settle(ctx, n); err != nil {
			return err
		}
	}
	return nil
}

func (m *Marking) settle(ctx context.Context, n Name) error {
	type entry struct{ segment, number int }
	var all []entry
	good := -1
	for i := len(m.segments) - 1; i >= 0; i-- {
		seg := m.segments[i]
		p, err := seg.bucket(ctx, bucketOf(n))
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
				if _, err := m.s.packs.read(ctx, at, n, nil); err == nil {
					good = len(all)
				}
			}
			all = append(all, entry{i, seg.first(bucketOf(n)) + k})
		}
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	for k, e := range all {
		if good >= 0 && k != good {
			m.bits[e.segment][e.number/64] &^= 1 << (e.number % 64)
		}
	}
	return nil
}

// has says whether entry n of segment i is marked.
func (m *Marking) has(i, n int) bool { return m.bits[i][n/64]&(1<<(n%64)) != 0 }

// onlyDerived says whether entry n of segment i is marked, but only for what is derived.
func (m *Marking) onlyDerived(i, n int) bool { return m.soft[i][n/64]&(1<<(n%64)) != 0 }

// Add marks names some time before Flush.
func (m *Marking) Add(ctx context.Context, names ...Name) error {
	m.pending = append(m.pending, names...)
	if len(m.pending) < markBatch {
		return nil
	}
	return m.flushPending(ctx)
}

func (m *Marking) flushPending(ctx context.Context) error {
	_, err := m.Set(ctx, m.pending)
	m.pending = m.pending[:0]
	return err
}

// SetDerived marks names of what can be made again: none is missed when it isn't there, and a hurt one harms nothing.
func (m *Marking) SetDerived(ctx context.Context, names []Name) (fresh []Name, err error) {
	m.lenient = true
	defer func() { m.lenient = false }()
	return m.Set(ctx, names)
}

// AddDerived is SetDerived some time before Flush.
func (m *Marking) AddDerived(ctx context.Context, names ...Name) error {
	m.derived = append(m.derived, names...)
	if len(m.derived) < markBatch {
		return nil
	}
	return m.flushDerived(ctx)
}

func (m *Marking) flushDerived(ctx context.Context) error {
	_, err := m.SetDerived(ctx, m.derived)
	m.derived = m.derived[:0]
	return err
}

// Flush marks everything that was added.
func (m *Marking) Flush(ctx context.Context) error {
	if err := m.flushDerived(ctx); err != nil {
		return err
	}
	return m.flushPending(ctx)
}
