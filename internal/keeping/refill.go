package keeping

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/units"
)

// refillBatch is how many blocks are held before they are stored.
const refillBatch = 64

// refill is blocks on their way from another shelf to one that misses them.
type refill struct {
	s, other *shelf.Shelf
	come     [][]byte
	names    map[store.Name]struct{}
	count    int
}

// Refill stores blocks that are missing or hurt again from another shelf that holds the same twin, block maps too, and
// gives how many. Names tell whether what comes is right. passed says, in words, what was passed over although it may
// have some.
func Refill(ctx context.Context, s, other *shelf.Shelf, rep *Report) (n int, passed []string, err error) {
	theirs, problems := other.Twins(ctx)
	for _, p := range problems {
		passed = append(passed, fmt.Sprintf("a twin on %s can't be read and was passed over: %v", other.Head().Name, p))
	}
	twins := map[string]bool{}
	for _, d := range rep.Damage {
		twins[d.Twin] = true
	}
	r := &refill{s: s, other: other, names: map[store.Name]struct{}{}}
	for id := range twins {
		ours, err := s.Find(ctx, id)
		if err != nil && ctx.Err() == nil && id != "" {
			passed = append(passed, fmt.Sprintf("the twin %s can't be read here and was passed over: %v", id, err))
		}
		i := slices.IndexFunc(theirs, func(t *shelf.Twin) bool { return t.ID == id })
		if i < 0 || err != nil {
			continue
		}
		if err := r.twin(ctx, ours, theirs[i]); err != nil {
			return r.count, passed, err
		}
	}
	if r.count == 0 {
		return 0, passed, ctx.Err()
	}
	what := "refilled " + units.Plural(r.count, "block")
	return r.count, passed, s.Record(ctx, shelf.Event{What: what, Why: "the shelf " + other.Head().Name + " had them"})
}

// twin goes through a twin node by node beside the other shelf's.
func (f *refill) twin(ctx context.Context, ours, theirs *shelf.Twin) error {
	if !equalTwins(ours, theirs, false) {
		return nil
	}
	ours, err := f.s.Whole(ctx, ours)
	if err != nil {
		return err
	}
	if theirs, err = f.other.Whole(ctx, theirs); err != nil {
		return err
	}
	for i := range ours.Disks {
		for j := range ours.Disks[i].Regions {
			r, q := &ours.Disks[i].Regions[j], &theirs.Disks[i].Regions[j]
			for k := range r.Nodes {
				n := shelf.NodeLen(r.Span.Len(), int64(f.s.BlockSize()), k)
				if err := f.node(ctx, r.Nodes[k], q.Nodes[k], n); err != nil {
					return err
				}
			}
		}
	}
	return f.store(ctx, 1)
}

// node refills what a node of our twin refers to, and the node itself, from the other's.
func (f *refill) node(ctx context.Context, ourName, theirName string, blocks int) error {
	n, err := store.ParseName(ourName)
	if err != nil {
		return nil // nothing matters in it
	}
	theirs, err := f.other.Node(ctx, theirName, blocks)
	if err != nil {
		return ctx.Err()
	}
	have, err := f.s.Node(ctx, ourName, blocks)
	if err != nil {
		have = nil
	}
	rebuilt := slices.Clone(theirs)
	for x := range theirs {
		if theirs[x].Kind != disk.Data || have != nil && f.s.Readable(ctx, have[x].Name) {
			continue
		}
		b, err := f.other.Block(ctx, theirs[x].Name, nil)
		if err != nil {
			continue
		}
		name := f.s.NameOf(b)
		rebuilt[x].Name = name
		if have != nil && name != have[x].Name || f.s.Readable(ctx, name) {
			continue
		}
		if err := f.add(ctx, name, b); err != nil {
			return err
		}
	}
	if have == nil {
		if b := shelf.EncodeNode(rebuilt); f.s.NameOf(b) == n {
			return f.add(ctx, n, b)
		}
	}
	return ctx.Err()
}

func (f *refill) add(ctx context.Context, n store.Name, b []byte) error {
	f.come, f.names[n] = append(f.come, b), struct{}{}
	return errors.Join(f.store(ctx, refillBatch), ctx.Err())
}

// store stores what came, when it is at least so many blocks.
func (f *refill) store(ctx context.Context, least int) error {
	if len(f.come) < least {
		return nil
	}
	if err := f.s.Forget(ctx, f.names); err != nil {
		return err
	}
	c, err := f.s.Begin(ctx, "refill")
	if err != nil {
		return err
	}
	for _, b := range f.come {
		if _, _, err := c.Put(ctx, b); err != nil {
			c.Abort(ctx)
			return err
		}
	}
	if err := c.Finish(ctx); err != nil {
		return err
	}
	f.count += len(f.come)
	f.come, f.names = nil, map[store.Name]struct{}{}
	return nil
}

// ForgetHurt takes blocks that can't be had out of the index: the next capture of the machine whose disk still has them
// stores them again, and the twins that miss them are whole again.
func ForgetHurt(ctx context.Context, s *shelf.Shelf, rep *Report) error {
	hurt := map[store.Name]struct{}{}
	for _, d := range rep.Damage {
		t, err := s.Find(ctx, d.Twin)
		if err != nil {
			continue
		}
		dev, err := s.OpenDisk(ctx, t, d.Disk-1)
		if err != nil {
			continue
		}
		for p, err := range dev.PiecesIn(d.Span) {
			if n, e := store.ParseName(p.Name); err == nil && e == nil && p.Overlaps(d.Span) {
				hurt[n] = struct{}{}
			}
		}
	}
	return s.Forget(ctx, hurt)
}
