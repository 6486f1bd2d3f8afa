package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
)

// PackUse is what a pack holds, by what is marked as needed.
type PackUse struct {
	Size    int64 // of the pack, in bytes
	Live    int64 // of needed entries, in bytes
	Proper  int64 // of those of them that are needed for more than what is derived, in bytes
	Entries int
}

// Unneeded are the bytes of a pack that nobody needs.
func (p PackUse) Unneeded() int64 {
	return max(0, p.Size-p.Live-headerLen-trailerLen-int64(p.Entries)*tableEntryLen)
}

// PackUses sums up what each pack holds, and what of it is marked.
func (s *Store) PackUses(ctx context.Context, m *Marking) (map[string]*PackUse, error) {
	uses := map[string]*PackUse{}
	sizes, err := s.index.packSizes(ctx)
	if err != nil {
		return nil, err
	}
	for id, size := range sizes {
		uses[id] = &PackUse{Size: size}
	}
	for i, seg := range m.segments {
		if err := seg.all(ctx, func(n int, r indexRecord) error {
			if p := uses[r.pack]; p != nil {
				p.add(r, m.has(i, n), m.onlyDerived(i, n))
			}
			return nil
		}); err != nil {
			return nil, err
		}
	}
	return uses, nil
}

func (p *PackUse) add(r indexRecord, needed, onlyDerived bool) {
	p.Entries++
	if !needed {
		return
	}
	size := entryLen + int64(r.stored)
	p.Live += size
	if !onlyDerived {
		p.Proper += size
	}
}

// Compaction is what is to become of the packs of a store: some are removed, others are rewritten without what nobody
// needs.
type Compaction struct {
	Remove  []string
	Rewrite []string // ascending
	Copy    int64    // bytes that rewriting copies
}

// Step hears how far long work is: bytes done, and of how many. Its error ends the work.
type Step func(done, total int64) error

func (s Step) at(done, total int64) error {
	if s == nil {
		return nil
	}
	return s(min(done, total), total)
}

// Prepare readies the store for compacting: the lock is held alone, and every pack is in the index afterwards.
func (s *Store) Prepare(ctx context.Context, l *Lock) error {
	if err := s.Overlook(ctx); err != nil {
		return err
	}
	if err := s.index.refresh(ctx); err != nil {
		return err
	}
	return s.index.adopt(ctx, l)
}

// Compact copies what is needed out of packs, reads the copies back, makes the index of what is left, and only then
// removes the old index and the old packs. The lock is held alone. Killed at any moment, nothing that is needed is
// lost.
func (s *Store) Compact(ctx context.Context, l *Lock, m *Marking, what Compaction, step Step) error {
	c := s.copying(l)
	removed := map[string]bool{}
	for _, id := range slices.Concat(what.Remove, what.Rewrite) {
		removed[id] = true
	}
	err := s.copyNeeded(ctx, c, m, what, step)
	var left *segment
	if err == nil {
		left, err = s.indexOfLeft(ctx, m, c, removed)
	}
	if err != nil {
		c.drop(context.WithoutCancel(ctx))
		return err
	}
	ctx = context.WithoutCancel(ctx) // what is left is quick, and half of it would only cost room
	s.index.mu.Lock()
	err = s.index.replaceAll(ctx, l, []*segment{left})
	s.index.mu.Unlock()
	if err != nil {
		return err
	}
	for id := range removed {
		if err := l.Held(ctx); err != nil {
			return err
		}
		s.packs.remove(ctx, id)
	}
	return nil
}

// copyNeeded copies and reads back.
func (s *Store) copyNeeded(ctx context.Context, c *Session, m *Marking, what Compaction, step Step) error {
	done, total := int64(0), 2*what.Copy // written, and read back
	for i, seg := range m.segments {
		if err := seg.all(ctx, func(n int, r indexRecord) error {
			if _, moved := slices.BinarySearch(what.Rewrite, r.pack); !moved || !m.has(i, n) {
				return nil
			}
			entry, plain, err := s.packs.raw(ctx, r)
			if h := new(HurtError); errors.As(err, &h) && m.onlyDerived(i, n) {
				return nil // it is made again when it is wanted
			}
			if err == nil {
				err = c.append(ctx, r.name, entry[:entryLen], entry[entryLen:], plain)
			}
			if err != nil {
				return err
			}
			done += entryLen + int64(r.stored)
			return step.at(done, total)
		}); err != nil {
			return err
		}
	}
	if err := c.settle(ctx); err != nil {
		return err
	}
	_, err := s.ReadBack(ctx, c.packs, func(read, _ int64) error { return step.at(done+read, total) })
	if err != nil {
		return fmt.Errorf("%w; nothing was removed: this drive isn't to be trusted, carry the shelf to another "+
			"one", err)
	}
	return nil
}

// indexOfLeft writes one segment of what is needed and of what was copied.
func (s *Store) indexOfLeft(ctx context.Context, m *Marking, c *Session, removed map[string]bool) (*segment, error) {
	number := map[*segment]int{}
	for i, seg := range m.segments {
		number[seg] = i
	}
	all := slices.Clone(m.segments)
	for _, seg := range c.segments {
		all = append(all, seg.segment)
	}
	spared, err := s.Spared(ctx)
	if err != nil {
		return nil, err
	}
	keep := func(seg *segment, n int, r indexRecord) bool {
		i, old := number[seg]
		return !old || spared[r.pack] || !removed[r.pack] && m.has(i, n)
	}
	s.index.mu.Lock()
	defer s.index.mu.Unlock()
	merged, err := s.index.merge(ctx, c.lock, all, packsOf(all, removed), keep)
	if err != nil {
		return nil, err
	}
	for _, seg := range c.segments { // the merged one has what they name
		_ = seg.u.Abort()
	}
	return merged, nil
}

// Forget takes blocks out of the index, so that they are stored again when they come.
func (s *Store) Forget(ctx context.Context, names map[Name]struct{}) error {
	l, err := s.Exclusive(ctx, "forgetting hurt blocks")
	if err != nil {
		return err
	}
	defer l.Release()
	if err := s.Prepare(ctx, l); err != nil {
		return err
	}
	return s.index.without(ctx, l, func(n Name) bool {
		_, unwanted := names[n]
		return unwanted
	})
}

// Reindex makes the index anew from the packs and returns how many blocks it names.
func (s *Store) Reindex(ctx context.Context) (int, error) {
	l, err := s.Exclusive(ctx, "making the index anew")
	if err != nil {
		return 0, err
	}
	defer l.Release()
	if err := s.Overlook(ctx); err != nil {
		return 0, err
	}
	x := s.index
	x.mu.Lock()
	defer x.mu.Unlock()
	fresh, count, err := x.fromPacks(ctx, l)
	if err != nil {
		return count, err
	}
	return count, x.replaceAll(ctx, l, fresh)
}

// fromPacks writes segments of everything that the packs hold. A pack that can't be read is noted and left out.
func (x *index) fromPacks(ctx context.Context, l *Lock) (fresh []*segment, count int, err error) {
	ids, err := x.packIDs(ctx)
	if err != nil {
		return nil, 0, err
	}
	var batch []indexRecord
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		seg, err := x.add(ctx, l, x.ring.encodeSegment(sortRecords(batch)))
		if err != nil {
			return err
		}
		fresh, count, batch = append(fresh, seg), count+seg.count, nil
		return nil
	}
	for _, id := range ids {
		records, err := packRecords(ctx, x.b, id)
		if ctx.Err() != nil {
			return fresh, count, ctx.Err()
		}
		if err != nil {
			x.note(err.Error())
			continue
		}
		if batch = append(batch, records...); len(batch) < flushAt {
			continue
		}
		if err := flush(); err != nil {
			return fresh, count, err
		}
	}
	return fresh, count, flush()
}
