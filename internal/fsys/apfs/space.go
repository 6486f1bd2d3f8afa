package apfs

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"iter"

	"twinshelf/internal/container/fusion"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// space is the space manager: a bitmap for each chunk of blocks, named by blocks of chunk infos, which are named by it
// or, in large containers, by blocks of addresses.
type space struct {
	at       int64 // block
	blocks   int64 // that its object takes
	perChunk int64
	// infos are the blocks of chunk infos, of which the first mainInfos are of the first device; lists those of
	// addresses.
	infos, lists []int64
	mainInfos    int
	pool         extent // the manager's own blocks
	bitmaps      extent // for them
}

// mostInfos bounds the blocks of chunk infos: of one for 126 chunks of 32,768 blocks.
const mostInfos = 1 << 22

func (c *Container) openSpace(oid uint64) (*space, error) {
	where, ok := c.ephemeral[oid]
	if !ok {
		return nil, fmt.Errorf("object %d isn't in the checkpoint", oid)
	}
	b, err := c.large(where, typeSpace)
	if err != nil {
		return nil, err
	}
	le, at := binary.LittleEndian, where.first
	s := &space{at: at, blocks: where.count, perChunk: int64(le.Uint32(b[spaceBlocksPerChunk:])),
		pool:    extent{int64(le.Uint64(b[spacePoolBase:])), int64(min(le.Uint64(b[spacePool:]), 1<<60))},
		bitmaps: extent{int64(le.Uint64(b[spaceBitmapBase:])), int64(le.Uint32(b[spaceBitmapSize:]))}}
	first, second := b[spaceDevice:spaceTier2], b[spaceTier2:spaceTier2+spaceTier2-spaceDevice]
	if err := c.share(at, blocksOf(first), blocksOf(second)); err != nil {
		return nil, err
	}
	switch {
	case s.perChunk != 8*c.unit:
		return nil, fsys.Contradiction(at*c.unit, "chunks of %d blocks are not known", s.perChunk)
	case !c.within(s.pool) || !c.within(s.bitmaps):
		return nil, fsys.Contradiction(at*c.unit, "its own blocks reach beyond the container")
	}
	if err := c.readDevice(s, b, first); err != nil {
		return nil, err
	}
	if s.mainInfos = len(s.infos); c.fused {
		err = c.readDevice(s, b, second)
	}
	return s, err
}

// blocksOf is how many blocks a device has, by what the space manager says of it.
func blocksOf(device []byte) int64 {
	return int64(min(binary.LittleEndian.Uint64(device[spaceDevBlocks:]), 1<<59))
}

// share sees that the devices have the blocks that the space manager, at a block, manages, and where the second begins.
func (c *Container) share(at, first, second int64) error {
	switch {
	case !c.fused && first != c.blocks:
		return fsys.Contradiction(at*c.unit, "it manages %d blocks, and the container has %d", first, c.blocks)
	case !c.fused && second != 0:
		return fsys.Contradiction(at*c.unit, "it manages a second device, too")
	case !c.fused:
		return nil
	case first < 1 || second < 1 || first+second > c.blocks:
		return fsys.Contradiction(at*c.unit, "it manages %d and %d blocks, and there are %d", first, second, c.blocks)
	}
	b, err := c.block(first)
	if err != nil {
		return err
	}
	if string(b[superMagic:superMagic+4]) != magicSuper || !bytes.Equal(b[superUUID:superUUID+16],
		c.super[superUUID:superUUID+16]) {
		return fsys.Contradiction(first*c.unit, "its second device isn't there")
	}
	c.second, c.blocks = first, first+second
	return nil
}

// address is the block that an address names: those of a second device follow those of the first.
func (c *Container) address(a uint64) int64 {
	if large := fusion.Large(c.unit); c.second > 0 && a&large != 0 {
		return c.second + int64(min(a&^large, 1<<61))
	}
	return int64(min(a, 1<<62))
}

// readDevice finds the blocks of chunk infos of a device, which the manager's object names.
func (c *Container) readDevice(s *space, b, device []byte) error {
	le, at := binary.LittleEndian, s.at
	infos, lists := int64(le.Uint32(device[spaceDevInfos:])), int64(le.Uint32(device[spaceDevLists:]))
	from, had := int64(le.Uint32(device[spaceDevAddresses:])), len(s.infos)
	if infos > mostInfos || lists > infos {
		return fsys.Contradiction(at*c.unit, "%d blocks of chunks in %d lists", infos, lists)
	}
	n := infos
	if lists > 0 {
		n = lists
	}
	if from < objHead || from+8*n > int64(len(b)) {
		return fsys.Contradiction(at*c.unit, "%d addresses don't fit into a block", n)
	}
	addresses := make([]int64, n)
	for i := range addresses {
		addresses[i] = c.address(le.Uint64(b[from+8*int64(i):]))
	}
	if lists == 0 {
		s.infos = append(s.infos, addresses...)
		return nil
	}
	s.lists = append(s.lists, addresses...)
	for _, l := range addresses {
		if err := c.readList(s, l); err != nil {
			return err
		}
	}
	if int64(len(s.infos)-had) != infos {
		return fsys.Contradiction(at*c.unit, "%d blocks of chunks are listed, not %d", len(s.infos)-had, infos)
	}
	return nil
}

// readList reads a block of addresses.
func (c *Container) readList(s *space, at int64) error {
	b, err := c.object(at, typeAddresses)
	if err != nil {
		return err
	}
	le := binary.LittleEndian
	n := int(le.Uint32(b[listCount:]))
	if n > (len(b)-listEntries)/8 || len(s.infos)+n > mostInfos {
		return fsys.Contradiction(at*c.unit, "a list of %d addresses", n)
	}
	for i := range n {
		s.infos = append(s.infos, c.address(le.Uint64(b[listEntries+8*i:])))
	}
	return nil
}

// chunk is a stretch of blocks with a bitmap.
type chunk struct {
	blocks extent
	bitmap int64 // block; 0 where all are free
}

// chunks yields all chunks in order. They must be those of the whole container.
func (c *Container) chunks() iter.Seq2[chunk, error] {
	return func(yield func(chunk, error) bool) {
		le := binary.LittleEndian
		at, end := int64(0), c.blocks
		if c.second > 0 {
			end = c.second
		}
		for i, info := range c.space.infos {
			if i == c.space.mainInfos && at == c.second {
				end = c.blocks
			}
			b, err := c.object(info, typeChunks)
			if err != nil {
				yield(chunk{}, err)
				return
			}
			n := int(le.Uint32(b[listCount:]))
			if n > (len(b)-listEntries)/chunkEntry {
				yield(chunk{}, fsys.Contradiction(info*c.unit, "%d chunks in a block", n))
				return
			}
			for j := range n {
				e := b[listEntries+j*chunkEntry:]
				k := chunk{extent{at, int64(le.Uint32(e[chunkBlocks:]) & chunkCountMask)},
					c.address(le.Uint64(e[chunkBitmap:]))}
				free := int64(le.Uint32(e[chunkFree:]) & chunkCountMask)
				switch {
				case k.blocks.count == 0 || k.blocks.count > c.space.perChunk || at+k.blocks.count > end ||
					k.blocks.count < c.space.perChunk && at+k.blocks.count < end:
					err = fsys.Contradiction(info*c.unit, "a chunk of %d blocks at block %d", k.blocks.count, at)
				case k.bitmap == 0 && free != k.blocks.count:
					err = fsys.Contradiction(info*c.unit, "a chunk without a bitmap has %d of %d blocks free", free,
						k.blocks.count)
				}
				if !yield(k, err) || err != nil {
					return
				}
				at += k.blocks.count
			}
		}
		if at != c.blocks {
			yield(chunk{}, fsys.Contradiction(c.space.at*c.unit, "its chunks end at block %d of %d", at, c.blocks))
		}
	}
}

// Used yields what the space manager's bitmaps mark, the first block, and the areas that are written in turn:
// checkpoints, the manager's own blocks and their bitmaps.
func (c *Container) Used() iter.Seq2[span.Span, error] {
	return func(yield func(span.Span, error) bool) {
		always := span.Of(c.span(extent{0, 1}), c.span(c.descriptions), c.span(c.data), c.span(c.space.pool),
			c.span(c.space.bitmaps))
		var pending span.Span
		stopped := false
		emit := func(sp span.Span) bool {
			if sp.Start == pending.End {
				pending.End = sp.End
				return true
			}
			stopped = !pending.Empty() && !yield(pending, nil)
			pending = sp
			return !stopped
		}
		for k, err := range c.chunks() {
			var used span.Set
			if err == nil {
				used, err = c.usedIn(k)
			}
			if err != nil {
				yield(span.Span{}, err)
				return
			}
			for sp := range used.Union(always.Clip(c.span(k.blocks))).All() {
				if !emit(sp) {
					return
				}
			}
		}
		if !stopped && !pending.Empty() {
			yield(pending, nil)
		}
	}
}

// usedIn is what a chunk's bitmap marks.
func (c *Container) usedIn(k chunk) (used span.Set, err error) {
	if k.bitmap == 0 {
		return used, nil
	}
	b, err := c.block(k.bitmap)
	if err != nil {
		return used, err
	}
	for from, to := range fsys.Runs(b, int(k.blocks.count)) {
		used.Add(c.span(extent{k.blocks.first + int64(from), int64(to - from)}))
	}
	return used, nil
}
