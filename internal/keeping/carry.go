package keeping

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
)

// Carried is what carrying twins to another shelf came to.
type Carried struct {
	Twins   int   `json:"carried"` // that stand on the other shelf now because of it
	Already int   `json:"already"` // that stood there before
	Blocks  int   `json:"blocks"`
	Bytes   int64 `json:"bytes"` // stored anew there
	// KeysLeft are the twins whose keys stay behind, since the other shelf isn't sealed.
	KeysLeft int `json:"keys_left,omitempty"`
}

// carrying is twins on their way from one shelf to another.
type carrying struct {
	from, to    *shelf.Shelf
	done, total int64
	step        store.Step
	carried     Carried
	buf         []byte // of one block
	// kept are the marks of the shelf they come from, there those of the other.
	kept, there map[string]shelf.Pin
}

// Carry copies twins onto another shelf, sealed or open, oldest first. Every block is checked against its name when it
// is read. Stopped at any moment, all twins that arrived are whole, and the next try goes on: blocks that are there
// aren't stored again. step hears of bytes read and of the total.
func Carry(ctx context.Context, from, to *shelf.Shelf, twins []*shelf.Twin, step store.Step) (Carried, error) {
	a, b := from.Head(), to.Head()
	if a.BlockSize != b.BlockSize {
		return Carried{},
			fmt.Errorf("the shelf %s has blocks of %d bytes and %s of %d: make the other one with the same",
				a.Name, a.BlockSize, b.Name, b.BlockSize)
	}
	if a.ID == b.ID {
		return Carried{}, errors.New("that is the same shelf; nothing was carried")
	}
	there, problems := to.Twins(ctx)
	for _, p := range problems { // a hurt twin is carried again, and whole then
		if !store.IsHurt(p) {
			return Carried{}, fmt.Errorf("the twins on %s can't be listed: %w", b.Name, p)
		}
	}
	c := &carrying{from: from, to: to, step: step}
	var err error
	if c.kept, err = from.Pins(ctx); err != nil {
		return Carried{}, err
	}
	if c.there, err = to.Pins(ctx); err != nil {
		return Carried{}, err
	}
	twins = slices.Clone(twins)
	slices.SortStableFunc(twins, func(a, b *shelf.Twin) int { return a.Taken.Compare(b.Taken) })
	for _, t := range twins {
		c.total += t.Used
	}
	return c.all(ctx, twins, there)
}

func (c *carrying) all(ctx context.Context, twins, there []*shelf.Twin) (Carried, error) {
	for _, t := range twins {
		if slices.ContainsFunc(there, func(o *shelf.Twin) bool { return o.ID == t.ID }) {
			c.carried.Already++
			c.done += t.Used
		} else if err := c.twin(ctx, t); err != nil {
			return c.carried, fmt.Errorf("the twin of %s of %s: %w", t.Machine, t.Taken.Format("2006-01-02 15:04"), err)
		} else {
			c.carried.Twins++
		}
		if err := c.notes(ctx, t); err != nil { // also what was said of it since
			return c.carried, err
		}
	}
	return c.carried, nil
}

// advance says how far it is.
func (c *carrying) advance(n int64) error {
	c.done += n
	if c.step == nil {
		return nil
	}
	return c.step(min(c.done, c.total), c.total)
}

// notes copies the mark and the proofs of a twin that the other shelf doesn't have.
func (c *carrying) notes(ctx context.Context, t *shelf.Twin) error {
	if m, yes := c.kept[t.ID]; yes {
		if _, too := c.there[t.ID]; !too {
			if err := c.to.PutNote(ctx, nil, shelf.PinPath(t.ID), m); err != nil {
				return err
			}
		}
	}
	left, err := shelf.KeysOn(c.from).Carry(ctx, t.ID, c.to)
	if err != nil {
		return err
	}
	if left {
		c.carried.KeysLeft++
	}
	proofs, problems := c.from.Proofs(ctx, t.ID)
	there, more := c.to.Proofs(ctx, t.ID)
	for _, p := range slices.Concat(problems, more) { // a hurt one tells nothing anywhere
		if !store.IsHurt(p) {
			return fmt.Errorf("the proofs of it can't be carried: %w", p)
		}
	}
	for _, p := range slices.Backward(proofs) {
		if slices.ContainsFunc(there, func(o *shelf.Proof) bool { return o.When.Equal(p.When) && o.Of == p.Of }) {
			continue
		}
		if err := c.to.SaveProof(ctx, p); err != nil {
			return err
		}
	}
	return nil
}

// CarryRules gives another shelf the thinning rules of one, when it has none of its own, and says whether it did.
func CarryRules(ctx context.Context, from, to *shelf.Shelf) (bool, error) {
	rules, err := ReadRules(ctx, from)
	if err != nil {
		return false, err
	}
	theirs, err := ReadRules(ctx, to)
	if err != nil || !theirs.none() || rules.none() {
		return false, err
	}
	if err := to.PutNote(ctx, nil, store.RulesFile, rules); err != nil {
		return false, err
	}
	return true, to.Record(ctx, shelf.Event{What: "rules taken over", Why: "as on " + from.Head().Name})
}

func (r Rules) none() bool { return len(r.Usual.Generations) == 0 && len(r.Machines) == 0 }

func (c *carrying) twin(ctx context.Context, t *shelf.Twin) error {
	t, err := c.from.Whole(ctx, t)
	if err != nil {
		return err
	}
	session, err := c.to.Begin(ctx, t.Machine)
	if err != nil {
		return err
	}
	n := t.Clone()
	n.Added = 0
	if err := c.contents(ctx, session, n); err != nil {
		// What arrived is kept for the next try.
		return errors.Join(err, session.Finish(context.WithoutCancel(ctx)))
	}
	c.carried.Bytes += n.Added
	return session.Commit(ctx, n)
}

// contents copies the blocks of a twin, whose nodes get other names on the way, and its listing.
func (c *carrying) contents(ctx context.Context, session *shelf.Session, t *shelf.Twin) error {
	for i := range t.Disks {
		for j := range t.Disks[i].Regions {
			r := &t.Disks[i].Regions[j]
			var err error
			if r.Added, err = c.region(ctx, session, r); err != nil {
				return err
			}
			t.Added += r.Added
		}
	}
	return c.listing(ctx, session, t.ID)
}

func (c *carrying) region(ctx context.Context, session *shelf.Session, r *shelf.Region) (added int64, err error) {
	for k, text := range r.Nodes {
		if text == "" {
			continue
		}
		refs, err := c.from.Node(ctx, text, shelf.NodeLen(r.Span.Len(), int64(c.from.BlockSize()), k))
		if err != nil {
			return added, err
		}
		for i := range refs {
			if refs[i].Kind != disk.Data {
				continue
			}
			stored, err := c.block(ctx, session, &refs[i].Name)
			if err != nil {
				return added, err
			}
			added += stored
		}
		n, stored, err := session.Put(ctx, shelf.EncodeNode(refs))
		if err != nil {
			return added, err
		}
		added += stored
		r.Nodes[k] = n.String()
	}
	return added, nil
}

// block copies one block, unless it is there under the same name, and changes its name to the one that it has there. It
// gives the bytes that it added there.
func (c *carrying) block(ctx context.Context, session *shelf.Session, n *store.Name) (stored int64, err error) {
	c.carried.Blocks++
	if !c.from.Sealed() && !c.to.Sealed() && c.to.Knows(ctx, *n) {
		return 0, errors.Join(c.advance(int64(c.from.BlockSize())), ctx.Err())
	}
	if c.buf, err = c.from.Block(ctx, *n, c.buf); err != nil {
		return 0, err
	}
	if *n, stored, err = session.Put(ctx, c.buf); err != nil {
		return 0, err
	}
	return stored, errors.Join(c.advance(int64(len(c.buf))), ctx.Err())
}

// listing copies the listing of a twin. One that can't be read is made again there.
func (c *carrying) listing(ctx context.Context, session *shelf.Session, twin string) error {
	l, err := c.from.Listing(ctx, twin)
	if l == nil || err != nil {
		return nil
	}
	for i := range l.Parts {
		names, readable, err := c.listed(ctx, session, l.Parts[i])
		if err != nil || !readable {
			return err
		}
		if l.Parts[i].Lists, err = session.PutList(ctx, names); err != nil {
			return err
		}
	}
	session.Attach(l)
	return nil
}

// listed copies the blocks of a part's listing, and gives their names there.
func (c *carrying) listed(ctx context.Context, session *shelf.Session,
	p shelf.ListedPart) (names []string, readable bool, err error) {
	names, err = c.from.Listed(ctx, p)
	if err != nil {
		return nil, false, ctx.Err()
	}
	buf := make([]byte, 0, c.from.BlockSize())
	for j := range names {
		n, err := store.ParseName(names[j])
		if err != nil {
			return nil, false, nil
		}
		if buf, err = c.from.Block(ctx, n, buf); err != nil {
			return nil, false, ctx.Err()
		}
		put, _, err := session.Put(ctx, buf)
		if err != nil {
			return nil, false, err
		}
		names[j] = put.String()
	}
	return names, true, nil
}
