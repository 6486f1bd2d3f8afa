package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"
)

// checkedFile remembers when packs were read through; forgetting it costs only reading again.
const checkedFile = "checked.note"

// Reads is when each pack was last read through, and what was wrong then.
type Reads struct {
	Read   map[string]time.Time `json:"read"`             // by pack
	Broken []string             `json:"broken,omitempty"` // packs that were hurt beyond mending then
}

// Reads is what is remembered of reading packs; the error is that of a note that can't be read.
func (p *packs) Reads(ctx context.Context) (Reads, error) {
	var was Reads
	_, err := p.files.GetNote(ctx, checkedFile, &was)
	if was.Read == nil || err != nil {
		was = Reads{Read: map[string]time.Time{}}
	}
	return was, err
}

func (p *packs) remember(ctx context.Context, r Reads) {
	// also when the work was stopped: it goes on there
	_ = p.files.PutNote(context.WithoutCancel(ctx), nil, checkedFile, r)
}

// KnownDamage are the packs that an earlier check found hurt beyond mending and that are still there.
func (p *packs) KnownDamage(ctx context.Context) []string {
	was, _ := p.Reads(ctx)
	return slices.DeleteFunc(was.Broken, func(id string) bool {
		_, err := p.b.Stat(ctx, packPath(id))
		return err != nil
	})
}

// PackFile is the file of a pack, relative to the store.
func PackFile(id string) string { return packPath(id) }

// Before anything that exists elsewhere may go (old packs, an old shelf), what was written instead is read back from
// the medium: the kernel's copies of a pack were dropped when it was synced.

// ErrReadBack means that the medium gives back something else than was written to it.
var ErrReadBack = errors.New("what was written doesn't read back")

// ReadBack reads packs through, with their parity, and remembers that they were. Nothing is mended: a medium that
// changes what it is given is to be known. It gives the bytes read; errors are ErrReadBack or the context's.
func (p *packs) ReadBack(ctx context.Context, ids []string, step Step) (done int64, err error) {
	slices.Sort(ids)
	sizes, err := p.index.packSizes(ctx)
	if err != nil {
		return 0, err
	}
	var total int64
	for _, id := range ids {
		if _, listed := sizes[id]; !listed { // a listing may be behind
			info, err := p.b.Stat(ctx, packPath(id))
			if err != nil {
				return 0, err
			}
			sizes[id] = info.Size
		}
		total += sizes[id]
	}
	was, _ := p.Reads(ctx)
	defer func() {
		if done > 0 {
			p.remember(ctx, was)
		}
	}()
	for _, id := range ids {
		_, problem := p.readPack(ctx, id)
		if problem == nil {
			problem = p.checkParity(ctx, id, true)
		}
		if err := ctx.Err(); err != nil {
			return done, err
		}
		if problem != nil {
			return done, fmt.Errorf("%w from %s: %w", ErrReadBack, p.b.Place(), problem)
		}
		was.Read[id] = time.Now()
		done += sizes[id]
		if err := step.at(done, total); err != nil {
			return done, err
		}
	}
	return done, nil
}
