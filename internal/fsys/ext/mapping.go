package ext

import (
	"encoding/binary"
	"fmt"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

// extents lists where a file's contents lie, in order.
func (v *Volume) extents(n *inode) ([]extent, error) {
	var out []extent
	err := v.mapping(n, mapWalk{extent: func(x extent) error {
		if len(out) >= maxExtents {
			return fmt.Errorf("a file has more than %d extents", maxExtents)
		}
		if k := len(out) - 1; k >= 0 && n.flags&flagExtents == 0 && out[k].logical+out[k].n == x.logical &&
			out[k].physical+out[k].n == x.physical {
			out[k].n++
		} else {
			out = append(out, x)
		}
		return nil
	}})
	return out, err
}

// mapWalk follows what an inode says of where its contents lie. Its functions may be nil.
type mapWalk struct {
	// extent gets the blocks that hold contents.
	extent func(extent) error
	// reserved gets blocks that belong to the file and hold no contents: not yet written, or past its end.
	reserved func(block, n int64) error
	// node gets the blocks that the map itself takes.
	node func(block int64) error

	v      *Volume
	seed   *uint32 // begins the checksums of the tree's blocks; nil when they aren't looked at
	budget int
	end    int64 // blocks that the file's size needs
	at     int64 // logical block, while a block map is read
}

// mapping walks the tree of extents ("Extent Tree") or the block map ("Direct/Indirect Block Addressing") of an inode.
func (v *Volume) mapping(n *inode, w mapWalk) error {
	w.v, w.budget = v, maxMapBlocks
	if n.flags&flagExtents == 0 {
		w.end = (n.size + v.blockSize - 1) / v.blockSize
		return w.blockMap(n)
	}
	if v.ro&roMetadataCsum != 0 {
		w.seed = new(csum(v.seed, u32(uint32(n.number)), n.raw[inoGeneration:inoGeneration+4]))
	}
	return w.tree(n.block, -1)
}

func (w *mapWalk) found(x extent) error {
	if x.physical <= 0 || x.physical+x.n > w.v.blocks {
		return fmt.Errorf("an extent of %d blocks at block %d lies beyond the volume", x.n, x.physical)
	}
	if w.extent == nil {
		return nil
	}
	return w.extent(x)
}

func (w *mapWalk) kept(block, n int64) error {
	if w.reserved == nil {
		return nil
	}
	if block <= 0 || block+n > w.v.blocks {
		return fmt.Errorf("room of %d blocks at block %d lies beyond the volume", n, block)
	}
	return w.reserved(block, n)
}

// read reads a block of the map.
func (w *mapWalk) read(block int64) ([]byte, error) {
	if w.budget--; w.budget < 0 || block <= 0 || block >= w.v.blocks {
		return nil, fmt.Errorf("what says where a file lies points to block %d of %d, or takes more than %d blocks",
			block, w.v.blocks, maxMapBlocks)
	}
	if w.node != nil {
		if err := w.node(block); err != nil {
			return nil, err
		}
	}
	b := make([]byte, w.v.blockSize)
	return b, disk.ReadFull(w.v.r, b, block*w.v.blockSize)
}

// leaf takes an extent; what isn't written yet is only kept.
func (w *mapWalk) leaf(x extent, written bool) error {
	if !written {
		return w.kept(x.physical, x.n)
	}
	return w.found(x)
}

// tree reads one node of a tree of extents; depth must fall by one with each level.
func (w *mapWalk) tree(b []byte, wantDepth int) error {
	entries, depth, err := splitNode(b, wantDepth)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if depth == 0 {
			if err := w.leaf(entryExtent(e)); err != nil {
				return err
			}
			continue
		}
		child := entryChild(e)
		nb, err := w.read(child)
		if err != nil {
			return err
		}
		if tail := nodeTail(nb); w.seed != nil &&
			(tail+4 > len(nb) || csum(*w.seed, nb[:tail]) != binary.LittleEndian.Uint32(nb[tail:])) {
			return fsys.Contradiction(child*w.v.blockSize, "the checksum of a block of an extent tree is wrong")
		}
		if err := w.tree(nb, depth-1); err != nil {
			return err
		}
	}
	return nil
}

// blockMap reads the twelve direct blocks and the three trees. Behind the file's end it goes on only where somebody
// wants to know what is reserved there.
func (w *mapWalk) blockMap(n *inode) error {
	for i := 0; i < 15 && w.on(); i++ {
		if err := w.indirect(int64(binary.LittleEndian.Uint32(n.block[4*i:])), max(0, i-11)); err != nil {
			return err
		}
	}
	return nil
}

func (w *mapWalk) on() bool { return w.at < w.end || w.reserved != nil }

func (w *mapWalk) indirect(p int64, level int) error {
	switch {
	case p == 0:
		skip := int64(1)
		for range level {
			skip *= w.v.blockSize / 4
		}
		w.at += skip
		return nil
	case level == 0:
		w.at++
		if w.at > w.end {
			return w.kept(p, 1)
		}
		return w.found(extent{w.at - 1, p, 1})
	}
	b, err := w.read(p)
	if err != nil {
		return err
	}
	for i := 0; i < len(b) && w.on(); i += 4 {
		if err := w.indirect(int64(binary.LittleEndian.Uint32(b[i:])), level-1); err != nil {
			return err
		}
	}
	return nil
}
