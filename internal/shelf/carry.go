package shelf

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"twinshelf/internal/disk"
)

// Carried is what carrying twins to another shelf came to.
type Carried struct {
	Twins   int   `json:"twins"`   // that stand on the other shelf now because of it
	Already int   `json:"already"` // that stood there before
	Blocks  int   `json:"blocks"`
	Bytes   int64 `json:"bytes"` // stored anew there
}

// Carry copies twins onto another shelf, sealed or open, oldest first. Every block is checked against its name when
// it is read. Stopped at any moment, all twins that arrived are whole, and the next try goes on: blocks
// that are there aren't stored again. step hears of bytes read and of the total.
func Carry(ctx context.Context, from, to *Shelf, twins []*Twin, step func(done, total int64) error) (Carried, error) {
	var c Carried
	if from.head.BlockSize != to.head.BlockSize {
		return c, fmt.Errorf("the shelf %s has blocks of %d bytes and %s of %d: make the other one with the same", from.head.Name, from.head.BlockSize, to.head.Name, to.head.BlockSize)
	}
	if from.head.ID == to.head.ID {
		return c, errors.New("that is the same shelf; nothing was carried")
	}
	there, problems := to.Twins()
	for _, p := range problems { // a hurt twin is carried again, and whole then
		if !IsHurt(p) {
			return c, fmt.Errorf("the twins on %s can't be listed: %w", to.head.Name, p)
		}
	}
	twins = slices.Clone(twins)
	slices.SortStableFunc(twins, func(a, b *Twin) int { return a.Taken.Compare(b.Taken) })
	var total, done int64
	for _, t := range twins {
		total += t.Used
	}
	kept, err := from.Marks()
	if err != nil {
		return c, err
	}
	keptThere, err := to.Marks()
	if err != nil {
		return c, err
	}
	notes := func(t *Twin) error {
		if m, yes := kept[t.ID]; yes {
			if _, too := keptThere[t.ID]; !too {
				if err := to.writeNote(markPath(t.ID), m); err != nil {
					return err
				}
			}
		}
		return carryProofs(from, to, t.ID)
	}
	for _, t := range twins {
		if slices.ContainsFunc(there, func(o *Twin) bool { return o.ID == t.ID }) {
			c.Already++
			done += t.Used
			if err := notes(t); err != nil { // what was said of it since
				return c, err
			}
			continue
		}
		if err := carryTwin(ctx, from, to, t, &c, func(n int64) error {
			done += n
			if step == nil {
				return nil
			}
			return step(min(done, total), total)
		}); err != nil {
			return c, fmt.Errorf("the twin of %s of %s: %w", t.Machine, t.Taken.Format("2006-01-02 15:04"), err)
		}
		c.Twins++
		if err := notes(t); err != nil {
			return c, err
		}
	}
	return c, nil
}

// carryProofs copies those proofs of a twin that the other shelf doesn't have.
func carryProofs(from, to *Shelf, twin string) error {
	proofs, _ := from.Proofs(twin)
	if len(proofs) == 0 {
		return nil
	}
	there, _ := to.Proofs(twin)
	for _, p := range slices.Backward(proofs) {
		if slices.ContainsFunc(there, func(o *Proof) bool { return o.When.Equal(p.When) && o.Of == p.Of }) {
			continue
		}
		if err := to.SaveProof(p); err != nil {
			return err
		}
	}
	return nil
}

// CarryRules gives another shelf the thinning rules of this one, when it has none of its own, and says whether it did.
func (s *Shelf) CarryRules(to *Shelf) (bool, error) {
	rules, err := s.Rules()
	if err != nil {
		return false, err
	}
	theirs, err := to.Rules()
	if err != nil || !theirs.none() || rules.none() {
		return false, err
	}
	if err := to.writeNote(rulesFile, rules); err != nil {
		return false, err
	}
	return true, to.journal(Event{What: "rules taken over", Why: "as on " + s.head.Name})
}

func (r Rules) none() bool { return len(r.Usual.Generations) == 0 && len(r.Machines) == 0 }

// copied is a twin on its way, deeply enough that its nodes can be renamed.
func (t *Twin) copied() *Twin {
	n := *t
	n.Disks = slices.Clone(t.Disks)
	for i := range n.Disks {
		n.Disks[i].Regions = slices.Clone(t.Disks[i].Regions)
		for j := range n.Disks[i].Regions {
			n.Disks[i].Regions[j].Nodes = slices.Clone(t.Disks[i].Regions[j].Nodes)
		}
	}
	return &n
}

func carryTwin(ctx context.Context, from, to *Shelf, t *Twin, c *Carried, step func(int64) error) error {
	t, err := from.Whole(t)
	if err != nil {
		return err
	}
	session, err := to.Begin(t.Machine)
	if err != nil {
		return err
	}
	n := t.copied()
	n.Added = 0
	for i := range n.Disks {
		for j := range n.Disks[i].Regions {
			r := &n.Disks[i].Regions[j]
			added, err := carryRegion(ctx, from, to, session, r, c, step)
			if err != nil {
				// What arrived is kept for the next try.
				return errors.Join(err, session.Finish())
			}
			r.Added = added
			n.Added += added
		}
	}
	if err := carryListing(from, session, t.ID); err != nil {
		return errors.Join(err, session.Finish())
	}
	c.Bytes += n.Added
	return session.Commit(n)
}

func carryRegion(ctx context.Context, from, to *Shelf, session *Session, r *Region, c *Carried, step func(int64) error) (added int64, err error) {
	sameNames := !from.Sealed() && !to.Sealed()
	buf := make([]byte, 0, from.head.BlockSize)
	for k, text := range r.Nodes {
		if text == "" {
			continue
		}
		name, err := ParseName(text)
		if err != nil {
			return added, err
		}
		raw, err := from.Block(name, nil)
		if err != nil {
			return added, err
		}
		refs, err := DecodeNode(raw, nodeLen(r.Span.Len(), int64(from.head.BlockSize), k))
		if err != nil {
			return added, err
		}
		for i := range refs {
			if refs[i].Kind != disk.Data {
				continue
			}
			c.Blocks++
			if sameNames {
				if _, ok, _ := to.lookup(refs[i].Name); ok {
					if err := step(int64(from.head.BlockSize)); err != nil {
						return added, err
					}
					continue
				}
			}
			if buf, err = from.Block(refs[i].Name, buf); err != nil {
				return added, err
			}
			n, stored, err := session.Put(buf)
			if err != nil {
				return added, err
			}
			refs[i].Name = n
			added += stored
			if err := errors.Join(step(int64(len(buf))), ctx.Err()); err != nil {
				return added, err
			}
		}
		n, stored, err := session.Put(EncodeNode(refs))
		if err != nil {
			return added, err
		}
		added += stored
		r.Nodes[k] = n.String()
	}
	return added, nil
}

// Standing says where a twin stands, of two shelves.
type Standing struct {
	Machine     string    `json:"machine"`
	Taken       time.Time `json:"taken"`
	Twin        string    `json:"twin"`
	Here, There bool
	// Differ says that both have it and that it isn't the same.
	Differ bool `json:"differ,omitempty"`
}

// Compare puts the twins of two shelves side by side, by machine and date. Twins of one ID are the same
// when they describe the same disks with the same used parts; with open shelves also their contents are compared, by name.
func Compare(here, there *Shelf) ([]Standing, []error) {
	a, problems := here.Twins()
	b, more := there.Twins()
	var out []Standing
	for _, t := range a {
		s := Standing{Machine: t.Machine, Taken: t.Taken, Twin: t.ID, Here: true}
		if i := slices.IndexFunc(b, func(o *Twin) bool { return o.ID == t.ID }); i >= 0 {
			s.There = true
			s.Differ = !equalTwins(t, b[i], !here.Sealed() && !there.Sealed())
		}
		out = append(out, s)
	}
	for _, t := range b {
		if !slices.ContainsFunc(a, func(o *Twin) bool { return o.ID == t.ID }) {
			out = append(out, Standing{Machine: t.Machine, Taken: t.Taken, Twin: t.ID, There: true})
		}
	}
	slices.SortStableFunc(out, func(a, b Standing) int {
		if a.Machine != b.Machine {
			if a.Machine < b.Machine {
				return -1
			}
			return 1
		}
		return b.Taken.Compare(a.Taken)
	})
	return out, append(problems, more...)
}

func equalTwins(a, b *Twin, names bool) bool {
	return (!names || a.MapsSum == b.MapsSum) && a.Machine == b.Machine && a.Taken.Equal(b.Taken) && a.Used == b.Used && slices.EqualFunc(a.Disks, b.Disks, func(x, y TwinDisk) bool {
		return x.Identity == y.Identity && slices.EqualFunc(x.Regions, y.Regions, func(r, q Region) bool {
			return r.Span == q.Span && r.Used == q.Used && r.Captured == q.Captured && r.NodeCount == q.NodeCount
		})
	})
}
