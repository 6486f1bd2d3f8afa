package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"sync"

	"github.com/klauspost/compress/s2"

	"twinshelf/internal/store/backend"
)

// ErrMissing means that no pack holds a block that is asked for.
var ErrMissing = errors.New("a block is missing from the shelf")

// NameOf is the name that the store gives a block with these bytes.
func (s *Store) NameOf(plain []byte) Name { return s.ring.nameOf(plain) }

// Has says whether the store has a block with these bytes; zeros need none.
func (x *index) Has(ctx context.Context, plain []byte) bool {
	if len(bytes.TrimLeft(plain, "\x00")) == 0 {
		return true
	}
	return x.Knows(ctx, x.ring.nameOf(plain))
}

// Knows says whether the index has a place of a block.
func (x *index) Knows(ctx context.Context, n Name) bool {
	ok, _ := x.knows(ctx, n)
	return ok
}

// Block reads a block, checks that it hashes to its name, and appends its plain bytes to dst[:0]. Errors are *HurtError
// or ErrMissing, or the medium's. Where the index has changed meanwhile it is loaded again.
func (p *packs) Block(ctx context.Context, n Name, dst []byte) ([]byte, error) {
	b, err := p.block(ctx, n, dst)
	if err != nil && IsHurt(err) && !errors.Is(err, ErrMissing) { // it may have been hurt on its way here
		b, err = p.block(ctx, n, dst)
	}
	if (errors.Is(err, ErrMissing) || errors.Is(err, fs.ErrNotExist)) && p.index.Refresh(ctx) == nil {
		b, err = p.block(ctx, n, dst)
	}
	return b, err
}

// block tries every place that the index knows: an older index file may name a pack that is gone.
func (p *packs) block(ctx context.Context, n Name, dst []byte) ([]byte, error) {
	places, err := p.index.places(ctx, n)
	if ctx.Err() != nil {
		return nil, ctx.Err() // nothing is missing
	}
	if len(places) == 0 {
		return nil, errors.Join(fmt.Errorf("%w: %s", ErrMissing, n), err)
	}
	for _, at := range places {
		var b []byte
		if b, err = p.read(ctx, at, n, dst); err == nil {
			return b, nil
		}
	}
	return nil, err
}

// mostAhead bounds how many blocks are worth asking for before somebody does: 8 MiB of the usual size.
const mostAhead = 8

// Ahead is how many blocks are worth reading at once where they are read one after the other: each costs the way there
// and back where the store lies far away.
func (p *packs) Ahead() int {
	if _, distant := p.b.(backend.Distant); distant {
		return max(1, min(mostAhead, backend.AtOnce(p.b)))
	}
	return 1
}

// Readable says whether a block can be had.
func (p *packs) Readable(ctx context.Context, n Name) bool {
	_, err := p.Block(ctx, n, nil)
	return err == nil
}

// Refresh loads the index again where somebody else changed it.
func (x *index) Refresh(ctx context.Context) error { return x.refresh(ctx) }

// buffers are reused between blocks.
type buffer struct{ b []byte }

var bufferPool = sync.Pool{New: func() any {
	return &buffer{make([]byte, 0, s2.MaxEncodedLen(DefaultBlock)+entryLen+tagRoom)}
}}

func getBuffer(n int) *buffer {
	p := bufferPool.Get().(*buffer)
	if cap(p.b) < n {
		p.b = make([]byte, n)
	}
	p.b = p.b[:n]
	return p
}

func putBuffer(p *buffer) { bufferPool.Put(p) }
