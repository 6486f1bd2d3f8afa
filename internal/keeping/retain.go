package keeping

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"sync/atomic"
	"time"

	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/store/backend"
)

// ErrCantRetain means that a shelf lies where single objects can't be locked.
var ErrCantRetain = errors.New("where the shelf lies, objects can't be locked: that takes object storage whose " +
	"bucket was made with object lock")

// byNeed are folders of which only what twins need is locked.
var byNeed = []string{"packs", "parity"}

// Retain locks everything until a time that the twins need which the rule keeps: nobody can delete it before then. What
// only others need stays as it is, so that its room comes back. It gives how many objects are locked until then.
func Retain(ctx context.Context, s *shelf.Shelf, until time.Time, step store.Step) (int, error) {
	r, can := s.Backend().(backend.Retainer)
	if !can {
		return 0, ErrCantRetain
	}
	names, err := retained(ctx, s)
	if err != nil {
		return 0, err
	}
	var done, locked atomic.Int64
	errs := make([]error, len(names))
	backend.Each(s.Backend(), len(names), func(i int) {
		if ctx.Err() != nil {
			return
		}
		switch errs[i] = r.Retain(ctx, names[i], until); {
		case errors.Is(errs[i], fs.ErrNotExist): // removed meanwhile
			errs[i] = nil
		case errs[i] == nil:
			locked.Add(1)
		}
		if step != nil {
			_ = step(done.Add(1), int64(len(names))) // its error is the context's, which is looked at above
		}
	})
	err = errors.Join(errs...)
	if errors.Is(err, errors.ErrUnsupported) {
		err = ErrCantRetain
	}
	return int(locked.Load()), errors.Join(err, ctx.Err())
}

// retained are the objects that the twins need which the rule keeps, and all that is kept beside blocks.
func retained(ctx context.Context, s *shelf.Shelf) (names []string, err error) {
	twins, err := kept(ctx, s)
	if err != nil {
		return nil, err
	}
	m := s.Marking()
	defer m.Close()
	if err := markAll(ctx, s, m, twins); err != nil {
		return nil, err
	}
	if err := m.Settle(ctx); err != nil {
		return nil, err
	}
	uses, err := s.PackUses(ctx, m)
	if err != nil {
		return nil, err
	}
	parity, err := s.Backend().List(ctx, "parity")
	if err != nil {
		return nil, err
	}
	for id, use := range uses {
		if use.Live == 0 {
			continue
		}
		names = append(names, store.PackFile(id))
		if slices.Contains(parity, id+".parity") {
			names = append(names, "parity/"+id+".parity")
		}
	}
	rest, err := below(ctx, s.Backend(), "", 0)
	return append(names, rest...), err
}

// kept are the twins that the rules keep now.
func kept(ctx context.Context, s *shelf.Shelf) ([]*shelf.Twin, error) {
	twins, err := needing(ctx, s)
	if err != nil {
		return nil, err
	}
	p, err := PreviewThinning(ctx, s, "", time.Now())
	if err != nil {
		return nil, err
	}
	goes := map[string]bool{}
	for _, m := range p.Machines {
		for _, f := range m.Fates {
			goes[f.Twin.ID] = f.Goes
		}
	}
	return slices.DeleteFunc(twins, func(t *shelf.Twin) bool { return goes[t.ID] }), nil
}

// deepest is how deep the folders of a shelf are at the most.
const deepest = 8

// below are the objects in a folder and those below it, but for those that come and go.
func below(ctx context.Context, b backend.Backend, folder string, depth int) (out []string, err error) {
	if depth > deepest {
		return nil, fmt.Errorf("%s is deeper than a shelf is", folder)
	}
	in, err := backend.Entries(ctx, b, folder)
	if err != nil {
		return nil, err
	}
	for _, e := range in {
		name := path.Join(folder, e.Name)
		switch {
		case backend.Passing(name) || slices.Contains(byNeed, name):
		case !e.Folder:
			out = append(out, name)
		default:
			more, err := below(ctx, b, name, depth+1)
			if err != nil {
				return nil, err
			}
			out = append(out, more...)
		}
	}
	return out, nil
}
