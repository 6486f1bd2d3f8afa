package ext

import (
	"bytes"
	"fmt"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/units"
)

// maxDescriptors bounds what is held in memory, in bytes.
const maxDescriptors = 128 << 20

// growth is a volume that becomes larger: the volume as it is, as it will be, and what changes.
type growth struct {
	old, v  *Volume // v has the new counts
	super   []byte
	desc    []byte // all descriptors, in whole blocks
	seed    uint32
	bitmaps map[string][]byte // equal ones share their bytes
	patches []disk.Patch
	notes   []string
	free    int64 // blocks that become free
	// firstTouched is the first block of descriptors that changes.
	firstTouched int64
}

// Resize makes the volume as large as its part; where the part stands is nothing to an ext
// volume. What was there stays where it is.
func (v *Volume) Resize(p fsys.Bounds) (*fsys.Change, error) {
	c := &fsys.Change{Size: v.info.Size}
	if p.Size > 0 && p.Size < v.blocks*v.blockSize {
		return v.shrink(p.Size)
	}
	if p.Size/v.blockSize <= v.blocks {
		return c, nil
	}
	if v.ratio > 1 && v.compat&compatResizeInode != 0 {
		c.Notes = []string{"it keeps its size: a volume with clusters of several blocks and room kept for " +
			"descriptors isn't grown"}
		return c, nil
	}
	g := &growth{old: v, bitmaps: map[string][]byte{}, super: make([]byte, superLen)}
	if err := disk.ReadFull(v.r, g.super, superOffset); err != nil {
		return nil, err
	}
	nv := *v
	g.v = &nv
	if err := g.measure(p.Size / v.blockSize); err != nil {
		return nil, err
	}
	if g.v.blocks > v.blocks {
		if err := g.plan(); err != nil {
			return nil, err
		}
	}
	c.Size, c.Notes = g.v.blocks*v.blockSize, g.notes
	var err error
	c.Patches, err = disk.SortPatches(g.patches, p.Size)
	return c, err
}

// measure decides how many blocks and groups there will be.
func (g *growth) measure(blocks int64) error {
	o, v := g.old, g.v
	if o.blocks%o.ratio != 0 {
		return fsys.Contradiction(superOffset+sbBlocksLo, "%d blocks are no whole number of clusters of %d", o.blocks,
			o.ratio)
	}
	limit := func(most int64, why string) {
		if blocks > most {
			blocks = most
			g.notes = append(g.notes, fmt.Sprintf("it grows to %s only: %s", units.Bytes(blocks*v.blockSize), why))
		}
	}
	if o.incompat&incompat64bit == 0 {
		limit(1<<32-1, "its block numbers have 32 bits")
	}
	limit(v.firstData+min(maxGroups, (1<<32-1)/v.inodesPerGrp, maxDescriptors/v.descSize)*v.blocksPerGrp,
		"it can't have more groups")
	for {
		v.blocks = blocks / o.ratio * o.ratio
		v.groups = (v.blocks - v.firstData + v.blocksPerGrp - 1) / v.blocksPerGrp
		v.descBlocks = (v.groups + v.descPerBlock - 1) / v.descPerBlock
		v.reservedGDT, v.incompat, v.firstMetaBG, v.compat = o.reservedGDT, o.incompat, o.firstMetaBG, o.compat
		switch more := v.descBlocks - o.descBlocks; {
		case o.incompat&incompatMetaBG != 0:
		case more <= o.reservedGDT:
			v.reservedGDT -= more
		default: // what goes beyond the room kept for descriptors stands in the groups themselves
			v.incompat |= incompatMetaBG
			v.firstMetaBG = o.descBlocks + o.reservedGDT
			v.reservedGDT = 0
			v.compat &^= compatResizeInode
		}
		last := v.groups - 1
		size := v.blocks - v.groupStart(last)
		if last < o.groups || size >= v.overhead(last)+leastTail {
			return nil
		}
		blocks = v.groupStart(last) // a last group without room for its own structures is left out
	}
}

// overhead is how many blocks a new group's own structures take.
func (v *geometry) overhead(group int64) int64 { return v.baseMeta(group) + 2 + v.tableBlocks() }

func (g *growth) plan() error {
	v := g.v
	g.seed = v.seed
	if err := g.readDescriptors(); err != nil {
		return err
	}
	if err := g.extendLast(); err != nil {
		return err
	}
	for n := g.old.groups; n < v.groups; n++ {
		if v.overhead(n) > v.blocksPerGrp {
			return fsys.Contradiction(superOffset, "a group of %d blocks would need %d for its own structures",
				v.blocksPerGrp, v.overhead(n))
		}
		g.newGroup(n)
	}
	if err := g.resizeInode(); err != nil {
		return err
	}
	g.writeDescriptors()
	g.writeSupers()
	return nil
}

func (g *growth) readDescriptors() error {
	o := g.old
	g.desc = make([]byte, g.v.descBlocks*o.blockSize)
	for i := range o.descBlocks {
		if err := disk.ReadFull(o.r, g.desc[i*o.blockSize:(i+1)*o.blockSize], o.descBlock(i)*o.blockSize); err != nil {
			return fmt.Errorf("group descriptors: %w", err)
		}
	}
	clear(g.desc[o.groups*o.descSize:])
	g.firstTouched = (o.groups - 1) / o.descPerBlock
	return nil
}

func (g *growth) descriptor(n int64) []byte {
	return g.desc[n*g.v.descSize:][:g.v.descSize]
}

// put writes a number into a descriptor whose upper half stands elsewhere, where there is one.
func (g *growth) put16(d []byte, lo, hi int, n uint32) {
	le.PutUint16(d[lo:], uint16(n))
	if len(d) >= newDescSize {
		le.PutUint16(d[hi:], uint16(n>>16))
	}
}

func (g *growth) put32(d []byte, lo int, n int64) {
	le.PutUint32(d[lo:], uint32(n))
	if len(d) >= newDescSize {
		le.PutUint32(d[bgHi+lo:], uint32(n>>32))
	}
}

// seal puts a descriptor's checksum in.
func (g *growth) seal(n int64, d []byte) {
	le.PutUint16(d[bgChecksum:], 0)
	switch {
	case g.v.ro&roMetadataCsum != 0:
		le.PutUint16(d[bgChecksum:], uint16(csum(g.seed, u32(uint32(n)), d)))
	case g.v.ro&roGDTCsum != 0:
		c := crc16(0xFFFF, g.super[sbUUID:sbUUID+16])
		c = crc16(c, u32(uint32(n)))
		c = crc16(c, d[:bgChecksum])
		if len(d) > bgChecksum+2 {
			c = crc16(c, d[bgChecksum+2:])
		}
		le.PutUint16(d[bgChecksum:], c)
	}
}

// crc16 is the CRC of gdt_csum: polynomial 0x8005, reflected.
func crc16(c uint16, b []byte) uint16 {
	for _, x := range b {
		c ^= uint16(x)
		for range 8 {
			if c&1 != 0 {
				c = c>>1 ^ 0xA001
			} else {
				c >>= 1
			}
		}
	}
	return c
}

// bitmap is a group's block bitmap: the first used clusters taken, then free ones, and taken again after the
// group's end.
func (g *growth) bitmap(used, clusters int64) []byte {
	b := make([]byte, g.v.blockSize)
	setBits(b, 0, used)
	setBits(b, clusters, 8*g.v.blockSize)
	return g.shared(b)
}

func (g *growth) shared(b []byte) []byte {
	if have, ok := g.bitmaps[string(b)]; ok {
		return have
	}
	g.bitmaps[string(b)] = b
	return b
}

func setBits(b []byte, from, to int64) {
	for i := from; i < to; i++ {
		if i%8 == 0 && to-i >= 8 {
			b[i/8] = 0xFF
			i += 7
			continue
		}
		b[i/8] |= 1 << (i % 8)
	}
}

func (g *growth) add(block int64, b []byte, why string) {
	g.patches = append(g.patches, disk.Patch{Off: block * g.v.blockSize, Data: b, Why: why})
}

// addShort writes a block that begins with b; the rest of it is zeros.
func (g *growth) addShort(block int64, b []byte, why string) {
	at, end := block*g.v.blockSize, (block+1)*g.v.blockSize
	if len(b) > 0 {
		g.add(block, b, why)
		at += int64(len(b))
	}
	if at < end {
		g.patches = append(g.patches, disk.Patch{Off: at, Zeros: end - at, Why: why})
	}
}

// putBlockBitmap writes a group's block bitmap with its checksum.
func (g *growth) putBlockBitmap(d []byte, at int64, bits []byte) {
	g.add(at, bits, "block bitmap")
	if g.v.ro&roMetadataCsum != 0 {
		g.put16(d, bgBlockCsumLo, bgBlockCsumHi, csum(g.seed, bits[:g.v.blocksPerGrp/g.v.ratio/8]))
	}
}

// extendLast gives the last group of the volume as it was the blocks up to its end.
func (g *growth) extendLast() error {
	o, v, n := g.old, g.v, g.old.groups-1
	more := min(v.blocks, o.groupStart(n)+o.blocksPerGrp) - o.blocks
	if more <= 0 {
		return nil
	}
	was := o.blocks - o.groupStart(n)
	return g.edit(n, func(bits []byte) int64 {
		for i := was / o.ratio; i < (was+more)/o.ratio; i++ {
			bits[i/8] &^= 1 << (i % 8)
		}
		setBits(bits, (was+more)/o.ratio, 8*o.blockSize)
		return more / o.ratio
	})
}

// edit changes the block bitmap of an old group; change says how many clusters it freed.
func (g *growth) edit(n int64, change func(bits []byte) int64) error {
	o := g.old
	groups, err := o.descriptors()
	if err != nil {
		return err
	}
	bits := make([]byte, o.blockSize)
	used, err := o.groupUsed(n, groups[n], o.metadata(groups), bits)
	if err != nil {
		return err
	}
	if groups[n].uninit { // it was never written
		clear(bits)
		unit := o.blockSize * o.ratio
		for sp := range used.All() {
			setBits(bits, (sp.Start-o.groupSpan(n).Start)/unit, (sp.End-o.groupSpan(n).Start+unit-1)/unit)
		}
		setBits(bits, (o.groupSpan(n).Len()+unit-1)/unit, 8*o.blockSize)
	}
	at := groups[n].blockBitmap
	for _, p := range g.patches { // it may have been changed before
		if p.Off == at*o.blockSize {
			copy(bits, p.Data)
		}
	}
	g.patches = removeAt(g.patches, at*o.blockSize)
	freed := change(bits)
	d := g.descriptor(n)
	free := int64(le.Uint16(d[bgFreeBlocksLo:]))
	if len(d) >= newDescSize {
		free |= int64(le.Uint16(d[bgHi+bgFreeBlocksLo:])) << 16
	}
	g.put16(d, bgFreeBlocksLo, bgHi+bgFreeBlocksLo, uint32(free+freed))
	le.PutUint16(d[bgFlags:], le.Uint16(d[bgFlags:])&^groupBlocksUninit)
	g.putBlockBitmap(d, at, bits)
	g.seal(n, d)
	g.free += freed * o.ratio
	g.firstTouched = min(g.firstTouched, n/o.descPerBlock)
	return nil
}

func removeAt(ps []disk.Patch, off int64) []disk.Patch {
	var out []disk.Patch
	for _, p := range ps {
		if p.Off != off {
			out = append(out, p)
		}
	}
	return out
}

// newGroup lays out a group past the old end: its structures stand at its own start. Where the
// descriptors have checksums they say that bitmaps and inodes were never used; elsewhere those are written.
func (g *growth) newGroup(n int64) {
	v := g.v
	start := v.groupStart(n)
	size := min(v.blocksPerGrp, v.blocks-start)
	over := v.overhead(n)
	taken := (over + v.ratio - 1) / v.ratio
	clusters := size / v.ratio
	at := start + v.baseMeta(n)
	d := g.descriptor(n)
	g.put32(d, bgBlockBitmapLo, at)
	g.put32(d, bgInodeBitmapLo, at+1)
	g.put32(d, bgInodeTableLo, at+2)
	g.put16(d, bgFreeBlocksLo, bgHi+bgFreeBlocksLo, uint32(clusters-taken))
	g.put16(d, bgFreeInodesLo, bgHi+bgFreeInodesLo, uint32(v.inodesPerGrp))
	lazy := v.ro&(roGDTCsum|roMetadataCsum) != 0
	if lazy {
		flags := uint16(groupInodesUninit)
		if n < v.groups-1 && v.ratio == 1 {
			flags |= groupBlocksUninit
		}
		le.PutUint16(d[bgFlags:], flags)
		g.put16(d, bgUnusedLo, bgUnusedHi, uint32(v.inodesPerGrp))
	} else {
		inodes := make([]byte, v.blockSize)
		setBits(inodes, v.inodesPerGrp, 8*v.blockSize)
		g.add(at+1, g.shared(inodes), "inode bitmap")
		g.patches = append(g.patches, disk.Patch{Off: (at + 2) * v.blockSize, Zeros: v.tableBlocks() * v.blockSize,
			Why: "inode table"})
	}
	if !lazy || le.Uint16(d[bgFlags:])&groupBlocksUninit == 0 {
		g.putBlockBitmap(d, at, g.bitmap(taken, clusters))
	}
	g.seal(n, d)
	g.free += (clusters - taken) * v.ratio
}

// writeDescriptors puts the descriptors into every place where they stand.
func (g *growth) writeDescriptors() {
	v := g.v
	together := v.descBlocks
	if v.incompat&incompatMetaBG != 0 {
		together = min(together, v.firstMetaBG)
	}
	bs := v.blockSize
	for n := range v.groups {
		if v.hasSuper(n) && (v.incompat&incompatMetaBG == 0 || n < v.firstMetaBG*v.descPerBlock) && together > 0 {
			g.add(max(v.groupStart(n), v.superBlockOf(n))+1, g.desc[:together*bs], "group descriptors")
		}
	}
	for i := max(together, g.firstTouched); i < v.descBlocks; i++ {
		first := i * v.descPerBlock
		g.add(v.descBlock(i), g.desc[i*bs:(i+1)*bs], "group descriptors")
		for _, n := range []int64{first + 1, first + v.descPerBlock - 1} {
			if n < v.groups && n > first {
				at := v.groupStart(n)
				if v.hasSuper(n) {
					at++
				}
				g.add(at, g.desc[i*bs:(i+1)*bs], "copy of group descriptors")
			}
		}
	}
}

// superBlockOf is the block that holds group n's copy of the super block.
func (v *geometry) superBlockOf(n int64) int64 {
	if n == 0 {
		return v.superBlock()
	}
	return v.groupStart(n)
}

func (g *growth) writeSupers() {
	o, v, b := g.old, g.v, g.super
	add := func(lo, hi int, n int64) {
		now := int64(le.Uint32(b[lo:]))
		if v.incompat&incompat64bit != 0 {
			now |= int64(le.Uint32(b[hi:])) << 32
			le.PutUint32(b[hi:], uint32((now+n)>>32))
		}
		le.PutUint32(b[lo:], uint32(now+n))
	}
	reserved := int64(le.Uint32(b[sbReserved:]))
	if v.incompat&incompat64bit != 0 {
		reserved |= int64(le.Uint32(b[sbReservedHi:])) << 32
	}
	add(sbBlocksLo, sbBlocksHi, v.blocks-o.blocks)
	add(sbFreeLo, sbFreeHi, g.free)
	add(sbReserved, sbReservedHi, int64(float64(reserved)/float64(o.blocks)*float64(v.blocks-o.blocks)))
	le.PutUint32(b[sbInodes:], uint32(v.groups*v.inodesPerGrp))
	le.PutUint32(b[sbFreeInodes:], le.Uint32(b[sbFreeInodes:])+uint32((v.groups-o.groups)*v.inodesPerGrp))
	if o.compat != 0 || o.incompat != 0 || o.ro != 0 {
		le.PutUint16(b[sbReservedGDT:], uint16(v.reservedGDT))
		le.PutUint32(b[sbCompat:], v.compat)
		le.PutUint32(b[sbIncompat:], v.incompat)
		le.PutUint32(b[sbFirstMetaBG:], uint32(v.firstMetaBG))
		le.PutUint32(b[sbOverhead:], 0) // whoever mounts it counts anew
	}
	for n := range v.groups {
		if !v.hasSuper(n) {
			continue
		}
		s := bytes.Clone(b)
		le.PutUint16(s[sbGroupNr:], uint16(n))
		if v.ro&roMetadataCsum != 0 {
			le.PutUint32(s[sbChecksum:], csum(^uint32(0), s[:sbChecksum]))
		}
		at, why := v.groupStart(n)*v.blockSize, "copy of the super block"
		if n == 0 {
			at, why = superOffset, "super block"
		}
		g.patches = append(g.patches, disk.Patch{Off: at, Data: s, Why: why})
	}
}

// resizeInode keeps inode 7 true, which owns the room kept for descriptors: each block of it leads
// to its copies in the other groups. When all of it was used up and more is needed it goes.
func (g *growth) resizeInode() error {
	o, v := g.old, g.v
	if o.compat&compatResizeInode == 0 {
		return nil
	}
	ino, at, dind, list, err := o.descriptorRoom()
	if err != nil {
		return err
	}
	if v.compat&compatResizeInode == 0 {
		n := (dind - o.firstData) / o.blocksPerGrp
		if err := g.edit(n, func(bits []byte) int64 {
			i := (dind - o.groupStart(n)) / o.ratio
			bits[i/8] &^= 1 << (i % 8)
			return 1
		}); err != nil {
			return err
		}
		clear(ino)
		g.patches = append(g.patches, disk.Patch{Off: at, Data: ino, Why: "the room for group descriptors is used up"})
		return nil
	}
	per := o.blockSize / 4
	var before, now []int64
	for n := int64(1); n < v.groups; n++ {
		if v.hasSuper(n) {
			if now = append(now, n); n < o.groups {
				before = append(before, n)
			}
		}
	}
	if int64(len(now)) > per {
		return fsys.Contradiction(at, "%d copies of the super block are more than inode 7 can name", len(now))
	}
	blocks := int64(le.Uint32(ino[inoBlocksLo:]))
	unit := o.blockSize / 512
	for i := o.descBlocks; i < v.descBlocks; i++ {
		le.PutUint32(list[4*(i%per):], 0)
		blocks -= (1 + int64(len(before))) * unit
	}
	for i := v.descBlocks; i < v.descBlocks+v.reservedGDT; i++ {
		at := o.superBlock() + 1 + i
		if int64(le.Uint32(list[4*(i%per):])) != at {
			return fsys.Contradiction(dind*o.blockSize, "inode 7 doesn't name block %d, which is kept for "+
				"descriptors", at)
		}
		var b []byte
		for _, n := range now {
			b = le.AppendUint32(b, uint32(at+n*o.blocksPerGrp))
		}
		g.addShort(at, b, "room for more group descriptors")
		blocks += int64(len(now)-len(before)) * unit
	}
	le.PutUint32(ino[inoBlocksLo:], uint32(blocks))
	g.add(dind, list, "map of the room for group descriptors")
	g.patches = append(g.patches,
		disk.Patch{Off: at, Data: g.sealInode(resizeInode, ino), Why: "inode of the room for group descriptors"})
	return nil
}

// descriptorRoom reads inode 7, which stands at byte at, and the map of the room that it keeps for descriptors, which
// is block dind.
func (v *Volume) descriptorRoom() (ino []byte, at, dind int64, list []byte, err error) {
	if ino, at, err = v.rawInode(resizeInode); err != nil {
		return nil, 0, 0, nil, err
	}
	dind = int64(le.Uint32(ino[inoBlock+4*dindSlot:]))
	if dind <= v.firstData || dind >= v.blocks {
		return nil, 0, 0, nil, fsys.Contradiction(at, "inode 7 keeps its room at block %d of %d", dind, v.blocks)
	}
	list = make([]byte, v.blockSize)
	return ino, at, dind, list, disk.ReadFull(v.r, list, dind*v.blockSize)
}

// sealInode puts an inode's checksum in.
func (g *growth) sealInode(number uint32, b []byte) []byte {
	if g.v.ro&roMetadataCsum == 0 {
		return b
	}
	hi := len(b) > inoExtraSize+2 && le.Uint16(b[inoExtraSize:]) >= extraForCsumHi
	le.PutUint16(b[inoCsumLo:], 0)
	if hi {
		le.PutUint16(b[inoCsumHi:], 0)
	}
	c := csum(g.seed, u32(number), b[inoGeneration:inoGeneration+4], b)
	le.PutUint16(b[inoCsumLo:], uint16(c))
	if hi {
		le.PutUint16(b[inoCsumHi:], uint16(c>>16))
	}
	return b
}

// rawInode reads a whole inode and says at which byte of the volume it stands.
func (v *geometry) rawInode(number int64) ([]byte, int64, error) {
	groups, err := v.descriptors()
	if err != nil {
		return nil, 0, err
	}
	n := (number - 1) / v.inodesPerGrp
	if number < 1 || n >= v.groups {
		return nil, 0, fmt.Errorf("there is no inode %d", number)
	}
	at := groups[n].inodeTable*v.blockSize + (number-1)%v.inodesPerGrp*v.inodeSize
	b := make([]byte, v.inodeSize)
	return b, at, disk.ReadFull(v.r, b, at)
}
