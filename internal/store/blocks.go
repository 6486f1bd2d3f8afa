package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"sync"

	"github.com/klauspost/compress/s2"
)

// ErrMissing means that no pack holds a block that is asked for.
var ErrMissing = errors.New("a block is missing from the shelf")

// NameOf is the name that the store gives a block with these bytes.
func (s *Store) NameOf(plain []byte) Name { return s.ring.nameOf(plain) }

// Has says whether the store has a block with these bytes; zeros need none.
func (s *Store) Has(ctx context.Context, plain []byte) bool {
	if len(bytes.TrimLeft(plain, "\x00")) == 0 {
		return true
	}
	return s.Knows(ctx, s.ring.nameOf(plain))
}

// Knows says whether the index has a place of a block.
func (s *Store) Knows(ctx context.Context, n Name) bool {
	ok, _ := s.index.knows(ctx, n)
	return ok
}

// Block reads a block, checks that it hashes to its name, and appends its plain bytes to dst[:0]. Errors are *HurtError
// or ErrMissing, or the medium's. Where the index has changed meanwhile it is loaded again.
func (s *Store) Block(ctx context.Context, n Name, dst []byte) ([]byte, error) {
	b, err := s.block(ctx, n, dst)
	if (errors.Is(err, ErrMissing) || errors.Is(err, fs.ErrNotExist)) && s.Refresh(ctx) == nil {
		b, err = s.block(ctx, n, dst)
	}
	return b, err
}

// block tries every place that the index knows: an older index file may name a pack that is gone.
func (s *Store) block(ctx context.Context, n Name, dst []byte) ([]byte, error) {
	places, err := s.index.places(ctx, n)
	if ctx.Err() != nil {
		return nil, ctx.Err() // nothing is missing
	}
	if len(places) == 0 {
		return nil, errors.Join(fmt.Errorf("%w: %s", ErrMissing, n), err)
	}
	for _, at := range places {
		var b []byte
		if b, err = s.packs.read(ctx, at, n, dst); err == nil {
			return b, nil
		}
	}
	return nil, err
}

// Readable says whether a block can be had.
func (s *Store) Readable(ctx context.Context, n Name) bool {
	_, err := s.Block(ctx, n, nil)
	return err == nil
}

// Refresh loads the index again where somebody else changed it.
func (s *Store) Refresh(ctx context.Context) error { return s.index.refresh(ctx) }

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
