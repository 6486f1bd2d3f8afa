package shelf

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"twinshelf/internal/disk"
)

// Refill stores blocks that are missing or hurt again from another shelf that holds the same twin, block maps too, and
// gives how many. Names tell whether what comes is right.
func (s *Shelf) Refill(ctx context.Context, other *Shelf, rep *Report) (int, error) {
	theirs, _ := other.Twins()
	twins := map[string]bool{}
	for _, d := range rep.Damage {
		twins[d.Twin] = true
	}
	count := 0
	for id := range twins {
		ours, err := s.Find(id)
		i := slices.IndexFunc(theirs, func(t *Twin) bool { return t.ID == id })
		if i < 0 || err != nil {
			continue
		}
		n, err := s.refillTwin(ctx, other, ours, theirs[i])
		count += n
		if err != nil {
			return count, err
		}
	}
	if count == 0 {
		return 0, nil
	}
	return count, s.journal(Event{What: fmt.Sprintf("refilled %d blocks", count), Why: "the shelf " + other.head.Name + " had them"})
}

// refillTwin goes through a twin node by node beside the other shelf's.
func (s *Shelf) refillTwin(ctx context.Context, other *Shelf, ours, theirs *Twin) (int, error) {
	if !equalTwins(ours, theirs, false) {
		return 0, nil
	}
	ours, err := s.Whole(ours)
	if err != nil {
		return 0, err
	}
	if theirs, err = other.Whole(theirs); err != nil {
		return 0, err
	}
	var come [][]byte
	names := map[Name]struct{}{}
	count := 0
	store := func(least int) error {
		if len(come) < least || len(come) == 0 {
			return nil
		}
		if err := s.forget(names); err != nil {
			return err
		}
		c, err := s.Begin("refill")
		if err != nil {
			return err
		}
		for _, b := range come {
			if _, _, err := c.Put(b); err != nil {
				c.Abort()
				return err
			}
		}
		count += len(come)
		come, names = nil, map[Name]struct{}{}
		return c.Finish()
	}
	block := int64(s.head.BlockSize)
	for i := range ours.Disks {
		for j := range ours.Disks[i].Regions {
			r, q := &ours.Disks[i].Regions[j], &theirs.Disks[i].Regions[j]
			for k := range r.Nodes {
				n, err := ParseName(r.Nodes[k])
				if err != nil {
					continue
				}
				have := s.refs(n, nodeLen(r.Span.Len(), block, k))
				m, err := ParseName(q.Nodes[k])
				if err != nil {
					continue
				}
				their := other.refs(m, nodeLen(r.Span.Len(), block, k))
				if their == nil {
					continue
				}
				rebuilt := slices.Clone(their)
				for x := range their {
					if their[x].Kind != disk.Data || have != nil && s.readable(have[x].Name) {
						continue
					}
					b, err := other.Block(their[x].Name, nil)
					if err != nil {
						continue
					}
					rebuilt[x].Name = s.ring.nameOf(b)
					if have != nil && rebuilt[x].Name != have[x].Name || s.readable(rebuilt[x].Name) {
						continue
					}
					come, names[rebuilt[x].Name] = append(come, b), struct{}{}
					if err := errors.Join(store(refillBatch), ctx.Err()); err != nil {
						return count, err
					}
				}
				if have == nil {
					if b := EncodeNode(rebuilt); s.ring.nameOf(b) == n {
						come, names[n] = append(come, b), struct{}{}
					}
				}
			}
		}
	}
	return count, store(1)
}

// refillBatch is how many blocks are held before they are stored.
const refillBatch = 64

// refs reads a node; nil when it can't be read.
func (s *Shelf) refs(n Name, blocks int) []BlockRef {
	b, err := s.Block(n, nil)
	if err != nil {
		return nil
	}
	refs, err := DecodeNode(b, blocks)
	if err != nil {
		return nil
	}
	return refs
}

func (s *Shelf) readable(n Name) bool {
	_, err := s.Block(n, nil)
	return err == nil
}

// forget takes blocks out of the index, so that they are stored again when they come.
func (s *Shelf) forget(names map[Name]struct{}) error {
	release, err := s.exclusive("forgetting hurt blocks")
	if err != nil {
		return err
	}
	defer release()
	return s.reindexWithout(func(n Name) bool { _, hurt := names[n]; return hurt })
}

// ForgetHurt takes blocks that can't be had out of the index: the next capture of the machine whose
// disk still has them stores them again, and the twins that miss them are whole again.
func (s *Shelf) ForgetHurt(rep *Report) error {
	hurt := map[Name]struct{}{}
	for _, d := range rep.Damage {
		t, err := s.Find(d.Twin)
		if err != nil {
			continue
		}
		dev, err := s.OpenDisk(t, d.Disk-1)
		if err != nil {
			continue
		}
		for p, err := range dev.Pieces() {
			if n, e := ParseName(p.Name); err == nil && e == nil && p.Overlaps(d.Span) {
				hurt[n] = struct{}{}
			}
		}
	}
	return s.forget(hurt)
}

// reindexWithout writes one segment of everything but what is unwanted; the lock is held.
func (s *Shelf) reindexWithout(unwanted func(Name) bool) error {
	if err := s.refresh(); err != nil {
		return err
	}
	if err := s.adoptLoose(); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	merged, err := s.mergeInto(s.segments, packsOf(s.segments, nil), func(_ *segment, _ int, r indexRecord) bool { return !unwanted(r.name) })
	if err != nil {
		return err
	}
	for _, seg := range s.segments {
		seg.close()
		if err := s.b.Remove(seg.file); err != nil {
			return err
		}
	}
	s.segments, s.loaded = []*segment{merged}, []string{merged.file[len("index/"):]}
	return nil
}
