package ext

import (
	"context"
	"encoding/binary"
	"fmt"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

var _ fsys.Accountable = (*Volume)(nil)

// Grid is the blocks of the volume; with bigalloc its maps count clusters of several.
func (v *Volume) Grid() fsys.Grid { return fsys.Grid{Unit: v.blockSize, Count: v.blocks} }

// Account enters what every group holds for itself and what every inode names: contents, the blocks of trees and maps,
// attributes, the journal and the room kept for descriptors. An inode whose group calls it free or never made is an
// error.
func (v *Volume) Account(ctx context.Context, l *fsys.Ledger) error {
	groups, err := v.descriptors()
	if err != nil {
		return err
	}
	a := &account{v: v, l: l, groups: groups, bitmap: make([]byte, v.blockSize)}
	if a.first, _, err = v.kernels(); err != nil {
		return err
	}
	if groups[0].inodes < a.first-1 { // the root directory is one of them
		return fsys.Contradiction(v.descBlock(0)*v.blockSize, "group 0 says that the file system's own inodes were "+
			"never made")
	}
	if err := a.structures(); err != nil {
		return err
	}
	for g := range groups {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := a.group(int64(g)); err != nil {
			return err
		}
	}
	return nil
}

type account struct {
	v      *Volume
	l      *fsys.Ledger
	groups []group
	first  int64 // number of the first inode that isn't the file system's own
	bitmap []byte
	table  []byte
}

func (a *account) blocks(from, n int64) span.Span {
	return span.At(from*a.v.blockSize, n*a.v.blockSize)
}

// structures enters super blocks, descriptors, bitmaps and inode tables.
func (a *account) structures() error {
	v := a.v
	self := fsys.Owner{Kind: "group", Number: 0}
	err := a.l.Need(a.blocks(v.superBlock(), 1), self)
	for i := int64(0); i < v.descBlocks && err == nil; i++ {
		err = a.l.Need(a.blocks(v.descBlock(i), 1), self)
	}
	if v.incompat&incompatMMP != 0 && err == nil {
		sb := make([]byte, superLen)
		if err = disk.ReadFull(v.r, sb, superOffset); err == nil {
			if at := int64(binary.LittleEndian.Uint64(sb[sbMMPBlock:])); at > 0 && at < v.blocks {
				err = a.l.Need(a.blocks(at, 1), self)
			}
		}
	}
	if err != nil {
		return err
	}
	for i, g := range a.groups {
		o := fsys.Owner{Kind: "group", Number: int64(i)}
		if n := v.baseMeta(int64(i)); i > 0 && n > 0 {
			if v.hasSuper(int64(i)) && (v.incompat&incompatMetaBG == 0 || int64(i) < v.firstMetaBG*v.descPerBlock) {
				n -= v.reservedGDT // that is the resize inode's
			}
			if err := a.l.Need(a.blocks(v.groupStart(int64(i)), n), o); err != nil {
				return err
			}
		}
		for _, sp := range []span.Span{a.blocks(g.blockBitmap, 1), a.blocks(g.inodeBitmap, 1),
			a.blocks(g.inodeTable, v.tableBlocks())} {
			if err := a.l.Own(sp, o); err != nil {
				return err
			}
		}
	}
	return nil
}

// group goes over the inodes of a group that were ever made.
func (a *account) group(g int64) error {
	v := a.v
	made := a.groups[g].inodes
	if made == 0 {
		return nil
	}
	if err := disk.ReadFull(v.r, a.bitmap, a.groups[g].inodeBitmap*v.blockSize); err != nil {
		return fmt.Errorf("inode bitmap of group %d: %w", g, err)
	}
	step := max(v.inodeSize, tableChunk/v.inodeSize*v.inodeSize)
	if a.table == nil {
		a.table = make([]byte, min(step, v.inodesPerGrp*v.inodeSize))
	}
	for off := int64(0); off < made*v.inodeSize; off += step {
		b := a.table[:min(step, made*v.inodeSize-off)]
		at := a.groups[g].inodeTable*v.blockSize + off
		if err := disk.ReadFull(v.r, b, at); err != nil {
			return fmt.Errorf("inodes of group %d: %w", g, err)
		}
		for i := int64(0); i < int64(len(b)); i += v.inodeSize {
			n := (off + i) / v.inodeSize
			if err := a.inode(g*v.inodesPerGrp+n+1, at+i, b[i:i+v.inodeSize],
				a.bitmap[n/8]&(1<<(n%8)) != 0); err != nil {
				return err
			}
		}
	}
	return nil
}

// inode enters what one inode names. marked is what the inode bitmap says.
func (a *account) inode(number, at int64, raw []byte, marked bool) error {
	le := binary.LittleEndian
	if le.Uint16(raw[inoLinks:]) == 0 && (number >= a.first || disk.IsZero(raw[inoBlock:inoBlock+inoBlockSz])) {
		return nil
	}
	if !marked {
		return fsys.Contradiction(at, "inode %d is in use and the inode bitmap calls it free", number)
	}
	n, err := a.v.decodeInode(number, at, raw)
	if err != nil {
		return err
	}
	o := fsys.Owner{Kind: "inode", Number: number}
	if block := a.v.attrBlock(n); block != 0 {
		if err := a.l.Share(a.blocks(block, 1), o); err != nil {
			return err
		}
	}
	if a.v.incompat&incompatEAInode != 0 {
		if err := a.values(n); err != nil {
			return err
		}
	}
	if err := a.contents(n, o); err != nil {
		return fmt.Errorf("inode %d: %w", number, err)
	}
	if n.mode&modeMask == modeDir {
		return a.names(n)
	}
	return nil
}

// contents enters where an inode's contents lie, and the blocks that say so.
func (a *account) contents(n *inode, o fsys.Owner) error {
	own := a.l.Own
	if n.number == resizeInode || n.number == badInode {
		own = a.l.Need // the first has the copies of descriptors to come, the second may have any block
	}
	switch mode := n.mode & modeMask; {
	case n.flags&flagInline != 0, mode == modeLink && a.v.fastLink(n):
		return nil
	case mode != modeFile && mode != modeDir && mode != modeLink && n.number >= a.first:
		return nil
	}
	return a.v.mapping(n, mapWalk{
		extent:   func(x extent) error { return own(a.blocks(x.physical, x.n), o) },
		reserved: func(block, count int64) error { return own(a.blocks(block, count), o) },
		node:     func(block int64) error { return own(a.blocks(block, 1), o) },
	})
}

// fastLink says that a symbolic link's target stands in its inode.
func (v *Volume) fastLink(n *inode) bool {
	if n.flags&flagExtents != 0 || n.size >= inoBlockSz {
		return false
	}
	blocks := int64(binary.LittleEndian.Uint32(n.raw[inoBlocksLo:]))
	if v.attrBlock(n) != 0 {
		blocks -= v.blockSize * v.ratio / 512
	}
	return v.incompat&incompatEAInode != 0 || blocks <= 0
}

// names checks that every inode that a directory names is one of those that were gone over.
func (a *account) names(n *inode) error {
	var wrong error
	err := a.v.readDir(n, func(e dirent) bool {
		wrong = a.made(e.inode, n)
		return wrong == nil
	})
	if err == nil {
		err = wrong
	}
	return err
}

// values does the same for inodes that hold values of attributes.
func (a *account) values(n *inode) error {
	b, err := a.v.readAttrBlock(n)
	if err != nil {
		return err
	}
	all := attrEntries(n.inBody(), 0)
	if b != nil {
		all = append(all, attrEntries(b, xattrBlockHead)...)
	}
	for _, x := range all {
		if x.inode == 0 {
			continue
		}
		if err := a.made(x.inode, n); err != nil {
			return err
		}
	}
	return nil
}

// made says whether an inode that another one names is among those that its group says were made.
func (a *account) made(number int64, by *inode) error {
	v := a.v
	if number < 1 || number > v.groups*v.inodesPerGrp {
		return fsys.Contradiction(by.at, "inode %d names inode %d, which doesn't exist", by.number, number)
	}
	if g := (number - 1) / v.inodesPerGrp; (number-1)%v.inodesPerGrp >= a.groups[g].inodes {
		return fsys.Contradiction(by.at, "inode %d names inode %d, which group %d says was never made", by.number,
			number, g)
	}
	return nil
}
