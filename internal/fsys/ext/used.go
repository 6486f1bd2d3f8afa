package ext

import (
	"encoding/binary"
	"fmt"
	"iter"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

type group struct {
	blockBitmap, inodeBitmap, inodeTable int64
	free                                 int64 // clusters
	uninit                               bool
	inodes                               int64 // at the start of the inode table, that were ever made
}

// descriptors reads all group descriptors.
func (v *geometry) descriptors() ([]group, error) {
	le := binary.LittleEndian
	groups := make([]group, 0, v.groups)
	buf := make([]byte, v.blockSize)
	csum := v.ro&(roGDTCsum|roMetadataCsum) != 0
	for i := range v.descBlocks {
		at := v.descBlock(i) * v.blockSize
		if err := disk.ReadFull(v.r, buf, at); err != nil {
			return nil, fmt.Errorf("group descriptors: %w", err)
		}
		for j := int64(0); j < v.descPerBlock && int64(len(groups)) < v.groups; j++ {
			d := buf[j*v.descSize:]
			g := group{
				blockBitmap: int64(le.Uint32(d[bgBlockBitmapLo:])), inodeBitmap: int64(le.Uint32(d[bgInodeBitmapLo:])),
				inodeTable: int64(le.Uint32(d[bgInodeTableLo:])), free: int64(le.Uint16(d[bgFreeBlocksLo:])),
				uninit: csum && le.Uint16(d[bgFlags:])&groupBlocksUninit != 0, inodes: v.inodesPerGrp,
			}
			if v.descSize >= 64 {
				g.blockBitmap |= int64(le.Uint32(d[bgBlockBitmapHi:])) << 32
				g.inodeBitmap |= int64(le.Uint32(d[bgInodeBitmapHi:])) << 32
				g.inodeTable |= int64(le.Uint32(d[bgInodeTableHi:])) << 32
				g.free |= int64(le.Uint16(d[bgFreeBlocksHi:])) << 16
			}
			if csum {
				g.inodes = v.inodesMade(d)
			}
			for _, b := range []int64{g.blockBitmap, g.inodeBitmap, g.inodeTable + v.tableBlocks() - 1} {
				if b <= v.firstData || b >= v.blocks {
					return nil,
						fsys.Contradiction(at+j*v.descSize, "the descriptor of group %d points to block %d of %d",
							len(groups), b, v.blocks)
				}
			}
			groups = append(groups, g)
		}
	}
	return groups, nil
}

// inodesMade is how many inodes of a group's table were ever made, where descriptors have checksums.
func (v *geometry) inodesMade(desc []byte) int64 {
	le := binary.LittleEndian
	if le.Uint16(desc[bgFlags:])&groupInodesUninit != 0 {
		return 0
	}
	unused := int64(le.Uint16(desc[bgUnusedLo:]))
	if v.descSize >= newDescSize {
		unused |= int64(le.Uint16(desc[bgUnusedHi:])) << 16
	}
	return max(0, v.inodesPerGrp-unused)
}

// tableBlocks is the length of one group's inode table.
func (v *geometry) tableBlocks() int64 {
	return (v.inodesPerGrp*v.inodeSize + v.blockSize - 1) / v.blockSize
}

// superBlock is the block number of the first super block.
func (v *geometry) superBlock() int64 { return superOffset / v.blockSize }

// descBlock is where block i of the group descriptors stands ("Meta Block Groups").
func (v *geometry) descBlock(i int64) int64 {
	if v.incompat&incompatMetaBG == 0 || i < v.firstMetaBG {
		return v.superBlock() + 1 + i
	}
	bg := i * v.descPerBlock
	at := v.groupStart(bg)
	if v.hasSuper(bg) {
		at++
	}
	if bg == 0 && v.blockSize == 1024 && v.firstData == 0 {
		at++ // the super block itself is in block 1
	}
	return at
}

func (v *geometry) groupStart(g int64) int64 { return v.firstData + g*v.blocksPerGrp }

// hasSuper says whether group g begins with a copy of the super block
// ("Sparse Super Blocks").
func (v *geometry) hasSuper(g int64) bool {
	switch {
	case g == 0:
		return true
	case v.compat&compatSparseSuper2 != 0:
		return g == v.backupBGs[0] || g == v.backupBGs[1]
	case g == 1 || v.ro&roSparseSuper == 0:
		return true
	}
	for _, base := range []int64{3, 5, 7} {
		n := base
		for n < g {
			n *= base
		}
		if n == g {
			return true
		}
	}
	return false
}

// baseMeta is the number of blocks at the start of group g that hold the super
// block, descriptors and room for more descriptors.
func (v *geometry) baseMeta(g int64) int64 {
	n := int64(0)
	if v.hasSuper(g) {
		n = 1
	}
	metaBG := v.incompat&incompatMetaBG != 0
	if !metaBG || g < v.firstMetaBG*v.descPerBlock {
		if n == 0 {
			return 0
		}
		if metaBG {
			return n + v.firstMetaBG + v.reservedGDT
		}
		return n + v.descBlocks + v.reservedGDT
	}
	first := g / v.descPerBlock * v.descPerBlock
	if g == first || g == first+1 || g == first+v.descPerBlock-1 {
		n++
	}
	return n
}

// groupSpan is the bytes of group g.
func (v *geometry) groupSpan(g int64) span.Span {
	start := v.groupStart(g)
	return span.Span{Start: start * v.blockSize, End: min(start+v.blocksPerGrp, v.blocks) * v.blockSize}
}

// metadata collects the bitmaps and inode tables of all groups. Only groups whose
// bitmap was never written need it: with flex_bg they can hold the tables of others.
func (v *geometry) metadata(groups []group) span.Set {
	bs := v.blockSize
	all := make([]span.Span, 0, 3*len(groups))
	for _, g := range groups {
		all = append(all, span.At(g.blockBitmap*bs, bs), span.At(g.inodeBitmap*bs, bs),
			span.At(g.inodeTable*bs, v.tableBlocks()*bs))
	}
	return span.Of(all...)
}

// Used yields everything the block bitmaps name, with the maps of
// uninitialised groups computed; the start-up area before the first data block
// is in no bitmap and is added. Each group's free count must agree with its bitmap.
func (v *Volume) Used() iter.Seq2[span.Span, error] {
	return func(yield func(span.Span, error) bool) {
		groups, err := v.descriptors()
		if err != nil {
			yield(span.Span{}, err)
			return
		}
		meta := v.metadata(groups)
		bitmap := make([]byte, v.blockSize)
		boot := span.Span{End: max(v.firstData, v.superBlock()+1) * v.blockSize}
		for i, g := range groups {
			used, err := v.groupUsed(int64(i), g, meta, bitmap)
			if err != nil {
				yield(span.Span{}, err)
				return
			}
			if i == 0 {
				used = used.Union(span.Of(boot))
			}
			for sp := range used.All() {
				if !yield(sp, nil) {
					return
				}
			}
		}
	}
}

func (v *Volume) groupUsed(i int64, g group, meta span.Set, bitmap []byte) (span.Set, error) {
	area := v.groupSpan(i)
	unit := v.blockSize * v.ratio
	clusters := (area.Len() + unit - 1) / unit
	var used span.Set
	usedClusters := int64(0)
	if g.uninit {
		base := span.At(area.Start, v.baseMeta(i)*v.blockSize)
		for sp := range meta.Clip(area).Union(span.Of(base)).All() {
			// Whole clusters: a cluster with metadata in it is taken.
			first, last := (sp.Start-area.Start)/unit, (sp.End-area.Start+unit-1)/unit
			used.Add(span.Span{Start: area.Start + first*unit, End: min(area.Start+last*unit, area.End)})
		}
		for sp := range used.All() {
			usedClusters += (sp.Len() + unit - 1) / unit
		}
	} else {
		if err := disk.ReadFull(v.r, bitmap, g.blockBitmap*v.blockSize); err != nil {
			return used, fmt.Errorf("block bitmap of group %d: %w", i, err)
		}
		for from, to := range fsys.Runs(bitmap, int(clusters)) {
			used.Add(span.Span{Start: area.Start + int64(from)*unit, End: min(area.Start+int64(to)*unit, area.End)})
			usedClusters += int64(to - from)
		}
	}
	if clusters-usedClusters != g.free {
		return used, fsys.Contradiction(g.blockBitmap*v.blockSize,
			"group %d counts %d free blocks, its bitmap shows %d", i, g.free, clusters-usedClusters)
	}
	return used, nil
}
