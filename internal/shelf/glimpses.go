package shelf

import (
	"bytes"
	"context"
	"errors"
	"slices"
	"sync"

	"twinshelf/internal/store"
)

// mostGlimpses is how much is kept of what was put onto a shelf, in bytes.
const mostGlimpses = 16 << 20

// Glimpses are stretches of blocks as they were put onto a shelf: who looks for something there right after needn't
// read and unpack whole blocks, and needn't wait until they are there. A nil one keeps nothing.
type Glimpses struct {
	mu     sync.Mutex
	blocks map[store.Name][]glimpse
	left   int
	missed bool
}

type glimpse struct {
	off int64 // byte of the block
	b   []byte
}

// NewGlimpses gives some that nothing is kept in yet.
func NewGlimpses() *Glimpses {
	return &Glimpses{blocks: map[store.Name][]glimpse{}, left: mostGlimpses}
}

// Keep keeps a copy of a stretch of a block, as long as there is room.
func (g *Glimpses) Keep(n store.Name, off int64, b []byte) {
	if g == nil {
		return
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	same := func(x glimpse) bool { return x.off == off && len(x.b) == len(b) }
	if len(b) > g.left || slices.ContainsFunc(g.blocks[n], same) {
		return
	}
	g.left -= len(b)
	g.blocks[n] = append(g.blocks[n], glimpse{off, bytes.Clone(b)})
}

// read fills p with what stands at byte off of a block; false where that wasn't kept.
func (g *Glimpses) read(n store.Name, p []byte, off int64) bool {
	if g == nil {
		return false
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, x := range g.blocks[n] {
		if x.off <= off && off+int64(len(p)) <= x.off+int64(len(x.b)) {
			copy(p, x.b[off-x.off:])
			return true
		}
	}
	return false
}

// node gives a node of a block map, which is kept whole; nil where it wasn't kept.
func (g *Glimpses) node(n store.Name) []byte {
	if g == nil {
		return nil
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, x := range g.blocks[n] {
		if x.off == 0 {
			return x.b
		}
	}
	return nil
}

// Missed says whether something was looked for, by somebody who had nothing but glimpses, that wasn't kept.
func (g *Glimpses) Missed() bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.missed
}

// errMissed means that nothing but glimpses is there, and they don't go far enough.
var errMissed = errors.New("it was not kept in memory")

// glancing is how a context's disks are read.
type glancing struct {
	g    *Glimpses
	only context.CancelFunc // called where they don't go far enough; nil where the shelf's blocks are there
}

// miss says that something wasn't kept; nil where it may be read from the shelf.
func (w glancing) miss() error {
	if w.only == nil {
		return nil
	}
	w.g.mu.Lock()
	w.g.missed = true
	w.g.mu.Unlock()
	w.only()
	return errMissed
}

type glancingKey struct{}

// WithGlimpses gives a context whose disks are read from glimpses as far as those go.
func WithGlimpses(ctx context.Context, g *Glimpses) context.Context {
	return context.WithValue(ctx, glancingKey{}, glancing{g: g})
}

// OnlyGlimpses gives a context whose disks are read from glimpses alone: those of a twin that isn't on the shelf so
// far. It ends where they don't go far enough.
func OnlyGlimpses(ctx context.Context, g *Glimpses) (only context.Context, end context.CancelFunc) {
	only, end = context.WithCancel(ctx)
	return context.WithValue(only, glancingKey{}, glancing{g, end}), end
}

func glancingOf(ctx context.Context) glancing {
	w, _ := ctx.Value(glancingKey{}).(glancing)
	return w
}
