package ext

import (
	"fmt"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

var _ fsys.RootWriter = (*Volume)(nil)

const (
	// maxAdded bounds the blocks of a file that is added, maxListed where an inode names each of them.
	maxAdded  = 256
	maxListed = indirectSlot
	typeFile  = 1 // as the file type of an entry
	plain644  = modeFile | 0o644
	// unchangedFeatures are those with which a file isn't added: what they keep beside the file isn't kept true here.
	unchangedRO       = roBigalloc | roQuota | roProject | roReadonly | roVerity
	unchangedIncompat = incompatEncrypt | incompatCasefold | incompatDirData
)

// adding is a file that is put into the root folder.
type adding struct {
	growth
	groups []group
}

// AddToRoot gives the patches that put a new file into the root folder. Its blocks lie together, in one group.
func (v *Volume) AddToRoot(name string, contents []byte, when time.Time) ([]disk.Patch, error) {
	if err := fsys.NewInRoot(v, name); err != nil {
		return nil, err
	}
	if v.ro&unchangedRO != 0 || v.incompat&unchangedIncompat != 0 {
		return nil, &fsys.Cant{Why: "it has features with which no file is added here"}
	}
	nv := *v
	a := &adding{growth: growth{old: v, v: &nv, seed: v.seed, bitmaps: map[string][]byte{},
		super: make([]byte, superLen)}}
	if err := disk.ReadFull(v.r, a.super, superOffset); err != nil {
		return nil, err
	}
	if err := a.readDescriptors(); err != nil {
		return nil, err
	}
	var err error
	if a.groups, err = v.descriptors(); err != nil {
		return nil, err
	}
	number, at, err := a.takeInode()
	if err != nil {
		return nil, err
	}
	blocks, err := a.takeBlocks((int64(len(contents)) + v.blockSize - 1) / v.blockSize)
	if err != nil {
		return nil, err
	}
	for i := range blocks.Len() {
		b := make([]byte, v.blockSize)
		copy(b, contents[i*v.blockSize:])
		a.add(blocks.Start+i, b, "contents of "+name)
	}
	ino := a.newInode(number, blocks, int64(len(contents)), when)
	a.patches = append(a.patches, disk.Patch{Off: at, Data: ino, Why: fmt.Sprintf("inode %d", number)})
	if err := a.enter(name, number); err != nil {
		return nil, err
	}
	a.firstTouched = 0
	a.writeDescriptors()
	a.writeSupers()
	return disk.SortPatches(a.patches, v.info.Size)
}

// freeInodes is how many inodes of a group are free.
func (a *adding) freeInodes(d []byte) uint32 {
	n := uint32(le.Uint16(d[bgFreeInodesLo:]))
	if len(d) >= newDescSize {
		n |= uint32(le.Uint16(d[bgHi+bgFreeInodesLo:])) << 16
	}
	return n
}

// takeInode finds an inode that is free, in a group that has inodes in use already. at is its byte of the volume.
func (a *adding) takeInode() (number, at int64, err error) {
	v := a.v
	lazy := v.ro&(roGDTCsum|roMetadataCsum) != 0
	first := max(int64(le.Uint32(a.super[sbFirstInode:])), lostFoundInode)
	for n := range v.groups {
		d := a.descriptor(n)
		if a.freeInodes(d) == 0 || lazy && le.Uint16(d[bgFlags:])&groupInodesUninit != 0 {
			continue
		}
		bits := make([]byte, v.blockSize)
		if err := disk.ReadFull(v.r, bits, a.groups[n].inodeBitmap*v.blockSize); err != nil {
			return 0, 0, fmt.Errorf("inode bitmap of group %d: %w", n, err)
		}
		for i := range v.inodesPerGrp {
			number = n*v.inodesPerGrp + i + 1
			if number < first || bits[i/8]&(1<<(i%8)) != 0 {
				continue
			}
			bits[i/8] |= 1 << (i % 8)
			a.tookInode(n, i, bits, lazy)
			return number, a.groups[n].inodeTable*v.blockSize + i*v.inodeSize, nil
		}
	}
	return 0, 0, &fsys.Cant{Why: "it has no free inode among those in use"}
}

// tookInode writes down that inode i of group n is taken; bits is the bitmap with it.
func (a *adding) tookInode(n, i int64, bits []byte, lazy bool) {
	v, d := a.v, a.descriptor(n)
	a.put16(d, bgFreeInodesLo, bgHi+bgFreeInodesLo, a.freeInodes(d)-1)
	if lazy {
		made := max(v.inodesMade(d), i+1)
		a.put16(d, bgUnusedLo, bgUnusedHi, uint32(v.inodesPerGrp-made))
	}
	a.add(a.groups[n].inodeBitmap, bits, "inode bitmap")
	if v.ro&roMetadataCsum != 0 {
		a.put16(d, bgInodeCsumLo, bgInodeCsumHi, csum(a.seed, bits[:v.inodesPerGrp/8]))
	}
	a.seal(n, d)
	le.PutUint32(a.super[sbFreeInodes:], le.Uint32(a.super[sbFreeInodes:])-1)
}

// takeBlocks finds n free blocks that lie together.
func (a *adding) takeBlocks(n int64) (span.Span, error) {
	if n == 0 {
		return span.Span{}, nil
	}
	most := int64(maxListed)
	if a.v.incompat&incompatExtents != 0 {
		most = maxAdded
	}
	if n > most {
		return span.Span{}, &fsys.Cant{Why: fmt.Sprintf("a file of more than %d blocks isn't added", most)}
	}
	for i := range a.v.groups {
		if a.groups[i].free < n {
			continue
		}
		var found span.Span
		patches, desc, free := a.patches, append([]byte(nil), a.descriptor(i)...), a.free
		err := a.edit(i, func(bits []byte) int64 {
			if found = firstClear(bits, n); found.Empty() {
				return 0
			}
			setBits(bits, found.Start, found.End)
			return -n
		})
		if err != nil {
			return span.Span{}, err
		}
		if !found.Empty() {
			return found.Shift(a.v.groupStart(i)), nil
		}
		a.patches, a.free = patches, free
		copy(a.descriptor(i), desc)
	}
	return span.Span{}, &fsys.Cant{Why: fmt.Sprintf("it has no %d free blocks that lie together", n)}
}

// firstClear finds n clear bits in a row.
func firstClear(bits []byte, n int64) span.Span {
	from := int64(0)
	for i := range int64(len(bits)) * 8 {
		if bits[i/8]&(1<<(i%8)) != 0 {
			from = i + 1
		}
		if i+1-from == n {
			return span.Span{Start: from, End: i + 1}
		}
	}
	return span.Span{}
}

// newInode is the inode of a file of so many bytes in some blocks.
func (a *adding) newInode(number int64, blocks span.Span, size int64, when time.Time) []byte {
	v := a.v
	b := make([]byte, v.inodeSize)
	le.PutUint16(b[inoMode:], plain644)
	le.PutUint16(b[inoLinks:], 1)
	le.PutUint32(b[inoSizeLo:], uint32(size))
	le.PutUint32(b[inoBlocksLo:], uint32(blocks.Len()*v.blockSize/512))
	for _, at := range []int{inoAtime, inoCtime, inoMtime} {
		le.PutUint32(b[at:], uint32(when.Unix()))
	}
	if v.incompat&incompatExtents != 0 {
		le.PutUint32(b[inoFlags:], flagExtents)
		var x []span.Span
		if !blocks.Empty() {
			x = append(x, blocks)
		}
		copy(b[inoBlock:], extentNode(x, inlineExtents))
	} else {
		for i := range blocks.Len() {
			le.PutUint32(b[inoBlock+4*i:], uint32(blocks.Start+i))
		}
	}
	if v.inodeSize >= inoBase+extraSize {
		le.PutUint16(b[inoExtraSize:], extraSize)
		le.PutUint32(b[inoCrtime:], uint32(when.Unix()))
	}
	return a.sealInode(uint32(number), b)
}

// enter puts a name into the first place of the root folder that has room.
func (a *adding) enter(name string, number int64) error {
	v := a.v
	root, err := v.readInode(rootInode)
	if err != nil {
		return err
	}
	if root.flags&(flagInline|flagIndex) != 0 {
		return &fsys.Cant{Why: "its root folder is kept in a way in which no name is added here"}
	}
	x, err := v.extents(root)
	if err != nil {
		return err
	}
	for _, e := range x {
		for i := range min(e.n, (root.size+v.blockSize-1)/v.blockSize-e.logical) {
			b := make([]byte, v.blockSize)
			if err := disk.ReadFull(v.r, b, (e.physical+i)*v.blockSize); err != nil {
				return err
			}
			if !a.insert(b, name, number) {
				continue
			}
			if v.ro&roMetadataCsum != 0 {
				seed := csum(v.seed, u32(rootInode), root.raw[inoGeneration:inoGeneration+4])
				le.PutUint32(b[len(b)-4:], csum(seed, b[:len(b)-dirTailLen]))
			}
			a.add(e.physical+i, b, "root folder")
			return nil
		}
	}
	return &fsys.Cant{Why: "its root folder has no room for one more name"}
}

// insert puts a name into a block of names, into room that an entry doesn't need; false where there is none.
func (a *adding) insert(b []byte, name string, number int64) bool {
	end := len(b)
	if a.v.ro&roMetadataCsum != 0 {
		end -= dirTailLen
	}
	kind := byte(0)
	if a.v.incompat&incompatFiletype != 0 {
		kind = typeFile
	}
	entryLen := func(name int) int { return (dirHeader + name + 3) &^ 3 }
	want := entryLen(len(name))
	for at := 0; at+dirHeader <= end; {
		n := int(le.Uint16(b[at+4:]))
		if n == 0 || n == 0xFFFF {
			n = len(b) // the whole block of 64 KiB
		}
		if n < dirHeader || at+n > end {
			return false
		}
		keep := 0
		if le.Uint32(b[at:]) != 0 {
			keep = entryLen(int(b[at+6]))
		}
		if n-keep >= want {
			if keep > 0 {
				le.PutUint16(b[at+4:], uint16(keep))
			}
			copy(b[at+keep:at+n], dirEntry(uint32(number), int64(n-keep), kind, name))
			return true
		}
		at += n
	}
	return false
}
