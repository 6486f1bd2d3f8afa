package ext

import (
	"cmp"
	"errors"
	"fmt"
	"math/bits"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

const (
	// spareShare is the share of what is used that stays free on the smallest volume: 1/spareShare, and leastFree
	// bytes.
	spareShare = 32
	leastFree  = 4 << 20
	// maxChanges bounds the inodes and pieces that are moved.
	maxChanges = 1 << 20
)

var _ fsys.Shrinker = (*Volume)(nil)

// shrinkage is a volume that becomes smaller: whole groups go, what they hold is moved.
type shrinkage struct {
	growth
	placing
	groups []group  // as they were
	meta   span.Set // the bitmaps and inode tables of all groups, as they were
	walked walked
	// bitmaps are the block bitmaps that change, by group.
	bitmaps map[int64][]byte
	inodes  map[int64][]byte // inode bitmaps that change, by group
	limit   map[int64]int64  // inodes of a group that were ever used, afterwards
	dirs    map[int64]int64  // how many more directories a group has
	free    fsys.FreeRuns    // blocks
	moves   []disk.Move
	renamed map[int64]int64  // new numbers of inodes that move
	attrs   map[int64]int64  // new places of blocks with extended attributes
	nodes   map[int64][]byte // blocks of maps as they will be, by their new place
	fresh   []disk.Patch     // inodes that were never used, under those that are now
	packer  disk.Packer
	journal []byte // the journal's inode, when it changes
}

// Least tries how small the volume can become: its groups with what they need themselves, and all that is in use.
func (v *Volume) Least() (int64, string, error) {
	if why := keeps(v); why != "" {
		return v.info.Size, why, nil
	}
	groups, err := v.descriptors()
	if err != nil {
		return 0, "", err
	}
	contents, inodes, err := v.contentsUsed(groups)
	if err != nil {
		return 0, "", err
	}
	want := contents + max(contents/spareShare, leastFree/v.blockSize)
	inodes += inodes/spareShare + 16
	n, room := int64(0), int64(0)
	for ; n < v.groups && (room < want || n*v.inodesPerGrp < inodes); n++ {
		room += v.blocksPerGrp - v.overhead(n)
	}
	why := units.Bytes(contents*v.blockSize) + " of it are in use"
	if n*v.inodesPerGrp < inodes+v.inodesPerGrp && room > want+v.blocksPerGrp {
		why = fmt.Sprintf("it has %d files", inodes)
	}
	for ; n < v.groups; n += max(1, (v.groups-n)/8) {
		size := v.groupStart(n) * v.blockSize
		_, err := v.shrunk(size)
		var cant *fsys.Cant
		if errors.As(err, &cant) {
			why = cant.Why
			continue
		}
		return size, why, err
	}
	return v.info.Size, "it can't become smaller: " + why, nil
}

// keeps says why a volume of this kind isn't made smaller.
func keeps(v *Volume) string {
	switch {
	case v.ratio > 1:
		return "a volume with clusters of several blocks isn't made smaller"
	case v.compat&compatSparseSuper2 != 0:
		return "a volume that keeps its copies in chosen groups (sparse_super2) isn't made smaller"
	case v.incompat&incompatEAInode != 0:
		return "a volume with attributes in inodes of their own isn't made smaller"
	}
	return ""
}

// contentsUsed counts the blocks in use, without those of the groups' own structures, and the inodes.
func (v *Volume) contentsUsed(groups []group) (blocks, inodes int64, err error) {
	for i, g := range groups {
		n := min(v.blocksPerGrp, v.blocks-v.groupStart(int64(i)))
		blocks += n - g.free - v.baseMeta(int64(i)) - 2 - v.tableBlocks()
	}
	super := make([]byte, superLen)
	if err := disk.ReadFull(v.r, super, superOffset); err != nil {
		return 0, 0, err
	}
	return max(0, blocks), int64(le.Uint32(super[sbInodes:])) - int64(le.Uint32(super[sbFreeInodes:])), nil
}

// shrink gives what becomes of the volume on a smaller part of size bytes.
func (v *Volume) shrink(size int64) (*fsys.Change, error) {
	s, err := v.shrunk(size)
	if err != nil {
		return nil, fmt.Errorf("its %s can't be made as small as %s: %w", v.info.Kind, units.Bytes(size), err)
	}
	c := &fsys.Change{Size: s.v.blocks * v.blockSize}
	c.Keep(c.Size, s.moves)
	c.Patches, err = disk.SortPatches(disk.Over(s.patches, s.fresh), size)
	if n := len(s.renamed); n > 0 {
		c.Notes = append(c.Notes, fmt.Sprintf("%s get other inode numbers", units.Plural(n, "file")))
	}
	return c, err
}

// shrunk plans the volume as it will be on so many bytes.
func (v *Volume) shrunk(size int64) (*shrinkage, error) {
	if why := keeps(v); why != "" {
		return nil, &fsys.Cant{Why: why}
	}
	s := &shrinkage{growth: growth{old: v, super: make([]byte, superLen)}, bitmaps: map[int64][]byte{},
		inodes: map[int64][]byte{},
		limit:  map[int64]int64{}, dirs: map[int64]int64{}, renamed: map[int64]int64{}, attrs: map[int64]int64{},
		nodes: map[int64][]byte{}}
	if err := disk.ReadFull(v.r, s.super, superOffset); err != nil {
		return nil, err
	}
	s.seed = v.seed
	nv := *v
	s.v = &nv
	if err := s.cut(size / v.blockSize); err != nil {
		return nil, err
	}
	for _, step := range []func() error{s.readDescriptors, s.survey, s.renumber, s.place, s.files,
		s.resizeInodeShrunk, s.writeInodeBitmaps, s.writeBlockBitmaps} {
		if err := step(); err != nil {
			return nil, err
		}
	}
	s.writeDescriptors()
	s.shrinkSuper()
	s.writeSupers()
	return s, nil
}

// cut decides how many groups there will be. The last one must have room for its own structures.
func (s *shrinkage) cut(blocks int64) error {
	o, v := s.old, s.v
	for {
		v.blocks = blocks
		v.groups = (blocks - v.firstData + v.blocksPerGrp - 1) / v.blocksPerGrp
		if v.groups < 1 {
			return &fsys.Cant{Why: "not even one group would be left"}
		}
		last := v.groups - 1
		if n := v.blocks - v.groupStart(last); n >= o.overhead(last)+leastTail || n == v.blocksPerGrp {
			break
		}
		blocks = v.groupStart(last)
	}
	v.descBlocks = (v.groups + v.descPerBlock - 1) / v.descPerBlock
	if o.compat&compatResizeInode != 0 { // the room that is no longer needed for descriptors is kept for others
		v.reservedGDT = min(o.reservedGDT+o.descBlocks-v.descBlocks, v.blockSize/4)
	}
	if o.incompat&incompatMetaBG != 0 {
		v.reservedGDT = o.reservedGDT
	}
	return nil
}

func (s *shrinkage) readDescriptors() error {
	o := s.old
	all := make([]byte, o.descBlocks*o.blockSize)
	for i := range o.descBlocks {
		if err := disk.ReadFull(o.r, all[i*o.blockSize:(i+1)*o.blockSize], o.descBlock(i)*o.blockSize); err != nil {
			return fmt.Errorf("group descriptors: %w", err)
		}
	}
	s.desc = all[:s.v.descBlocks*o.blockSize]
	clear(s.desc[s.v.groups*o.descSize:])
	var err error
	s.groups, err = o.descriptors()
	return err
}

// survey finds what is free in the groups that stay, and sees that their own structures stay too.
func (s *shrinkage) survey() error {
	o, v := s.old, s.v
	bs := o.blockSize
	s.meta = o.metadata(s.groups)
	for n := range v.groups {
		g := s.groups[n]
		if max(g.blockBitmap, g.inodeBitmap, g.inodeTable+o.tableBlocks()-1) >= v.blocks {
			return &fsys.Cant{Why: fmt.Sprintf("the tables of group %d lie beyond that", n)}
		}
	}
	// The structures of the groups that go leave room in those that stay (flex_bg).
	var leaves []span.Span
	for _, g := range s.groups[v.groups:] {
		leaves = append(leaves, span.At(g.blockBitmap*bs, bs), span.At(g.inodeBitmap*bs, bs),
			span.At(g.inodeTable*bs, o.tableBlocks()*bs))
	}
	left := span.Of(leaves...).Clip(span.Span{End: v.blocks * bs})
	if o.incompat&incompatMetaBG == 0 && o.reservedGDT+o.descBlocks > v.reservedGDT+v.descBlocks {
		for n := range v.groups { // descriptors that nobody needs any more
			if o.hasSuper(n) {
				at := max(o.groupStart(n), o.superBlockOf(n)) + 1
				left.Add(span.Span{Start: (at + v.descBlocks + v.reservedGDT) * bs,
					End: (at + o.descBlocks + o.reservedGDT) * bs})
			}
		}
	}
	bits := make([]byte, bs)
	for n := range v.groups {
		used, err := o.groupUsed(n, s.groups[n], s.meta, bits)
		if err != nil {
			return err
		}
		area := v.groupSpan(n)
		gone := left.Clip(area)
		if !gone.Empty() || n == v.groups-1 && o.groupSpan(n) != area {
			s.bitmaps[n] = s.bitmapOf(n, used.Subtract(gone))
		}
		for sp := range span.Of(area).Subtract(used.Subtract(gone)).All() {
			s.free.Add(span.Span{Start: sp.Start / bs, End: sp.End / bs})
		}
	}
	return nil
}

// bitmapOf is a group's bitmap for the blocks that are used, in bytes of the volume.
func (s *shrinkage) bitmapOf(n int64, used span.Set) []byte {
	bs := s.v.blockSize
	area := s.v.groupSpan(n)
	b := make([]byte, bs)
	for sp := range used.Clip(area).All() {
		setBits(b, (sp.Start-area.Start)/bs, (sp.End-area.Start)/bs)
	}
	setBits(b, area.Len()/bs, 8*bs)
	return b
}

// bitmap is the changed bitmap of the group of a block.
func (s *shrinkage) bitmapAt(block int64) ([]byte, int64, error) {
	n := (block - s.v.firstData) / s.v.blocksPerGrp
	if s.bitmaps[n] == nil {
		used, err := s.old.groupUsed(n, s.groups[n], s.meta, make([]byte, s.old.blockSize))
		if err != nil {
			return nil, 0, err
		}
		s.bitmaps[n] = s.bitmapOf(n, used)
	}
	return s.bitmaps[n], block - s.v.groupStart(n), nil
}

// take gives n blocks before the new end and marks them.
func (s *shrinkage) take(n int64) ([]span.Span, error) {
	runs, err := s.free.TakeNext(n)
	if err != nil {
		return nil, &fsys.Cant{Why: err.Error()}
	}
	for _, r := range runs {
		if err := s.mark(r); err != nil {
			return nil, err
		}
	}
	return runs, nil
}

// mark marks blocks before the new end as used.
func (s *shrinkage) mark(blocks span.Span) error {
	for b := blocks.Start; b < blocks.End; b++ {
		bits, i, err := s.bitmapAt(b)
		if err != nil {
			return err
		}
		bits[i/8] |= 1 << (i % 8)
	}
	return nil
}

// release marks a block before the new end as free. It isn't used again here.
func (s *shrinkage) release(block int64) error {
	bits, i, err := s.bitmapAt(block)
	if err == nil {
		bits[i/8] &^= 1 << (i % 8)
	}
	return err
}

// inodeBitmap reads a group's inode bitmap and how many of its inodes were ever used.
func (s *shrinkage) inodeBitmap(n int64) (b []byte, limit int64, err error) {
	o := s.old
	b = make([]byte, o.blockSize)
	d := make([]byte, o.descSize)
	if err := disk.ReadFull(o.r, d, o.descBlock(n/o.descPerBlock)*o.blockSize+n%o.descPerBlock*o.descSize); err != nil {
		return nil, 0, err
	}
	limit = o.inodesPerGrp
	if o.ro&(roGDTCsum|roMetadataCsum) != 0 {
		unused := int64(le.Uint16(d[bgUnusedLo:]))
		if len(d) >= newDescSize {
			unused |= int64(le.Uint16(d[bgUnusedHi:])) << 16
		}
		limit = max(0, o.inodesPerGrp-unused)
		if le.Uint16(d[bgFlags:])&groupInodesUninit != 0 {
			setBits(b, o.inodesPerGrp, 8*o.blockSize)
			return b, 0, nil
		}
	}
	return b, limit, disk.ReadFull(o.r, b, s.groups[n].inodeBitmap*o.blockSize)
}

// renumber gives the inodes of the groups that go other numbers.
func (s *shrinkage) renumber() error {
	o, v := s.old, s.v
	var homeless []int64
	for n := v.groups; n < o.groups; n++ {
		b, limit, err := s.inodeBitmap(n)
		if err != nil {
			return err
		}
		for i := range limit {
			if b[i/8]&(1<<(i%8)) != 0 {
				homeless = append(homeless, n*o.inodesPerGrp+i+1)
			}
		}
		if len(homeless) > maxChanges {
			return &fsys.Cant{Why: fmt.Sprintf("more than %d files would get other numbers", maxChanges)}
		}
	}
	if len(homeless) > 0 && o.incompat&(incompatInline|incompatEncrypt|incompatCasefold) != 0 {
		return &fsys.Cant{Why: "files would get other numbers, which isn't done where small files are kept in their " +
			"inodes or names are encrypted"}
	}
	for n := int64(0); n < v.groups && len(homeless) > 0; n++ {
		b, limit, err := s.inodeBitmap(n)
		if err != nil {
			return err
		}
		first := int64(0)
		if n == 0 {
			first = s.firstInode()
		}
		was := limit
		for i := first; i < o.inodesPerGrp && len(homeless) > 0; i++ {
			if b[i/8]&(1<<(i%8)) != 0 {
				continue
			}
			b[i/8] |= 1 << (i % 8)
			s.renamed[homeless[0]] = n*o.inodesPerGrp + i + 1
			homeless = homeless[1:]
			limit = max(limit, i+1)
			s.inodes[n] = b
		}
		if s.inodes[n] != nil {
			s.limit[n] = limit
		}
		if limit > was { // inodes that were never used may hold anything
			at := s.groups[n].inodeTable*o.blockSize + was*o.inodeSize
			s.fresh = append(s.fresh, disk.Patch{Off: at, Zeros: (limit - was) * o.inodeSize, Why: "inodes"})
		}
	}
	if len(homeless) > 0 {
		return &fsys.Cant{Why: fmt.Sprintf("there are too few inodes: %d files have none", len(homeless))}
	}
	return nil
}

// firstInode is the number of the first inode that isn't the file system's own.
func (s *shrinkage) firstInode() int64 { return max(11, int64(le.Uint32(s.super[sbFirstInode:]))) }

// slot is at which byte an inode stands, by its new number.
func (s *shrinkage) slot(number int64) int64 {
	n, i := (number-1)/s.v.inodesPerGrp, (number-1)%s.v.inodesPerGrp
	return s.groups[n].inodeTable*s.v.blockSize + i*s.v.inodeSize
}

// writeInodeBitmaps writes the inode bitmaps that changed, with the counts of their groups.
func (s *shrinkage) writeInodeBitmaps() error {
	v := s.v
	for _, n := range sortedKeys(s.inodes) {
		b := s.inodes[n]
		d := s.descriptor(n)
		used := int64(0)
		for i := range v.inodesPerGrp {
			used += int64(b[i/8] >> (i % 8) & 1)
		}
		s.put16(d, bgFreeInodesLo, bgHi+bgFreeInodesLo, uint32(v.inodesPerGrp-used))
		dirs := int64(le.Uint16(d[bgDirsLo:]))
		if len(d) >= newDescSize {
			dirs |= int64(le.Uint16(d[bgHi+bgDirsLo:])) << 16
		}
		s.put16(d, bgDirsLo, bgHi+bgDirsLo, uint32(dirs+s.dirs[n]))
		if v.ro&(roGDTCsum|roMetadataCsum) != 0 {
			le.PutUint16(d[bgFlags:], le.Uint16(d[bgFlags:])&^groupInodesUninit)
			s.put16(d, bgUnusedLo, bgUnusedHi, uint32(v.inodesPerGrp-s.limit[n]))
		}
		s.add(s.groups[n].inodeBitmap, b, "inode bitmap")
		if v.ro&roMetadataCsum != 0 {
			s.put16(d, bgInodeCsumLo, bgInodeCsumHi, csum(s.seed, b[:v.inodesPerGrp/8]))
		}
		s.seal(n, d)
	}
	return nil
}

// writeBlockBitmaps writes the block bitmaps that changed, with the counts of their groups.
func (s *shrinkage) writeBlockBitmaps() error {
	v := s.v
	for _, n := range sortedKeys(s.bitmaps) {
		b := s.bitmaps[n]
		d := s.descriptor(n)
		free := v.groupSpan(n).Len() / v.blockSize
		for i := range free / 8 {
			free -= int64(bits.OnesCount8(b[i]))
		}
		for i := v.groupSpan(n).Len() / v.blockSize / 8 * 8; i < v.groupSpan(n).Len()/v.blockSize; i++ {
			free -= int64(b[i/8] >> (i % 8) & 1)
		}
		s.put16(d, bgFreeBlocksLo, bgHi+bgFreeBlocksLo, uint32(free))
		le.PutUint16(d[bgFlags:], le.Uint16(d[bgFlags:])&^groupBlocksUninit)
		s.putBlockBitmap(d, s.groups[n].blockBitmap, b)
		s.seal(n, d)
	}
	return nil
}

// shrinkSuper prepares the super block's counts: what writeSupers adds to them leads from the old ones to the sums over
// the groups.
func (s *shrinkage) shrinkSuper() {
	o, v := s.old, s.v
	blocks, inodes := int64(0), int64(0)
	for n := range v.groups {
		d := s.descriptor(n)
		f, i := int64(le.Uint16(d[bgFreeBlocksLo:])), int64(le.Uint16(d[bgFreeInodesLo:]))
		if len(d) >= newDescSize {
			f |= int64(le.Uint16(d[bgHi+bgFreeBlocksLo:])) << 16
			i |= int64(le.Uint16(d[bgHi+bgFreeInodesLo:])) << 16
		}
		blocks, inodes = blocks+f, inodes+i
	}
	was := int64(le.Uint32(s.super[sbFreeLo:]))
	if v.incompat&incompat64bit != 0 {
		was |= int64(le.Uint32(s.super[sbFreeHi:])) << 32
	}
	s.growth.free = blocks - was
	le.PutUint32(s.super[sbFreeInodes:], uint32(inodes+(o.groups-v.groups)*v.inodesPerGrp))
	if s.journal != nil && s.super[sbJournalBackup] == 1 {
		copy(s.super[sbJournalBlocks:], s.journal[inoBlock:inoBlock+60])
		copy(s.super[sbJournalBlocks+60:], s.journal[inoSizeHi:inoSizeHi+4])
		copy(s.super[sbJournalBlocks+64:], s.journal[inoSizeLo:inoSizeLo+4])
	}
}

// resizeInodeShrunk keeps inode 7 true: fewer copies, and more room, since fewer descriptors are needed.
func (s *shrinkage) resizeInodeShrunk() error {
	o, v := s.old, s.v
	if o.compat&compatResizeInode == 0 {
		return nil
	}
	ino, at, dind, list, err := o.descriptorRoom()
	if err != nil {
		return err
	}
	if dind >= v.blocks {
		return &fsys.Cant{Why: "the map of the room for descriptors lies beyond that"}
	}
	per := o.blockSize / 4
	var copies []int64
	for n := int64(1); n < v.groups; n++ {
		if v.hasSuper(n) {
			copies = append(copies, n)
		}
	}
	clear(list)
	for i := v.descBlocks; i < v.descBlocks+v.reservedGDT; i++ {
		at := o.superBlock() + 1 + i
		le.PutUint32(list[4*(i%per):], uint32(at))
		var b []byte
		for _, n := range copies {
			b = le.AppendUint32(b, uint32(at+n*o.blocksPerGrp))
		}
		s.addShort(at, b, "room for more group descriptors")
	}
	le.PutUint32(ino[inoBlocksLo:], uint32((1+v.reservedGDT*int64(1+len(copies)))*(o.blockSize/512)))
	s.add(dind, list, "map of the room for group descriptors")
	s.patches = append(s.patches,
		disk.Patch{Off: at, Data: s.sealInode(resizeInode, ino), Why: "inode of the room for group descriptors"})
	return nil
}

func sortedKeys[V any](m map[int64]V) []int64 {
	out := make([]int64, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.SortFunc(out, func(a, b int64) int { return cmp.Compare(a, b) })
	return out
}
