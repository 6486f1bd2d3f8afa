package shelf

import (
	"bytes"
	"context"
	"sync"

	"twinshelf/internal/store"
)

// mostGlimpses is how much is kept of what was put onto a shelf, in bytes.
const mostGlimpses = 16 << 20

// Glimpses are stretches of blocks as they were put onto a shelf: who looks for something there right after needn't
// read and unpack whole blocks. A nil one keeps nothing.
type Glimpses struct {
	mu     sync.Mutex
	blocks map[store.Name][]glimpse
	left   int
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
	if len(b) > g.left {
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

type glimpsesKey struct{}

// WithGlimpses gives a context whose disks are read from glimpses as far as those go.
func WithGlimpses(ctx context.Context, g *Glimpses) context.Context {
	return context.WithValue(ctx, glimpsesKey{}, g)
}

func glimpsesOf(ctx context.Context) *Glimpses {
	g, _ := ctx.Value(glimpsesKey{}).(*Glimpses)
	return g
}
