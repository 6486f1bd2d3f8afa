package inside

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/prelist"
	"twinshelf/internal/lock"
	"twinshelf/internal/names"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// blocks gives the blocks of indexes, and keeps the latest: neighbouring dates share most of them.
type blocks struct {
	s *shelf.Shelf

	mu     sync.Mutex
	recent map[string][]byte
	bytes  int
}

const keptBytes = 24 << 20

func (b *blocks) Get(ctx context.Context, key string) ([]byte, error) {
	b.mu.Lock()
	p, ok := b.recent[key]
	b.mu.Unlock()
	if ok {
		return p, nil
	}
	n, err := store.ParseName(key)
	if err != nil {
		return nil, err
	}
	if p, err = b.s.Block(ctx, n, nil); err != nil {
		return nil, err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.bytes += len(p); b.bytes > keptBytes || b.recent == nil {
		b.recent, b.bytes = map[string][]byte{}, len(p)
	}
	b.recent[key] = p
	return p, nil
}

// Library holds the indexes of names of a shelf's twins.
type Library struct {
	s    *shelf.Shelf
	tool string
	src  *blocks

	making sync.Mutex // held while an index is made: it takes a lock of the shelf
	mu     sync.Mutex
	open   map[string][]*Listed // by twin
}

// Listed is the index of a part at a date.
type Listed struct {
	Twin   *shelf.Twin
	Disk   int // from 0
	Part   int
	Region shelf.Region
	// Index is nil where the part has none; Why says why.
	Index *names.Index
	Why   string
	// Lost is how many items couldn't be read when the index was made.
	Lost int
}

// Lacks says in words what can't be found in the index; empty when all of the part is in it, or there is nothing to be
// found.
func (l *Listed) Lacks() string {
	switch {
	case l.Index == nil && l.Region.Captured && l.Region.Known() && l.Region.Role != string(table.RoleSwap):
		return l.Why
	case l.Lost > 0:
		return fmt.Sprintf("%s couldn't be read", units.Plural(l.Lost, "item"))
	}
	return ""
}

// Key is that of Part.Key.
func (l *Listed) Key() string { return key(l.Disk, l.Part, l.Region.Kind, l.Region.ID) }

// NewLibrary is the library of a shelf. tool is the name and version that listings carry.
func NewLibrary(s *shelf.Shelf, tool string) *Library {
	return &Library{s: s, tool: tool, src: &blocks{s: s}, open: map[string][]*Listed{}}
}

// Has says whether the twin's indexes are on the shelf.
func (l *Library) Has(ctx context.Context, t *shelf.Twin) bool {
	have, err := l.s.Listing(ctx, t.ID)
	return err == nil && have != nil
}

// Of gives the indexes of a twin's parts. Those that the shelf doesn't have are made and kept there, which takes a
// while; where the shelf can't be written they are held in memory.
func (l *Library) Of(ctx context.Context, t *shelf.Twin) ([]*Listed, error) {
	if known := l.known(ctx, t); known != nil {
		return known, nil
	}
	l.making.Lock()
	defer l.making.Unlock()
	if known := l.known(ctx, t); known != nil {
		return known, nil
	}
	listing, err := l.s.Listing(ctx, t.ID)
	if err == nil && listing != nil {
		if out, err := l.opened(ctx, t, listing); err == nil {
			return l.keep(t, out), nil
		}
	}
	out, err := l.make(ctx, t)
	if err != nil {
		return nil, err
	}
	return l.keep(t, out), nil
}

// known are the indexes that are open; nil also where one was locked, and may have been unlocked since.
func (l *Library) known(ctx context.Context, t *shelf.Twin) []*Listed {
	l.mu.Lock()
	defer l.mu.Unlock()
	all := l.open[t.ID]
	if lock.From(ctx).Holds() && slices.ContainsFunc(all, func(x *Listed) bool { return x.Why == whyEncrypted }) {
		return nil
	}
	return all
}

// whyEncrypted is why an encrypted part has no index on the shelf: its names are as secret as what is in it.
const whyEncrypted = "it is encrypted: its names aren't kept on the shelf, and can be searched while it is unlocked"

// unlocked makes the index of an encrypted part in memory, where it is unlocked.
func (l *Library) unlocked(ctx context.Context, t *shelf.Twin, x *Listed) error {
	if !lock.From(ctx).Holds() {
		return nil
	}
	d, err := l.s.OpenDisk(ctx, t, x.Disk)
	if err != nil {
		return err
	}
	for _, p := range ofTwin(ctx, d, x.Disk) {
		if p.Number != x.Part {
			continue
		}
		tree, err := p.Tree(ctx)
		if err != nil {
			return ctx.Err() // it stays as it is
		}
		m := &names.Memory{}
		made, err := namesOf(ctx, tree, m)
		if err != nil {
			return err
		}
		if x.Index, err = names.Open(ctx, m, made.Keys); err != nil {
			return err
		}
		x.Why, x.Lost = "", made.Lost
	}
	return nil
}

func (l *Library) keep(t *shelf.Twin, out []*Listed) []*Listed {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.open[t.ID] = out
	return out
}

func (l *Library) opened(ctx context.Context, t *shelf.Twin, listing *shelf.Listing) ([]*Listed, error) {
	var out []*Listed
	for _, p := range listing.Parts {
		if p.Disk < 0 || p.Disk >= len(t.Disks) {
			return nil, fmt.Errorf("the listing of twin %s names disk %d of %d", t.ID, p.Disk+1, len(t.Disks))
		}
		x := describe(t, p)
		if p.Why == "" {
			keys, err := l.s.Listed(ctx, p)
			if err == nil {
				x.Index, err = names.Open(ctx, l.src, keys)
			}
			if err != nil {
				return nil, err
			}
		}
		if p.Why == whyEncrypted {
			if err := l.unlocked(ctx, t, x); err != nil {
				return nil, err
			}
		}
		out = append(out, x)
	}
	return out, nil
}

// describe is a part of a listing, without its index.
func describe(t *shelf.Twin, p shelf.ListedPart) *Listed {
	x := &Listed{Twin: t, Disk: p.Disk, Part: p.Part, Why: p.Why, Lost: p.Lost}
	for _, r := range t.Disks[p.Disk].Parts() {
		if r.Part == p.Part {
			x.Region = r
		}
	}
	return x
}

// sessionStore puts chunks into a session of the shelf.
type sessionStore struct{ c *shelf.Session }

func (s sessionStore) Put(ctx context.Context, b []byte) (string, error) {
	n, _, err := s.c.Put(ctx, b)
	return n.String(), err
}

// steadyStore puts chunks into a session as long as its own context lasts.
type steadyStore struct {
	sessionStore
	ctx context.Context
}

func (s steadyStore) Put(_ context.Context, b []byte) (string, error) {
	return s.sessionStore.Put(s.ctx, b)
}

// make makes the indexes of a twin, on the shelf if that can be. What damage of the shelf made incomplete isn't kept:
// it may be mended.
func (l *Library) make(ctx context.Context, t *shelf.Twin) ([]*Listed, error) {
	session, err := l.s.Begin(ctx, t.Machine)
	if err != nil {
		return l.inMemory(ctx, t)
	}
	listing, hurt, err := l.listingOf(ctx, t, sessionStore{session}, session.PutList)
	if err != nil || hurt {
		session.Abort(ctx)
		if err != nil {
			return nil, err
		}
		return l.inMemory(ctx, t)
	}
	session.Attach(listing)
	if err := session.Finish(ctx); err != nil {
		return l.inMemory(ctx, t)
	}
	return l.opened(ctx, t, listing)
}

// Ahead makes the listing of a twin that a session is about to commit, from glimpses alone; nil where they don't go far
// enough.
func (l *Library) Ahead(ctx context.Context, t *shelf.Twin, g *shelf.Glimpses, session *shelf.Session) *shelf.Listing {
	only, end := shelf.OnlyGlimpses(ctx, g)
	defer end()
	// What ends the looking mustn't end the session's writing: its capture would fail with it.
	to := steadyStore{sessionStore{session}, ctx}
	listing, hurt, err := l.listingOf(only, t, to, func(_ context.Context, keys []string) ([]string, error) {
		return session.PutList(ctx, keys)
	})
	if err != nil || hurt || g.Missed() {
		return nil
	}
	return listing
}

func (l *Library) inMemory(ctx context.Context, t *shelf.Twin) ([]*Listed, error) {
	m := &names.Memory{}
	var keys [][]string
	listing, _, err := l.listingOf(ctx, t, m, func(_ context.Context, k []string) ([]string, error) {
		keys = append(keys, k)
		return nil, nil
	})
	if err != nil {
		return nil, err
	}
	var out []*Listed
	for _, p := range listing.Parts {
		x := describe(t, p)
		if p.Why == "" {
			if x.Index, err = names.Open(ctx, m, keys[0]); err != nil {
				return nil, err
			}
			keys = keys[1:]
		}
		if p.Why == whyEncrypted {
			if err := l.unlocked(ctx, t, x); err != nil {
				return nil, err
			}
		}
		out = append(out, x)
	}
	return out, nil
}

// namesOf makes the index of a part of a twin: each of its folders costs the unpacking of a block, so they are listed
// before their turn. An attached disk isn't read so: it may be failing.
func namesOf(ctx context.Context, t fsys.Tree, to names.Store) (*names.Made, error) {
	soon := prelist.Of(t)
	defer soon.Close()
	return names.Make(ctx, soon, to)
}

// listingOf reads the folders of all parts of a twin. hurt says that damage of the shelf was in the way.
func (l *Library) listingOf(ctx context.Context, t *shelf.Twin, to names.Store,
	list func(context.Context, []string) ([]string, error)) (out *shelf.Listing, hurt bool, err error) {
	out = &shelf.Listing{Twin: t.ID, Tool: l.tool}
	for i := range t.Disks {
		d, err := l.s.OpenDisk(ctx, t, i)
		if err != nil {
			return nil, false, err
		}
		for _, p := range ofTwin(ctx, d, i) {
			lp := shelf.ListedPart{Disk: i, Part: p.Number}
			var m *names.Made
			if p.encrypted(ctx) {
				lp.Why = whyEncrypted
				out.Parts = append(out.Parts, lp)
				continue
			}
			tree, err := p.Tree(ctx)
			if err == nil {
				m, err = namesOf(ctx, tree, to)
			} else {
				err = errors.Unwrap(err) // without the part, which stands beside it
			}
			switch {
			case ctx.Err() != nil:
				return nil, false, ctx.Err()
			case err != nil:
				hurt = hurt || store.IsHurt(err)
				lp.Why = err.Error()
			default:
				hurt = hurt || slices.ContainsFunc(m.Causes, store.IsHurt)
				lp.Items, lp.Lost, lp.Problems = m.Items, m.Lost, m.Problems
				if lp.Lists, err = list(ctx, m.Keys); err != nil {
					return nil, false, err
				}
			}
			out.Parts = append(out.Parts, lp)
		}
	}
	return out, hurt, nil
}
