package hfsplus

import (
	"encoding/binary"
	"fmt"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

var _ fsys.Resizer = (*Volume)(nil)

// Resize gives the volume the blocks of a larger part, or takes those away that a smaller one hasn't. Nothing in it
// counts from anywhere but its own beginning, so another place changes nothing.
func (v *Volume) Resize(b fsys.Bounds) (*fsys.Change, error) {
	c := &fsys.Change{Size: v.info.Size}
	if b.Size > 0 && (b.Size < v.info.Size || b.Size < v.part && !v.wrapped && v.copyEnd() > b.Size) {
		return v.shrink(b.Size)
	}
	if b.Size <= v.info.Size {
		return c, nil
	}
	if why := v.fixed(); why != "" {
		c.Notes = []string{"it keeps its size: " + why}
		return c, nil
	}
	return c, v.grow(c, b.Size)
}

// copyEnd is where the last copy of the header ends, with what belongs to it.
func (v *Volume) copyEnd() int64 {
	all := v.headers()
	return all[len(all)-1] + copyAt
}

// tailOf is where the header's copy begins in a part of so many bytes, and which of its blocks have something of it.
func tailOf(size, unit, blocks int64) (at, firstBlock int64) {
	at = size/minBlock*minBlock - copyAt
	return at, min(at/unit, blocks)
}

// growth is what a larger volume becomes.
type growth struct {
	v      *Volume
	blocks int64 // afterwards
	copyAt int64 // of the header's copy afterwards, bytes
	tail   int64 // the first block that has something of it
	more   int64 // blocks that the allocation file takes, the first of the new ones
	bitmap []extent
	patch  []disk.Patch
}

// grow makes the allocation file longer, where it must be, and writes both headers (TN1150, Allocation File and Volume
// Header).
func (v *Volume) grow(c *fsys.Change, size int64) error {
	g := &growth{v: v, blocks: min(size/v.unit, maxBlocks), bitmap: slices.Clone(v.bitmap.first)}
	g.copyAt, g.tail = tailOf(size, v.unit, g.blocks)
	g.more = max(0, ((g.blocks+7)/8+v.unit-1)/v.unit-v.bitmap.blocks)
	switch {
	case g.blocks <= v.blocks || v.blocks+g.more >= g.tail:
		c.Notes = append(c.Notes, "it keeps its size: there is too little new room")
		return nil
	case countOf(v.bitmap.first) != v.bitmap.blocks || g.more > 0 && len(v.bitmap.first) == extents:
		c.Notes = append(c.Notes, "it keeps its size: its allocation file lies in too many pieces")
		return nil
	}
	if g.more > 0 {
		g.bitmap = append(g.bitmap, extent{v.blocks, g.more})
	}
	freed, err := g.writeMap()
	if err != nil {
		return fmt.Errorf("allocation file: %w", err)
	}
	g.writeHeaders(freed)
	for _, p := range []disk.Patch{{Off: g.copyAt + headerLen, Zeros: size - g.copyAt - headerLen}} {
		p.Why = "end of the volume"
		g.put(p)
	}
	c.Size, c.Patches = g.blocks*v.unit, g.patch
	c.Patches, err = disk.SortPatches(c.Patches, size)
	return err
}

// put lays a patch over those before.
func (g *growth) put(p disk.Patch) {
	if len(p.Data) > 0 || p.Zeros > 0 {
		g.patch = disk.Over([]disk.Patch{p}, g.patch)
	}
}

// writeMap frees the blocks that had the header's copy, and marks the allocation file's new ones and those of the copy.
func (g *growth) writeMap() (freed int64, err error) {
	v := g.v
	oldTail := v.blocks // of a copy that can't be found, or lies after the last block, nothing is freed
	for _, at := range v.headers()[1:] {
		oldTail = min(oldTail, at/v.unit)
		g.put(disk.Patch{Off: at, Zeros: headerLen, Why: "the header's old copy"})
	}
	// All after the old end is made anew, from the byte on that has the first block of the old copy.
	from, end := oldTail/8, (g.blocks+7)/8
	total := countOf(g.bitmap) * v.unit
	g.bytes(from, disk.Patch{Zeros: total - from})
	head := make([]byte, max(1, (v.blocks+g.more+7)/8-from))
	if from*8 < v.blocks { // the byte has bits of blocks before the copy
		file, err := v.mapped(v.bitmap)
		if err == nil {
			err = disk.ReadFull(file, head[:1], from)
		}
		if err != nil {
			return 0, err
		}
		clearBits(head, oldTail-from*8, 8-oldTail%8)
	}
	setBits(head, v.blocks-from*8, g.more)
	g.bytes(from, disk.Patch{Data: head})
	tail := make([]byte, end-g.tail/8)
	if at := g.tail/8 - from; at < int64(len(head)) { // they meet in one byte
		tail[0] = head[at]
	}
	setBits(tail, g.tail%8, g.blocks-g.tail)
	g.bytes(g.tail/8, disk.Patch{Data: tail})
	return v.blocks - oldTail, nil
}

// bytes writes at a byte of the allocation file.
func (g *growth) bytes(at int64, p disk.Patch) {
	p.Why = "allocation file"
	for _, q := range inFile(g.bitmap, g.v.unit, at, p) {
		g.put(q)
	}
}

func (g *growth) writeHeaders(freed int64) {
	v, be := g.v, binary.BigEndian
	b := slices.Clone(v.head)
	free := int64(be.Uint32(b[headFree:])) + freed + g.blocks - v.blocks - g.more - (g.blocks - g.tail)
	be.PutUint32(b[headBlocks:], uint32(g.blocks))
	be.PutUint32(b[headFree:], uint32(max(0, min(free, maxBlocks))))
	n := countOf(g.bitmap)
	be.PutUint64(b[headBitmap+forkSize:], uint64(n*v.unit))
	be.PutUint32(b[headBitmap+forkBlocks:], uint32(n))
	for i, e := range g.bitmap {
		at := headBitmap + forkExtents + i*extentLen
		be.PutUint32(b[at:], uint32(e.first))
		be.PutUint32(b[at+4:], uint32(e.count))
	}
	g.put(disk.Patch{Off: headerAt, Data: b, Why: "volume header"})
	g.put(disk.Patch{Off: g.copyAt, Data: b, Why: "copy of the volume header"})
}
