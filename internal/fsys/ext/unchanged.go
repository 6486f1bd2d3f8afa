package ext

import (
	"bytes"
	"context"
	"encoding/binary"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

const (
	tableChunk = 1 << 20 // bytes of inode tables that are compared at once

	// A swap file is written in place without its inode noticing: it is known by its head.
	swapMagicAt  = 4096 - 10
	leastSwap    = 40 << 10
	maySwapMagic = "SWAPSPACE2 SWAP-SPACE S1SUSPEND  S2SUSPEND  ULSUSPEND  LINHIB0001"
)

// kernels are the inodes that the kernel writes without changing them: the journal, quotas and the like.
func (v *Volume) kernels() (first int64, others map[int64]bool, err error) {
	sb := make([]byte, superLen)
	if err := disk.ReadFull(v.r, sb, superOffset); err != nil {
		return 0, nil, err
	}
	le := binary.LittleEndian
	first, others = 11, map[int64]bool{}
	if n := int64(le.Uint32(sb[sbFirstInode:])); n > first {
		first = n
	}
	for _, at := range []int{sbJournalInode, sbSnapshotInode, sbUserQuota, sbGroupQuota, sbProjQuota, sbOrphanFile} {
		others[int64(le.Uint32(sb[at:]))] = true
	}
	return first, others, nil
}

var _ fsys.Unchanging = (*Volume)(nil)

// Caveat is empty: the kernel changes an inode's times with every write.
func (v *Volume) Caveat() string { return "" }

// workedOn says whether a tool other than the kernel may have written to the volume since old: a checker puts
// directories right without touching their inodes, and another set of features has everything rewritten.
func (v *Volume) workedOn(old *Volume) (bool, error) {
	now, was := make([]byte, superLen), make([]byte, superLen)
	if err := disk.ReadFull(v.r, now, superOffset); err != nil {
		return true, err
	}
	if err := disk.ReadFull(old.r, was, superOffset); err != nil {
		return true, err
	}
	le := binary.LittleEndian
	return le.Uint32(now[sbCheckTime:]) != le.Uint32(was[sbCheckTime:]) ||
		le.Uint32(now[sbSeed:]) != le.Uint32(was[sbSeed:]) ||
		v.incompat != old.incompat || (v.ro^old.ro)&^roLargeFile != 0, nil
}

// Unchanged yields where the contents of files, directories and symbolic links lie whose inode, but for its access
// time, and whose extent blocks are byte for byte what they were on before. The kernel changes an inode's times with
// every write.
func (v *Volume) Unchanged(ctx context.Context, before fsys.Volume, proven func(span.Span) error) error {
	old, ok := before.(*Volume)
	if !ok || old.info.ID != v.info.ID || old.blockSize != v.blockSize || old.inodesPerGrp != v.inodesPerGrp ||
		old.inodeSize != v.inodeSize || old.blocksPerGrp != v.blocksPerGrp || v.ratio != 1 {
		return nil // not the same volume: nothing is proven
	}
	first, others, err := v.kernels()
	if err != nil {
		return err
	}
	if worked, err := v.workedOn(old); worked {
		return err
	}
	for g := range min(v.groups, old.groups) {
		if err := ctx.Err(); err != nil {
			return err
		}
		at, used, err := v.inodeTable(g)
		if err != nil {
			return err
		}
		oldAt, oldUsed, err := old.inodeTable(g)
		if err != nil {
			return err
		}
		if !used || !oldUsed {
			continue
		}
		mayBe := func(i int64) bool {
			n := g*v.inodesPerGrp + i + 1
			return n >= first && !others[n]
		}
		if err := v.unchangedIn(old, at, oldAt, mayBe, proven); err != nil {
			return err
		}
	}
	return nil
}

// inodeTable says where the inodes of a group begin, in bytes; used is false where none was ever made.
func (v *geometry) inodeTable(g int64) (at int64, used bool, err error) {
	desc := make([]byte, v.descSize)
	descAt := v.descBlock(g/v.descPerBlock)*v.blockSize + g%v.descPerBlock*v.descSize
	if err := disk.ReadFull(v.r, desc, descAt); err != nil {
		return 0, false, err
	}
	le := binary.LittleEndian
	block := int64(le.Uint32(desc[bgInodeTableLo:]))
	if v.descSize >= 64 {
		block |= int64(le.Uint32(desc[bgInodeTableHi:])) << 32
	}
	if block <= 0 || block >= v.blocks {
		return 0, false, fsys.Contradiction(descAt, "the descriptor of group %d points to block %d of %d", g, block,
			v.blocks)
	}
	const checksums = 0x10 | 0x400 // GDT_CSUM, METADATA_CSUM: only then the flag counts
	return block * v.blockSize, v.ro&checksums == 0 || le.Uint16(desc[bgFlags:])&groupInodesUninit == 0, nil
}

func (v *Volume) unchangedIn(old *Volume, at, oldAt int64, mayBe func(i int64) bool,
	proven func(span.Span) error) error {
	length := v.inodesPerGrp * v.inodeSize
	chunk := max(v.inodeSize, tableChunk/v.inodeSize*v.inodeSize)
	now, was := make([]byte, min(chunk, length)), make([]byte, min(chunk, length))
	for off := int64(0); off < length; off += chunk {
		n := min(chunk, length-off)
		if err := disk.ReadFull(v.r, now[:n], at+off); err != nil {
			return err
		}
		if err := disk.ReadFull(old.r, was[:n], oldAt+off); err != nil {
			return err
		}
		for i := int64(0); i < n; i += v.inodeSize {
			a, b := now[i:i+v.inodeSize], was[i:i+v.inodeSize]
			if !mayBe((off+i)/v.inodeSize) || !sameFile(a, b) {
				continue
			}
			if err := v.provenOf(old, a, proven); err != nil {
				return err
			}
		}
	}
	return nil
}

// sameFile says whether two inodes describe the same file, directory or symbolic link with the same contents.
func sameFile(a, b []byte) bool {
	le := binary.LittleEndian
	if m := le.Uint16(a[inoMode:]) & modeMask; m != modeFile && m != modeDir && m != modeLink ||
		le.Uint16(a[inoLinks:]) == 0 || le.Uint32(a[inoFlags:])&flagExtents == 0 ||
		le.Uint32(a[inoFlags:])&flagInline != 0 {
		return false
	}
	x, y := bytes.Clone(a), bytes.Clone(b)
	for _, i := range [][]byte{x, y} {
		clear(i[inoAtime : inoAtime+4])
		clear(i[inoCsumLo : inoCsumLo+2])
		if len(i) > inoAtimeExtra+4 {
			clear(i[inoCsumHi : inoCsumHi+2])
			clear(i[inoAtimeExtra : inoAtimeExtra+4])
		}
	}
	return bytes.Equal(x, y)
}

// provenOf yields the data blocks of an unchanged file, and the blocks of its extent tree, when that is the
// same too. A tree that changed proves nothing, and one that can't be followed neither.
func (v *Volume) provenOf(old *Volume, inode []byte, proven func(span.Span) error) error {
	var spans []span.Span
	if !v.sameTree(old, inode[inoBlock:inoBlock+inoBlockSz], -1, &spans) || v.mayBeSwap(inode, spans) {
		return nil
	}
	for _, sp := range spans {
		if err := proven(sp); err != nil {
			return err
		}
	}
	return nil
}

// mayBeSwap looks at the head of a file that is large enough for a swap area.
func (v *Volume) mayBeSwap(inode []byte, spans []span.Span) bool {
	if binary.LittleEndian.Uint32(inode[inoSizeLo:]) < leastSwap &&
		binary.LittleEndian.Uint32(inode[inoSizeHi:]) == 0 || len(spans) == 0 {
		return false
	}
	b := make([]byte, 10)
	for _, sp := range spans { // the first block of the file may lie after one of its tree
		if disk.ReadFull(v.r, b, sp.Start+swapMagicAt) == nil && b[0] != 0 &&
			strings.Contains(maySwapMagic, string(b[:9])) {
			return true
		}
		if sp.Len() > v.blockSize {
			break
		}
	}
	return false
}

// sameTree walks an extent tree, whose nodes must be the same on both volumes.
func (v *Volume) sameTree(old *Volume, b []byte, wantDepth int, out *[]span.Span) bool {
	entries, depth, err := splitNode(b, wantDepth)
	if err != nil {
		return false
	}
	for _, e := range entries {
		if depth == 0 {
			x, written := entryExtent(e)
			if !written { // what lies there proves nothing
				continue
			}
			at, n := x.physical, x.n
			if at <= 0 || at+n > v.blocks || at+n > old.blocks || len(*out) >= maxExtents {
				return false
			}
			*out = append(*out, span.At(at*v.blockSize, n*v.blockSize))
			continue
		}
		child := entryChild(e)
		if child <= 0 || child >= v.blocks || child >= old.blocks {
			return false
		}
		now, was := make([]byte, v.blockSize), make([]byte, v.blockSize)
		if disk.ReadFull(v.r, now, child*v.blockSize) != nil || disk.ReadFull(old.r, was, child*v.blockSize) != nil ||
			!bytes.Equal(now, was) {
			return false
		}
		*out = append(*out, span.At(child*v.blockSize, v.blockSize))
		if !v.sameTree(old, now, depth-1, out) {
			return false
		}
	}
	return true
}
