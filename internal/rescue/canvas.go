package rescue

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"sync"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
)

// canvas is a disk as far as it was got: blocks on the shelf, and those that are being filled in memory. It is used by
// one goroutine.
type canvas struct {
	shelf   *shelf.Shelf
	session *shelf.Session
	block   int64
	base    *shelf.Disk    // what a sitting before got; nil for none
	regions []shelf.Region // Span and Nodes
	nodes   map[place]*knot
	tiles   map[place]*tile
	clock   int64
	added   int64 // bytes that came new to the shelf

	flying  map[place]bool // tiles that are being put
	landed  chan landing
	putting sync.WaitGroup
	zero    []byte
}

// place is a block or a node of a region.
type place struct {
	region int
	index  int64
}

// tile is a block that is being filled.
type tile struct {
	b     []byte
	dirty bool
	used  int64
}

// knot is a node of a block map.
type knot struct {
	refs  []shelf.BlockRef
	dirty bool
	used  int64
}

// landing is a tile that was put.
type landing struct {
	at    place
	ref   shelf.BlockRef
	added int64
	err   error
}

const (
	mostTiles  = 32 // blocks in memory
	mostKnots  = 128
	mostFlying = 4
)

func newCanvas(s *shelf.Shelf, session *shelf.Session, base *shelf.Disk) *canvas {
	return &canvas{shelf: s, session: session, block: int64(s.BlockSize()), base: base, nodes: map[place]*knot{},
		tiles: map[place]*tile{}, flying: map[place]bool{}, landed: make(chan landing, mostFlying),
		zero: make([]byte, s.BlockSize())}
}

// spanOf is where a block lies on the disk.
func (c *canvas) spanOf(at place) span.Span {
	r := &c.regions[at.region]
	return span.At(r.Span.Start+at.index*c.block, c.block).Intersect(r.Span)
}

// each gives the blocks that a stretch of the disk touches.
func (c *canvas) each(sp span.Span, do func(at place, part span.Span) error) error {
	for i := range c.regions {
		in := sp.Intersect(c.regions[i].Span)
		for !in.Empty() {
			at := place{i, (in.Start - c.regions[i].Span.Start) / c.block}
			part := in.Intersect(c.spanOf(at))
			if err := do(at, part); err != nil {
				return err
			}
			in.Start = part.End
		}
	}
	return nil
}

// write puts bytes onto the canvas.
func (c *canvas) write(ctx context.Context, p []byte, off int64) error {
	return c.each(span.At(off, int64(len(p))), func(at place, part span.Span) error {
		on := c.spanOf(at)
		t, err := c.tile(ctx, at, part == on)
		if err != nil {
			return err
		}
		copy(t.b[part.Start-on.Start:], p[part.Start-off:part.End-off])
		t.dirty = true
		return nil
	})
}

// blank notes that a stretch holds zeros. Whole blocks of which nothing is there yet take no memory for that.
func (c *canvas) blank(ctx context.Context, sp span.Span) error {
	return c.each(sp, func(at place, part span.Span) error {
		if part == c.spanOf(at) && c.tiles[at] == nil && !c.flying[at] {
			k, err := c.knot(ctx, place{at.region, at.index / shelf.NodeBlocks})
			if err != nil {
				return err
			}
			if r := &k.refs[at.index%shelf.NodeBlocks]; r.Kind == disk.Undefined {
				r.Kind, k.dirty = disk.Zero, true
				return nil
			}
		}
		return c.write(ctx, c.zero[:part.Len()], part.Start)
	})
}

// read reads what is on the canvas; zeros where nothing is.
func (c *canvas) read(ctx context.Context, p []byte, off int64) error {
	return c.each(span.At(off, int64(len(p))), func(at place, part span.Span) error {
		t, err := c.tile(ctx, at, false)
		if err == nil {
			copy(p[part.Start-off:part.End-off], t.b[part.Start-c.spanOf(at).Start:])
		}
		return err
	})
}

// tile gives a block in memory; with fresh its bytes will all be written.
func (c *canvas) tile(ctx context.Context, at place, fresh bool) (*tile, error) {
	c.clock++
	if t := c.tiles[at]; t != nil {
		t.used = c.clock
		return t, nil
	}
	for c.flying[at] {
		if err := c.land(<-c.landed); err != nil {
			return nil, err
		}
	}
	if len(c.tiles) >= mostTiles {
		if err := c.evict(ctx); err != nil {
			return nil, err
		}
	}
	if _, err := c.knot(ctx, place{at.region, at.index / shelf.NodeBlocks}); err != nil {
		return nil, err // it must be there when the block lands
	}
	t := &tile{b: make([]byte, c.spanOf(at).Len()), used: c.clock}
	if !fresh {
		if err := c.load(ctx, at, t.b); err != nil {
			return nil, err
		}
	}
	c.tiles[at] = t
	return t, nil
}

// load reads a block from the shelf.
func (c *canvas) load(ctx context.Context, at place, b []byte) error {
	ref, err := c.ref(ctx, at)
	if err != nil || ref.Kind != disk.Data {
		return err
	}
	got, err := c.fromShelf(ctx, ref.Name)
	if err == nil && len(got) != len(b) {
		err = fmt.Errorf("block %s has %d bytes, its place has %d", ref.Name, len(got), len(b))
	}
	copy(b, got)
	return err
}

// fromShelf reads a block; one that this sitting has put may have to be settled first.
func (c *canvas) fromShelf(ctx context.Context, n store.Name) ([]byte, error) {
	b, err := c.shelf.Block(ctx, n, nil)
	if errors.Is(err, store.ErrMissing) {
		if err = c.session.Settle(ctx); err == nil {
			b, err = c.shelf.Block(ctx, n, nil)
		}
	}
	return b, err
}

// evict lets the block go that was used longest ago.
func (c *canvas) evict(ctx context.Context) error {
	var oldest place
	least := c.clock + 1
	for at, t := range c.tiles {
		if t.used < least {
			oldest, least = at, t.used
		}
	}
	t := c.tiles[oldest]
	delete(c.tiles, oldest)
	if !t.dirty {
		return nil
	}
	return c.put(ctx, oldest, t.b)
}

// put sends a block to the shelf, beside the reading.
func (c *canvas) put(ctx context.Context, at place, b []byte) error {
	for len(c.flying) >= mostFlying {
		if err := c.land(<-c.landed); err != nil {
			return err
		}
	}
	c.flying[at] = true
	session := c.session
	c.putting.Go(func() {
		l := landing{at: at, ref: shelf.BlockRef{Kind: disk.Zero}}
		if string(b) != string(c.zero[:len(b)]) {
			l.ref.Kind = disk.Data
			l.ref.Name, l.added, l.err = session.Put(ctx, b)
		}
		c.landed <- l
	})
	return nil
}

// land notes where a block went.
func (c *canvas) land(l landing) error {
	delete(c.flying, l.at)
	if l.err != nil {
		return l.err
	}
	c.added += l.added
	k := c.nodes[place{l.at.region, l.at.index / shelf.NodeBlocks}]
	k.refs[l.at.index%shelf.NodeBlocks], k.dirty = l.ref, true
	return nil
}

// ref is what a block holds on the shelf. Its node stays in memory while blocks of it are.
func (c *canvas) ref(ctx context.Context, at place) (shelf.BlockRef, error) {
	k, err := c.knot(ctx, place{at.region, at.index / shelf.NodeBlocks})
	if err != nil {
		return shelf.BlockRef{}, err
	}
	return k.refs[at.index%shelf.NodeBlocks], nil
}

func (c *canvas) knot(ctx context.Context, at place) (*knot, error) {
	c.clock++
	if k := c.nodes[at]; k != nil {
		k.used = c.clock
		return k, nil
	}
	if len(c.nodes) >= mostKnots {
		if err := c.untie(ctx); err != nil {
			return nil, err
		}
	}
	r := &c.regions[at.region]
	n := shelf.NodeLen(r.Span.Len(), c.block, int(at.index))
	k := &knot{used: c.clock}
	if name := r.Nodes[at.index]; name != "" {
		parsed, err := store.ParseName(name)
		if err != nil {
			return nil, err
		}
		b, err := c.fromShelf(ctx, parsed)
		if err == nil {
			k.refs, err = shelf.DecodeNode(b, n)
		}
		if err != nil {
			return nil, fmt.Errorf("the block map of part %d: %w", r.Part, err)
		}
	} else {
		k.refs = make([]shelf.BlockRef, n)
	}
	c.nodes[at] = k
	return k, nil
}

// untie lets the node go that was used longest ago, of those whose blocks aren't in memory.
func (c *canvas) untie(ctx context.Context) error {
	busy := map[place]bool{}
	for at := range c.tiles {
		busy[place{at.region, at.index / shelf.NodeBlocks}] = true
	}
	for at := range c.flying {
		busy[place{at.region, at.index / shelf.NodeBlocks}] = true
	}
	var oldest place
	least := c.clock + 1
	for at, k := range c.nodes {
		if k.used < least && !busy[at] {
			oldest, least = at, k.used
		}
	}
	if err := c.keepKnot(ctx, oldest); err != nil {
		return err
	}
	delete(c.nodes, oldest)
	return nil
}

func (c *canvas) keepKnot(ctx context.Context, at place) error {
	k := c.nodes[at]
	if k == nil || !k.dirty {
		return nil
	}
	name := ""
	for _, r := range k.refs {
		if r.Kind == disk.Undefined {
			continue
		}
		n, added, err := c.session.Put(ctx, shelf.EncodeNode(k.refs))
		if err != nil {
			return err
		}
		name = n.String()
		c.added += added
		break
	}
	c.regions[at.region].Nodes[at.index], k.dirty = name, false
	return nil
}

// flush brings everything to the shelf that is in memory.
func (c *canvas) flush(ctx context.Context) error {
	for at, t := range c.tiles {
		if !t.dirty {
			continue
		}
		if err := c.put(ctx, at, t.b); err != nil {
			return err
		}
		t.dirty = false
	}
	for len(c.flying) > 0 {
		if err := c.land(<-c.landed); err != nil {
			return err
		}
	}
	for at := range c.nodes {
		if err := c.keepKnot(ctx, at); err != nil {
			return err
		}
	}
	return nil
}

// drop waits for what is under way, and forgets it.
func (c *canvas) drop() {
	for len(c.flying) > 0 {
		delete(c.flying, (<-c.landed).at)
	}
	c.putting.Wait()
}

// arranged is the canvas with the regions of the areas into which the disk is divided. What it has already stays where
// it is on the disk; had yields those stretches.
func (c *canvas) arranged(ctx context.Context, areas []span.Span, had iter.Seq[span.Span]) (*canvas, error) {
	n := newCanvas(c.shelf, c.session, c.base)
	n.regions = c.empty(areas)
	if c.adoptable(n.regions) {
		return c, nil
	}
	buf := make([]byte, c.block)
	for sp := range had {
		for part := range disk.Chunks(sp, c.block) {
			if err := c.read(ctx, buf[:part.Len()], part.Start); err != nil {
				return nil, err
			}
			if err := n.write(ctx, buf[:part.Len()], part.Start); err != nil {
				return nil, err
			}
		}
	}
	c.drop()
	n.added += c.added
	return n, nil
}

// empty are regions in which nothing is kept yet.
func (c *canvas) empty(areas []span.Span) []shelf.Region {
	var out []shelf.Region
	for _, sp := range areas {
		blocks := (sp.Len() + c.block - 1) / c.block
		out = append(out, shelf.Region{Span: sp,
			Nodes: make([]string, (blocks+shelf.NodeBlocks-1)/shelf.NodeBlocks)})
	}
	return out
}

// adoptable says whether the regions are just those that there are already.
func (c *canvas) adoptable(regions []shelf.Region) bool {
	if len(c.regions) != len(regions) {
		return false
	}
	for i := range regions {
		if c.regions[i].Span != regions[i].Span {
			return false
		}
	}
	return true
}

// begin divides the canvas as the sitting before did, and takes over what that got; without one it is a single area.
func (c *canvas) begin(size int64) {
	if c.base == nil {
		c.regions = c.empty([]span.Span{{End: size}})
		return
	}
	var areas []span.Span
	regions := c.base.Describe().Regions
	for _, r := range regions {
		areas = append(areas, r.Span)
	}
	c.regions = c.empty(areas)
	for i, r := range regions {
		copy(c.regions[i].Nodes, r.Nodes)
	}
}
