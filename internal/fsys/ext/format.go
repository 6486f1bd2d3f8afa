package ext

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

func maker() fsys.Maker {
	return fsys.Maker{
		Kind: "ext4", About: "Linux; journal and checksums", Systems: []string{"Linux"}, FileLimit: 16 * units.TiB,
		Min: func(int) int64 { return units.MiB }, Max: func(int) int64 { return 256 * 1024 * units.GiB },
		Units: blockSizes, Label: checkLabel, Make: format,
		GPTType: "0FC63DAF-8483-4772-8E79-3D69D8477DE4", MBRType: "0x83",
		UsualFor: "Linux", Shared: 3, Succeeds: []string{"ext2", "ext3"},
	}
}

// blockSizes: 4 KiB, or 1 KiB under 512 MiB as is usual; never less than a sector.
func blockSizes(size int64, sector int) (choice []int64, byDefault int64) {
	for _, n := range fsys.PowersOfTwo(max(1024, int64(sector)), 4096) {
		if size/n <= 1<<32 || n == 4096 {
			choice = append(choice, n)
		}
	}
	byDefault = 4096
	if size < 512*units.MiB && sector < 4096 {
		byDefault = 1024
	}
	return choice, byDefault
}

// checkLabel: 16 bytes of UTF-8 without a slash.
func checkLabel(label string) error {
	if err := fsys.PlainLabel("ext4", label, 16); err != nil {
		return err
	}
	if len(label) > 16 {
		return fmt.Errorf("the label %q takes %d bytes; ext4 has room for 16 (letters beyond a to z take two or more)",
			label, len(label))
	}
	if strings.Contains(label, "/") {
		return errors.New("the label holds a slash, which ext4's tools take for a path; leave it out")
	}
	return nil
}

// What a new volume has. Group descriptors are 64 bytes long.
const (
	newCompat   = compatJournal | compatExtAttr | compatDirIndex
	newIncompat = incompatFiletype | incompatExtents | incompat64bit | incompatFlexBG
	newRO       = roSparseSuper | roLargeFile | roHugeFile | roDirNlink | roExtraIsize | roMetadataCsum

	newInodeSize = 256
	newDescSize  = 64
	flexGroups   = 16 // groups whose bitmaps and inode tables stand together
	logFlex      = 4

	// Blocks that a last group must have beyond its own tables, or it is left out.
	leastTail = 50
	// One block in a hundred is kept for the administrator.
	reservedShare = 100
	noJournal     = 2048 // volumes of fewer blocks get none
)

// layout is a new volume while it is planned. Places and counts are in blocks.
type layout struct {
	f         fsys.Form
	bs        int64
	blocks    int64
	first     int64 // block of group 0
	perGroup  int64
	groups    int64
	inodes    int64 // per group
	table     int64 // blocks of an inode table
	desc      int64 // blocks of the group descriptors
	spare     int64 // blocks kept for more group descriptors
	seed      uint32
	group     []groupPlan
	taken     span.Set // blocks
	cursor    int64    // where the search for free blocks begins
	journal   []span.Span
	journalN  int64
	leaf      int64 // extent block of the journal; 0 without
	dirBlock  int64 // the root directory
	lostFound span.Span
	dind      int64 // the resize inode's double indirect block
	patches   []disk.Patch
}

// groupPlan is where a group's structures stand.
type groupPlan struct {
	blockBitmap, inodeBitmap, inodeTable int64
	touched                              bool // it holds more than its own copy of the super block
	free                                 int64
}

func format(f fsys.Form) ([]disk.Patch, error) {
	l := &layout{f: f, bs: f.Unit}
	if err := l.measure(); err != nil {
		return nil, err
	}
	if err := l.place(); err != nil {
		return nil, err
	}
	l.write()
	return l.patches, nil
}

// measure decides the counts: as many groups as there is room for, and one inode for
// every 16 KiB (4 KiB on small volumes, 32 and 64 KiB on very large ones).
func (l *layout) measure() error {
	l.blocks = l.f.Size / l.bs
	l.perGroup = 8 * l.bs
	if l.bs == 1024 {
		l.first = 1
	}
	ratio := int64(16384)
	switch {
	case l.f.Size >= 16*units.TiB:
		ratio = 65536
	case l.f.Size >= 4*units.TiB:
		ratio = 32768
	case l.f.Size < 512*units.MiB:
		ratio = 4096
	}
	for {
		l.groups = (l.blocks - l.first + l.perGroup - 1) / l.perGroup
		if l.groups < 1 {
			return fmt.Errorf("%s is too small for ext4", units.Bytes(l.f.Size))
		}
		perBlock := l.bs / newInodeSize
		l.inodes = (l.blocks*l.bs/ratio + l.groups - 1) / l.groups
		l.inodes = min(max((l.inodes+perBlock-1)/perBlock*perBlock, (16+perBlock-1)/perBlock*perBlock), 8*l.bs)
		l.inodes = (l.inodes + 7) / 8 * 8
		l.table = l.inodes / perBlock
		l.desc = (l.groups*newDescSize + l.bs - 1) / l.bs
		l.spare = l.spareDescriptors()
		// A last group without room for its own structures is left out.
		last := l.blocks - l.first - (l.groups-1)*l.perGroup
		overhead := 2 + l.table
		if l.hasSuper(l.groups - 1) {
			overhead += 1 + l.desc + l.spare
		}
		if last >= overhead+leastTail || l.groups == 1 {
			break
		}
		l.blocks -= last
	}
	if l.groups*l.inodes > 1<<32-1 {
		l.inodes = (1<<32 - 1) / l.groups / 128 * 128
		l.table = l.inodes * newInodeSize / l.bs
	}
	if l.groups == 1 && l.blocks < 1+l.desc+l.spare+2+l.table+leastTail {
		return fmt.Errorf("%s is too small for ext4", units.Bytes(l.f.Size))
	}
	return nil
}

// spareDescriptors is how many blocks are kept so that the volume can later grow
// by a thousand times, as far as block numbers of 32 bits reach.
func (l *layout) spareDescriptors() int64 {
	if l.blocks > 1<<32-1 {
		return 0
	}
	most := min(l.blocks*1024, 1<<32-1)
	groups := (most - l.first + l.perGroup - 1) / l.perGroup
	n := (groups*newDescSize+l.bs-1)/l.bs - l.desc
	return max(0, min(n, l.bs/4, l.bs/4-l.desc))
}

// hasSuper: groups 0 and 1 and the powers of 3, 5 and 7 hold copies.
func (l *layout) hasSuper(g int64) bool {
	if g <= 1 {
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

func (l *layout) start(g int64) int64 { return l.first + g*l.perGroup }

func (l *layout) end(g int64) int64 { return min(l.start(g)+l.perGroup, l.blocks) }

func (l *layout) backups() []int64 {
	var out []int64
	for g := int64(1); g < l.groups; g++ {
		if l.hasSuper(g) {
			out = append(out, g)
		}
	}
	return out
}

// place finds room for everything.
func (l *layout) place() error {
	l.group = make([]groupPlan, l.groups)
	if l.first > 0 {
		l.taken.Add(span.At(0, l.first))
	}
	for g := range l.groups {
		if l.hasSuper(g) {
			l.taken.Add(span.At(l.start(g), 1+l.desc+l.spare))
		}
	}
	for flex := int64(0); flex < l.groups; flex += flexGroups {
		end := min(flex+flexGroups, l.groups)
		l.cursor = l.start(flex)
		var err error
		for _, what := range []struct {
			n  int64
			to func(*groupPlan) *int64
		}{
			{1, func(p *groupPlan) *int64 { return &p.blockBitmap }},
			{1, func(p *groupPlan) *int64 { return &p.inodeBitmap }},
			{l.table, func(p *groupPlan) *int64 { return &p.inodeTable }},
		} {
			for g := flex; g < end; g++ {
				if *what.to(&l.group[g]), err = l.claim(what.n, l.end(end-1)); err != nil {
					return err
				}
			}
		}
	}
	var err error
	l.cursor = l.first
	if l.dirBlock, err = l.claim(1, l.blocks); err != nil {
		return err
	}
	n := max(1, min(16*units.KiB/l.bs, 12))
	at, err := l.claim(n, l.blocks)
	if err != nil {
		return err
	}
	l.lostFound = span.At(at, n)
	if l.spare > 0 {
		if l.dind, err = l.claim(1, l.blocks); err != nil {
			return err
		}
	}
	if err := l.placeJournal(); err != nil {
		return err
	}
	l.count()
	return nil
}

// claim takes n free blocks in a row, before block limit.
func (l *layout) claim(n, limit int64) (int64, error) {
	want := span.At(l.cursor, n)
	for want.End <= limit {
		hit := l.taken.Clip(want)
		if hit.Empty() {
			l.taken.Add(want)
			l.touch(want)
			l.cursor = want.End
			return want.Start, nil
		}
		want = span.At(hit.Bounds().End, n)
	}
	return 0, fmt.Errorf("%s is too small for ext4: its own tables don't fit", units.Bytes(l.f.Size))
}

func (l *layout) touch(sp span.Span) {
	for g := (sp.Start - l.first) / l.perGroup; g <= (sp.End-1-l.first)/l.perGroup; g++ {
		l.group[g].touched = true
	}
}

// journalBlocks is the usual size for a volume of so many blocks.
func journalBlocks(blocks int64) int64 {
	for _, s := range []struct{ under, n int64 }{
		{noJournal, 0}, {32768, 1024}, {256 << 10, 4096}, {512 << 10, 8192}, {4096 << 10, 16384}, {8192 << 10, 32768},
		{16384 << 10, 65536}, {32768 << 10, 131072},
	} {
		if blocks < s.under {
			return s.n
		}
	}
	return 262144
}

// placeJournal puts the journal into free stretches from the middle of the volume on.
func (l *layout) placeJournal() error {
	left := journalBlocks(l.blocks)
	l.journalN = left
	at := l.start(l.groups / 2 / flexGroups * flexGroups)
	if l.groups <= flexGroups {
		at = l.first
	}
	for left > 0 {
		free := l.taken.Complement(span.Span{Start: at, End: l.blocks}).Clip(span.Span{Start: at,
			End: min(l.blocks, at+l.perGroup*flexGroups)})
		for sp := range free.All() {
			for left > 0 && !sp.Empty() {
				piece := span.At(sp.Start, min(sp.Len(), left, maxExtent))
				l.journal = append(l.journal, piece)
				left -= piece.Len()
				sp.Start = piece.End
			}
		}
		if at += l.perGroup * flexGroups; at >= l.blocks && left > 0 {
			return fmt.Errorf("%s is too small for ext4 with a journal", units.Bytes(l.f.Size))
		}
	}
	for _, sp := range l.journal {
		l.taken.Add(sp)
		l.touch(sp)
	}
	if len(l.journal) > inlineExtents {
		var err error
		if l.leaf, err = l.claim(1, l.blocks); err != nil {
			return err
		}
	}
	return nil
}

// count fills in each group's free blocks.
func (l *layout) count() {
	for g := range l.groups {
		area := span.Span{Start: l.start(g), End: l.end(g)}
		l.group[g].free = area.Len() - l.taken.Clip(area).Total()
	}
}

// add puts bytes at a block.
func (l *layout) add(block int64, b []byte, why string) {
	l.patches = append(l.patches, disk.Patch{Off: block * l.bs, Data: b, Why: why})
}

// le is the byte order of everything but the journal.
var le = binary.LittleEndian
