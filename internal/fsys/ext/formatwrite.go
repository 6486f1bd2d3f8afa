package ext

import (
	"encoding/binary"
	"hash/crc32"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

const (
	extraSize     = 32 // bytes of an inode after the first 128
	inlineExtents = 4  // entries of a node that has room in an inode
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// csum is the raw CRC-32C that ext4 uses: no inversion at either end.
func csum(seed uint32, parts ...[]byte) uint32 {
	c := ^seed
	for _, p := range parts {
		c = crc32.Update(c, castagnoli, p)
	}
	return ^c
}

func u32(n uint32) []byte { return le.AppendUint32(nil, n) }

// write makes all structures. Inode tables stay as they are but for the first
// blocks of the first: the descriptors mark the rest as never used, and the kernel
// clears them later.
func (l *layout) write() {
	l.seed = csum(^uint32(0), l.f.ID[:])
	l.writeInodes()
	l.writeDirectories()
	l.writeJournal()
	l.writeSpare()
	desc := l.descriptors()
	for g := range l.groups {
		if !l.hasSuper(g) {
			continue
		}
		why := "copy of the super block"
		if g == 0 {
			why = "super block"
		}
		super := l.super(g)
		at := l.start(g) * l.bs
		if g == 0 {
			at = superOffset
			if l.bs > superOffset { // the boot block before it is cleared
				l.patches = append(l.patches, disk.Patch{Zeros: superOffset, Why: "boot block"},
					disk.Patch{Off: superOffset + superLen, Zeros: l.bs - superOffset - superLen, Why: why})
			} else {
				l.patches = append(l.patches, disk.Patch{Zeros: superOffset, Why: "boot block"})
			}
		}
		l.patches = append(l.patches, disk.Patch{Off: at, Data: super, Why: why})
		l.add(l.start(g)+1, desc, "group descriptors")
	}
}

// super is the super block as it stands in group g.
func (l *layout) super(g int64) []byte {
	b := make([]byte, superLen)
	free := int64(0)
	for _, p := range l.group {
		free += p.free
	}
	now := uint32(l.f.Now.Unix())
	reserved := l.blocks / reservedShare
	log := uint32(0)
	for n := l.bs; n > 1024; n /= 2 {
		log++
	}
	for off, n := range map[int]uint32{
		sbInodes: uint32(l.groups * l.inodes), sbBlocksLo: uint32(l.blocks), sbBlocksHi: uint32(l.blocks >> 32),
		sbReserved: uint32(reserved), sbReserved + 0x14C: uint32(reserved >> 32),
		sbFreeLo: uint32(free), sbFreeHi: uint32(free >> 32), sbFreeInodes: uint32(l.groups*l.inodes - lostFoundInode),
		sbFirstData: uint32(l.first),
		sbLogBlock:  log, sbLogCluster: log, sbBlocksPerGroup: uint32(l.perGroup), sbClustersPerGrp: uint32(l.perGroup),
		sbInodesPerGroup: uint32(l.inodes),
		sbWriteTime:      now, sbMkTime: now, sbCheckTime: now, sbRev: 1, sbFirstInode: lostFoundInode,
		sbCompat: newCompat, sbIncompat: newIncompat, sbROCompat: newRO,
		sbMountOpts: optXattrACL, sbFlags: flagSignedHash,
	} {
		le.PutUint32(b[off:], n)
	}
	if l.spare > 0 {
		le.PutUint32(b[sbCompat:], newCompat|compatResizeInode)
	}
	for off, n := range map[int]uint16{sbMagic: magic, sbState: stateValid, sbErrors: 1, sbMaxMounts: never,
		sbInodeSize: newInodeSize, sbGroupNr: uint16(g),
		sbReservedGDT: uint16(l.spare), sbDescSize: newDescSize, sbMinExtra: extraSize, sbWantExtra: extraSize} {
		le.PutUint16(b[off:], n)
	}
	copy(b[sbUUID:], l.f.ID[:])
	copy(b[sbLabel:sbLabel+16], l.f.Label)
	for i := range 4 { // any four numbers: what the identity's checksum gives
		le.PutUint32(b[sbHashSeed+4*i:], csum(l.seed, u32(uint32(i))))
	}
	b[sbHashVersion], b[sbLogFlex], b[sbChecksumType] = hashHalfMD4, logFlex, 1
	if l.journalN > 0 {
		le.PutUint32(b[sbJournalInode:], journalInode)
		b[sbJournalBackup] = 1
		ino := l.journalInode()
		copy(b[sbJournalBlocks:], ino[inoBlock:inoBlock+60])
		copy(b[sbJournalBlocks+60:], ino[inoSizeHi:inoSizeHi+4])
		copy(b[sbJournalBlocks+64:], ino[inoSizeLo:inoSizeLo+4])
	} else {
		le.PutUint32(b[sbCompat:], le.Uint32(b[sbCompat:])&^compatJournal)
	}
	le.PutUint32(b[sbChecksum:], csum(^uint32(0), b[:sbChecksum]))
	return b
}

// descriptors are all group descriptors; bitmaps that can't be computed are written.
func (l *layout) descriptors() []byte {
	b := make([]byte, l.desc*l.bs)
	split := func(d []byte, off int, n int64) { // lower and upper half
		le.PutUint32(d[off:], uint32(n))
		le.PutUint32(d[bgHi+off:], uint32(n>>32))
	}
	half := func(d []byte, off, hi int, n uint32) {
		le.PutUint16(d[off:], uint16(n))
		le.PutUint16(d[hi:], uint16(n>>16))
	}
	for g := range l.groups {
		p := l.group[g]
		d := b[g*newDescSize:][:newDescSize]
		split(d, bgBlockBitmapLo, p.blockBitmap)
		split(d, bgInodeBitmapLo, p.inodeBitmap)
		split(d, bgInodeTableLo, p.inodeTable)
		half(d, bgFreeBlocksLo, bgHi+bgFreeBlocksLo, uint32(p.free))
		used := int64(0)
		flags := uint16(groupInodesUninit)
		if g == 0 {
			used, flags = lostFoundInode, 0
			le.PutUint16(d[bgDirsLo:], 2)
			bits := l.inodeBitmap(used)
			l.add(p.inodeBitmap, bits, "inode bitmap")
			half(d, bgInodeCsumLo, bgInodeCsumHi, csum(l.seed, bits[:l.inodes/8]))
		}
		half(d, bgFreeInodesLo, bgHi+bgFreeInodesLo, uint32(l.inodes-used))
		half(d, bgUnusedLo, bgUnusedHi, uint32(l.inodes-used))
		if p.touched || g == l.groups-1 {
			bits := l.blockBitmap(g)
			l.add(p.blockBitmap, bits, "block bitmap")
			half(d, bgBlockCsumLo, bgBlockCsumHi, csum(l.seed, bits[:l.perGroup/8]))
		} else {
			flags |= groupBlocksUninit
		}
		le.PutUint16(d[bgFlags:], flags)
		le.PutUint16(d[bgChecksum:], uint16(csum(l.seed, u32(uint32(g)), d)))
	}
	return b
}

func (l *layout) blockBitmap(g int64) []byte {
	b := make([]byte, l.bs)
	base := l.start(g)
	for sp := range l.taken.Clip(span.Span{Start: base, End: l.end(g)}).All() {
		setBits(b, sp.Start-base, sp.End-base)
	}
	setBits(b, l.end(g)-base, 8*l.bs) // past the end nothing is free
	return b
}

func (l *layout) inodeBitmap(used int64) []byte {
	b := make([]byte, l.bs)
	for i := range used {
		b[i/8] |= 1 << (i % 8)
	}
	for i := l.inodes / 8; i < l.bs; i++ {
		b[i] = 0xFF
	}
	return b
}

// inode makes an inode with an extent tree; its size and blocks follow from the extents.
func (l *layout) inode(mode uint16, links uint16, extents []span.Span, leaf int64) []byte {
	b := make([]byte, newInodeSize)
	le.PutUint16(b[inoMode:], mode)
	le.PutUint16(b[inoLinks:], links)
	now := uint32(l.f.Now.Unix())
	for i := range 3 {
		le.PutUint32(b[inoAtime+4*i:], now)
	}
	le.PutUint32(b[inoCrtime:], now)
	le.PutUint16(b[inoExtraSize:], extraSize)
	le.PutUint32(b[inoFlags:], flagExtents)
	blocks := int64(0)
	for _, e := range extents {
		blocks += e.Len()
	}
	l.setSize(b, blocks*l.bs, blocks)
	if leaf == 0 {
		copy(b[inoBlock:], extentNode(extents, inlineExtents))
		return b
	}
	l.setSize(b, blocks*l.bs, blocks+1)
	root := b[inoBlock:]
	copy(root, nodeHeader(1, inlineExtents, 1))
	putChild(root[extentHeader:], leaf)
	return b
}

func (l *layout) setSize(b []byte, size, blocks int64) {
	le.PutUint32(b[inoSizeLo:], uint32(size))
	le.PutUint32(b[inoSizeHi:], uint32(size>>32))
	le.PutUint32(b[inoBlocksLo:], uint32(blocks*l.bs/512))
	le.PutUint16(b[inoBlocksHi:], uint16(blocks*l.bs/512>>32))
}

func nodeHeader(entries, room, depth int) []byte {
	h := le.AppendUint16(nil, extentMagic)
	h = le.AppendUint16(h, uint16(entries))
	h = le.AppendUint16(h, uint16(room))
	h = le.AppendUint16(h, uint16(depth))
	return append(h, 0, 0, 0, 0)
}

// extentNode is a leaf of an extent tree ("Extent Tree").
func extentNode(extents []span.Span, room int) []byte {
	b := nodeHeader(len(extents), room, 0)
	logical := int64(0)
	for _, e := range extents {
		b = appendExtent(b, extent{logical, e.Start, e.Len()}, true)
		logical += e.Len()
	}
	return b
}

// seal puts an inode's checksum in.
func (l *layout) seal(number uint32, b []byte) []byte {
	c := csum(l.seed, u32(number), u32(0), b)
	le.PutUint16(b[inoCsumLo:], uint16(c))
	le.PutUint16(b[inoCsumHi:], uint16(c>>16))
	return b
}

// treeSeed is what checksums of blocks that belong to an inode begin with.
func (l *layout) treeSeed(inode uint32) uint32 { return csum(l.seed, u32(inode), u32(0)) }

func (l *layout) journalInode() []byte { return l.inode(0x8180, 1, l.journal, l.leaf) }

func (l *layout) writeInodes() {
	n := (lostFoundInode*newInodeSize + l.bs - 1) / l.bs
	b := make([]byte, n*l.bs)
	put := func(number uint32, inode []byte) { copy(b[(number-1)*newInodeSize:], l.seal(number, inode)) }
	put(rootInode, l.inode(0x41ED, 3, []span.Span{span.At(l.dirBlock, 1)}, 0))
	put(lostFoundInode, l.inode(0x41C0, 2, []span.Span{l.lostFound}, 0))
	if l.journalN > 0 {
		put(journalInode, l.journalInode())
	}
	if l.spare > 0 {
		ino := l.inode(0x8180, 1, nil, 0)
		clear(ino[inoBlock : inoBlock+60])
		le.PutUint32(ino[inoFlags:], 0)
		le.PutUint32(ino[inoBlock+4*13:], uint32(l.dind))
		per := l.bs / 4
		copies := 1 + int64(len(l.backups()))
		l.setSize(ino, (per*per+per+12)*l.bs, 1+l.spare*copies)
		put(resizeInode, ino)
	}
	l.add(l.group[0].inodeTable, b, "first inodes")
}

// writeSpare makes the blocks that lead to the room for more group descriptors:
// each one kept in group 0 names its copies in the other groups.
func (l *layout) writeSpare() {
	if l.spare == 0 {
		return
	}
	dind := make([]byte, l.bs)
	backups := l.backups()
	for i := range l.spare {
		at := l.first + 1 + l.desc + i
		le.PutUint32(dind[4*((l.desc+i)%(l.bs/4)):], uint32(at))
		b := make([]byte, l.bs)
		for j, g := range backups {
			le.PutUint32(b[4*j:], uint32(at+g*l.perGroup))
		}
		l.add(at, b, "room for more group descriptors")
	}
	l.add(l.dind, dind, "map of the room for group descriptors")
}

func dirEntry(inode uint32, length int64, kind byte, name string) []byte {
	b := u32(inode)
	b = le.AppendUint16(b, uint16(length))
	b = append(b, byte(len(name)), kind)
	b = append(b, name...)
	return append(b, make([]byte, length-int64(len(b)))...)
}

// dirBlockOf fills a directory's block and puts its checksum in ("Directory Block Tail").
func (l *layout) dirBlockOf(inode uint32, entries ...[]byte) []byte {
	b := slices.Concat(entries...)
	tail := dirEntry(0, dirTailLen, dirTailTag, "")
	tail[6] = 0
	le.PutUint32(tail[8:], csum(l.treeSeed(inode), b))
	return append(b, tail...)
}

func (l *layout) writeDirectories() {
	room := l.bs - dirTailLen
	l.add(l.dirBlock, l.dirBlockOf(rootInode, dirEntry(rootInode, 12, typeDir, "."),
		dirEntry(rootInode, 12, typeDir, ".."),
		dirEntry(lostFoundInode, room-24, typeDir, "lost+found")), "root directory")
	l.add(l.lostFound.Start,
		l.dirBlockOf(lostFoundInode, dirEntry(lostFoundInode, 12, typeDir, "."),
			dirEntry(rootInode, room-12, typeDir, "..")), "lost+found")
	if l.lostFound.Len() > 1 {
		empty := l.dirBlockOf(lostFoundInode, dirEntry(0, room, 0, ""))
		for at := l.lostFound.Start + 1; at < l.lostFound.End; at++ {
			l.add(at, empty, "lost+found")
		}
	}
}

// writeJournal makes an empty journal. What stands in its other blocks stays: the
// sequence number it begins with is taken from the identity, so that no old
// transaction can be mistaken for one of this journal.
func (l *layout) writeJournal() {
	if l.journalN == 0 {
		return
	}
	b := make([]byte, l.bs)
	be := binary.BigEndian
	be.PutUint32(b, jMagic)
	be.PutUint32(b[4:], jSuperV2)
	be.PutUint32(b[jBlockSize:], uint32(l.bs))
	be.PutUint32(b[jLen:], uint32(l.journalN))
	be.PutUint32(b[jFirst:], 1)
	be.PutUint32(b[jSeq:], csum(l.seed, []byte("journal"))>>2|1)
	be.PutUint32(b[jUsers:], 1)
	copy(b[jUUID:], l.f.ID[:])
	copy(b[jUser:], l.f.ID[:])
	l.add(l.journal[0].Start, b, "journal")
	if l.leaf > 0 {
		room := int(l.bs-16) / 12
		node := make([]byte, l.bs)
		copy(node, extentNode(l.journal, room))
		end := 12 + 12*room
		le.PutUint32(node[end:], csum(l.treeSeed(journalInode), node[:end]))
		l.add(l.leaf, node, "map of the journal")
	}
}
