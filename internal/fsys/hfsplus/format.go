package hfsplus

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf16"

	"golang.org/x/text/unicode/norm"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/units"
)

const (
	usualUnit  = 4 * units.KiB
	minVolume  = 4 * units.MiB
	maxBlocks  = 1<<32 - 1
	unnamed    = "Untitled"
	catalogLen = 8192 // of a node, as attributes have it, too
	overLen    = 4096
	clump      = 64 << 10
	roomAfter  = 128 * units.MiB
)

func maker() fsys.Maker {
	return fsys.Maker{
		Kind: "HFS+", About: "Macs, with a journal; Linux only reads it", Systems: []string{"macOS"},
		Min:   func(int) int64 { return minVolume },
		Max:   func(int) int64 { return maxBlocks * usualUnit },
		Units: unitsOfVolume, Label: checkLabel, Written: written, Make: format,
		UsualFor: "macOS", RoomAfter: roomAfter,
		GPTType: "48465300-0000-11AA-AA11-00306543ECAC", MBRType: "0xaf",
	}
}

// unitsOfVolume: 4 KiB is what all systems take best; larger blocks are possible.
func unitsOfVolume(size int64, sector int) (choice []int64, byDefault int64) {
	for _, n := range fsys.PowersOfTwo(max(usualUnit, int64(sector)), 64*units.KiB) {
		if size/n >= minVolume/usualUnit/2 && size/n <= maxBlocks {
			choice = append(choice, n)
		}
	}
	return choice, usualUnit
}

// written is a label as it is written: the root folder's name is never empty.
func written(label string) string {
	if label == "" {
		return unnamed
	}
	return label
}

func checkLabel(label string) error {
	if err := fsys.PlainLabel("HFS+", label, maxName); err != nil {
		return err
	}
	if n := len(utf16.Encode([]rune(norm.NFD.String(label)))); n > maxName {
		return fmt.Errorf("the label %q takes %d units of 16 bits; HFS+ has room for %d", label, n, maxName)
	}
	if strings.ContainsRune(label, ':') {
		return fmt.Errorf("the label %q holds a colon, which HFS+ doesn't allow; leave it out", label)
	}
	return nil
}

// plot is where everything of a new volume lies, in blocks.
type plot struct {
	unit, blocks                                  int64
	bitmap, extents, catalog, attributes, journal extent
	info                                          int64 // block that describes the journal
	end                                           int64 // everything before is used
	copyFirst                                     int64 // block of the header's copy; blocks, where it lies in none
	copyAt                                        int64 // bytes
}

func layOut(f fsys.Form) plot {
	p := plot{unit: f.Unit, blocks: min(f.Size/f.Unit, maxBlocks)}
	p.copyAt, p.copyFirst = tailOf(f.Size, f.Unit, p.blocks)
	at := (headerAt + headerLen + f.Unit - 1) / f.Unit
	take := func(bytes, step int64) extent {
		step = max(step, f.Unit)
		e := extent{at, (bytes + step - 1) / step * step / f.Unit}
		at += e.count
		return e
	}
	// Trees grow by themselves; a good begin keeps them in one piece.
	share := func(part, least, most int64) int64 { return min(max(f.Size/part, least), most) }
	p.bitmap = take((p.blocks+7)/8, f.Unit)
	p.extents = take(share(1024, 64*units.KiB, 4*units.MiB), overLen)
	p.catalog = take(share(256, 128*units.KiB, 64*units.MiB), catalogLen)
	p.attributes = take(share(512, 128*units.KiB, 32*units.MiB), catalogLen)
	p.info = at
	at++
	p.journal = take(min(share(16, 512*units.KiB, 8*units.MiB)*(1+f.Size/(100*units.GiB)), 512*units.MiB), f.Unit)
	p.end = at
	return p
}

func format(f fsys.Form) ([]disk.Patch, error) {
	p := layOut(f)
	if p.end >= p.copyFirst {
		return nil, fmt.Errorf("a part of %s with blocks of %s has no room for HFS+'s own files; choose smaller blocks",
			units.Bytes(f.Size), units.Binary(f.Unit))
	}
	head := p.header(f)
	out := []disk.Patch{
		{Zeros: headerAt, Why: "start-up blocks"},
		{Off: headerAt, Data: head, Why: "volume header"},
		{Off: p.copyAt, Data: head, Why: "copy of the volume header"},
		{Off: p.copyAt + headerLen, Zeros: f.Size - p.copyAt - headerLen, Why: "end of the volume"},
		{Off: p.info * f.Unit, Data: p.journalInfo(), Why: "description of the journal"},
		{Off: p.journal.first * f.Unit, Zeros: p.journal.count * f.Unit, Why: "journal"},
	}
	out = append(out, p.bits()...)
	for _, t := range []struct {
		at    extent
		nodes []byte
		why   string
	}{
		{p.extents, emptyTree(overLen, p.bytes(p.extents), extentKeyLen, treeBigKeys), "extents overflow file"},
		{p.catalog, p.newCatalog(f), "catalog"},
		{p.attributes, emptyTree(catalogLen, p.bytes(p.attributes), attrKey, treeBigKeys|treeVariable),
			"attributes file"},
	} {
		at, n := t.at.first*f.Unit, int64(len(t.nodes))
		out = append(out, disk.Patch{Off: at, Data: t.nodes, Why: t.why},
			disk.Patch{Off: at + n, Zeros: p.bytes(t.at) - n, Why: t.why})
	}
	return slices.DeleteFunc(out, func(x disk.Patch) bool { return len(x.Data) == 0 && x.Zeros == 0 }), nil
}

func (p plot) bytes(e extent) int64 { return e.count * p.unit }

// inTail is how many blocks hold the header's copy.
func (p plot) inTail() int64 { return p.blocks - p.copyFirst }

// bits is the allocation file.
func (p plot) bits() []disk.Patch {
	const why = "allocation file"
	head := make([]byte, (p.end+7)/8)
	setBits(head, 0, p.end)
	at, end := p.bitmap.first*p.unit, (p.bitmap.first+p.bitmap.count)*p.unit
	from := p.copyFirst / 8
	tail := make([]byte, (p.blocks+7)/8-from)
	setBits(tail, p.copyFirst-from*8, p.inTail())
	if from < int64(len(head)) { // they touch
		for i, b := range tail {
			if j := from + int64(i); j < int64(len(head)) {
				head[j] |= b
			} else {
				head = append(head, b)
			}
		}
		tail, from = nil, int64(len(head))
	}
	after := at + from + int64(len(tail))
	return []disk.Patch{
		{Off: at, Data: head, Why: why},
		{Off: at + int64(len(head)), Zeros: from - int64(len(head)), Why: why},
		{Off: at + from, Data: tail, Why: why},
		{Off: after, Zeros: end - after, Why: why},
	}
}

// setBits sets n bits of a map whose highest bit comes first.
func setBits(b []byte, from, n int64) {
	for i := from; i < from+n; {
		if i%8 == 0 && from+n-i >= 8 {
			b[i/8] = 0xFF
			i += 8
			continue
		}
		b[i/8] |= 0x80 >> (i % 8)
		i++
	}
}

// clearBits clears n of them.
func clearBits(b []byte, from, n int64) {
	for i := from; i < from+n; i++ {
		b[i/8] &^= 0x80 >> (i % 8)
	}
}

// mac is a time as HFS Plus has it.
func mac(t time.Time) uint32 { return uint32(max(0, min(t.Unix()-epoch, 1<<32-1))) }

// header is the volume header.
func (p plot) header(f fsys.Form) []byte {
	be := binary.BigEndian
	b := make([]byte, headerLen)
	be.PutUint16(b[headSignature:], signPlus)
	be.PutUint16(b[headVersion:], versionPlus)
	be.PutUint32(b[headAttributes:], flagUnmounted|flagJournaled)
	copy(b[headMounter:], "HFSJ")
	be.PutUint32(b[headJournal:], uint32(p.info))
	_, zone := f.Now.Zone()
	be.PutUint32(b[headMade:], mac(f.Now)+uint32(int32(zone))) // the only time that is a local one
	for _, at := range []int{headModified, headChecked} {
		be.PutUint32(b[at:], mac(f.Now))
	}
	be.PutUint32(b[headFiles:], journalFiles)
	be.PutUint32(b[headBlockSize:], uint32(p.unit))
	be.PutUint32(b[headBlocks:], uint32(p.blocks))
	be.PutUint32(b[headFree:], uint32(p.copyFirst-p.end))
	be.PutUint32(b[headNextBlock:], uint32(p.end))
	be.PutUint32(b[headForkClump:], clump)
	be.PutUint32(b[headDataClump:], clump)
	be.PutUint32(b[headNextID:], idFirst+journalFiles)
	be.PutUint32(b[headWrites:], 1)
	be.PutUint64(b[headEncodings:], 1)
	copy(b[headIdentity:headIdentity+8], identityOf(f.ID))
	for at, e := range map[int]extent{headBitmap: p.bitmap, headExtents: p.extents, headCatalog: p.catalog,
		headAttributesF: p.attributes} {
		p.putFork(b[at:], e, p.bytes(e))
	}
	return b
}

// identityOf is the eight bytes that a volume is known by; zeros would be none.
func identityOf(id [16]byte) []byte {
	out := slices.Clone(id[:8])
	out[7] |= 1
	return out
}

// putFork writes a fork in one piece.
func (p plot) putFork(b []byte, e extent, size int64) {
	be := binary.BigEndian
	be.PutUint64(b[forkSize:], uint64(size))
	be.PutUint32(b[forkClump:], uint32(min(max(size, clump), 16*units.MiB)))
	be.PutUint32(b[forkBlocks:], uint32(e.count))
	be.PutUint32(b[forkExtents:], uint32(e.first))
	be.PutUint32(b[forkExtents+4:], uint32(e.count))
}

// journalInfo describes a journal that the first system that mounts the volume begins.
func (p plot) journalInfo() []byte {
	b := make([]byte, p.unit)
	be := binary.BigEndian
	be.PutUint32(b[journalFlags:], journalHere|journalNeeds)
	be.PutUint64(b[journalAt:], uint64(p.journal.first*p.unit))
	be.PutUint64(b[journalSize:], uint64(p.bytes(p.journal)))
	return b
}

// emptyTree is the header node of a tree without records in so many bytes.
func emptyTree(nodeSize, bytes int64, maxKey, attributes uint32) []byte {
	be := binary.BigEndian
	b := make([]byte, nodeSize)
	b[nodeKind] = kindHeader
	be.PutUint16(b[nodeRecords:], 3)
	total := bytes / nodeSize
	be.PutUint16(b[treeNodeSize:], uint16(nodeSize))
	be.PutUint16(b[treeMaxKey:], uint16(maxKey))
	be.PutUint32(b[treeNodes:], uint32(total))
	be.PutUint32(b[treeFree:], uint32(total-1))
	be.PutUint32(b[treeClump:], uint32(min(bytes, 16*units.MiB)))
	be.PutUint32(b[treeAttributes:], attributes)
	mapAt := int64(nodeHeadLen + treeHeadLen + treeUserLen)
	for i, at := range []int64{nodeHeadLen, nodeHeadLen + treeHeadLen, mapAt, nodeSize - 8} {
		be.PutUint16(b[nodeSize-2*int64(i)-2:], uint16(at))
	}
	setBits(b[mapAt:], 0, 1)
	return b
}

// record is one of a tree: its key without the length, and its data.
type record struct{ key, data []byte }

// put writes a record and says how many bytes it takes.
func (r record) put(b []byte) int {
	binary.BigEndian.PutUint16(b, uint16(len(r.key)))
	n := 2 + copy(b[2:], r.key)
	n += n % 2
	return n + copy(b[n:], r.data)
}

// The journal is in two files in the root.
const (
	journalFiles    = 2
	journalName     = ".journal"
	journalInfoName = ".journal_info_block"
	threadExists    = 2
	nobody          = 99 // whoever attaches the volume counts as its owner
	everyone        = 0o777
	regular         = 0o100000
	directory       = 0o040000
	hintsOfJournal  = hintInvisible | 1<<12 // its name can't be changed
)

func keyOf(parent uint32, name []uint16) []byte {
	be := binary.BigEndian
	b := make([]byte, keyName+2*len(name))
	be.PutUint32(b, parent)
	be.PutUint16(b[4:], uint16(len(name)))
	for i, c := range name {
		be.PutUint16(b[keyName+2*i:], c)
	}
	return b
}

func threadRecord(kind uint16, parent uint32, name []uint16) []byte {
	be := binary.BigEndian
	b := make([]byte, threadName, threadName+2+2*len(name))
	be.PutUint16(b, kind)
	be.PutUint32(b[threadParent:], parent)
	return append(b, keyOf(0, name)[4:]...)
}

// newCatalog is the beginning of the catalog: the root, and the journal's files in it.
func (p plot) newCatalog(f fsys.Form) []byte {
	be := binary.BigEndian
	now := mac(f.Now)
	base := func(n int, kind uint16, id uint32, mode uint16) []byte {
		b := make([]byte, n)
		be.PutUint16(b, kind)
		be.PutUint32(b[itemID:], id)
		for _, at := range []int{itemMade, itemModified, itemChanged, itemRead} {
			be.PutUint32(b[at:], now)
		}
		be.PutUint32(b[itemOwner:], nobody)
		be.PutUint32(b[itemGroup:], nobody)
		be.PutUint16(b[itemMode:], mode)
		return b
	}
	label := utf16.Encode([]rune(norm.NFD.String(written(f.Label))))
	root := base(folderLen, recFolder, idRoot, directory|everyone)
	be.PutUint32(root[itemValence:], journalFiles)
	all := []record{
		{keyOf(idRootParent, label), root},
		{keyOf(idRoot, nil), threadRecord(recFolderTo, idRootParent, label)},
	}
	var threads []record
	for i, x := range []struct {
		name string
		at   extent
	}{{journalName, p.journal}, {journalInfoName, extent{p.info, 1}}} {
		id, name := uint32(idFirst+i), utf16.Encode([]rune(x.name))
		b := base(fileLen, recFile, id, regular)
		be.PutUint16(b[itemFlags:], threadExists)
		copy(b[itemType:], "jrnlhfs+")
		be.PutUint16(b[itemHints:], hintsOfJournal)
		p.putFork(b[fileData:], x.at, p.bytes(x.at))
		be.PutUint32(b[fileData+forkClump:], 0)
		all = append(all, record{keyOf(idRoot, name), b})
		threads = append(threads, record{keyOf(id, nil), threadRecord(recFileTo, idRoot, name)})
	}
	return bulkTree(emptyTree(catalogLen, p.bytes(p.catalog), catalogKey, treeBigKeys|treeVariable),
		append(all, threads...))
}
