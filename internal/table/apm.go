package table

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"io"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// The Apple partition map (Inside Macintosh: Devices, chapter 3, "SCSI Manager"): a driver descriptor record in the
// first block, and an entry of one block for each part, the map itself and free room among them. All is big-endian.
const (
	apmDescriptor  = "ER"
	apmBlockSize   = 2
	apmBlockCount  = 4
	apmDrivers     = 16
	apmDriver      = 18 // eight bytes each
	apmDriverLen   = 8
	apmMostDrivers = 61
	apmHead        = 512 // bytes of the first block that are the record

	apmEntry     = "PM"
	apmEntries   = 4 // how many there are, in each
	apmStart     = 8
	apmCount     = 12
	apmName      = 16
	apmType      = 48
	apmTextLen   = 32
	apmDataCount = 84
	apmEntryLen  = 512

	apmMap      = "Apple_partition_map"
	apmFree     = "Apple_Free"
	apmVoid     = "Apple_Void" // an entry that stands for nothing
	mostEntries = 256
)

// apmGeometry is an Apple partition map as it was read.
type apmGeometry struct {
	block   int64 // bytes; entries and places count in it
	head    []byte
	entries [][]byte
	end     int64 // of the map, bytes
}

// appleTypes are the types of parts in such a map, by their beginning.
var appleTypes = map[string]typeInfo{
	"Apple_HFS": {name: "Mac data (HFS)", role: RoleData}, "Apple_APFS": {name: "Mac container (APFS)", role: RoleData},
	"Apple_Boot": {name: "Mac start-up", role: RoleStartup}, "Apple_Loader": {name: "Mac start-up", role: RoleStartup},
	"Apple_Driver": {name: "Mac driver", role: RoleReserved}, "Apple_FWDriver": {name: "Mac driver",
		role: RoleReserved},
	"Apple_Patches": {name: "Mac driver patches", role: RoleReserved},
	"Apple_UFS":     {name: "Mac data (UFS)", role: RoleData}, "Apple_UNIX": {name: "Unix data", role: RoleData},
	"Apple_PRODOS": {name: "ProDOS", role: RoleData}, "Apple_RAID": {name: "Mac RAID member", of: ofRAID},
	"Apple_CoreStorage": {name: "Core Storage member", of: ofGroup}, "DOS_FAT": {name: "FAT", role: RoleData},
	"Windows_": {name: "Windows data", role: RoleData}, "Linux_": {name: "Linux data", role: RoleData},
}

// appleType finds the longest beginning that is known.
func appleType(partType string) (info typeInfo, known bool) {
	longest := 0
	for begin, x := range appleTypes {
		if strings.HasPrefix(partType, begin) && len(begin) > longest {
			info, longest = x, len(begin)
		}
	}
	return info, longest > 0
}

func apmText(b []byte) string {
	text, _, _ := bytes.Cut(b[:apmTextLen], []byte{0})
	return units.Visible(string(text))
}

// readAPM reads an Apple partition map, and says whether there is one. Beside an MBR it doesn't count.
func (t *Table) readAPM(r io.ReaderAt, size int64, first []byte) (bool, error) {
	if len(first) < apmHead || hasBootSig(first) {
		return false, nil
	}
	be := binary.BigEndian
	g := apmGeometry{head: bytes.Clone(first[:apmHead])}
	sizes := []int64{512}
	if string(first[:2]) == apmDescriptor {
		if n := int64(be.Uint16(first[apmBlockSize:])); n > 512 && n%512 == 0 {
			sizes = []int64{n, 512}
		}
	}
	b := make([]byte, apmEntryLen)
	for _, n := range sizes {
		if err := readAt(r, b, n); disk.Gone(err) {
			return false, err
		} else if err == nil && string(b[:4]) == apmEntry+"\x00\x00" {
			g.block = n
			break
		}
	}
	if g.block == 0 {
		return false, nil
	}
	t.Kind = APM
	count := int64(be.Uint32(b[apmEntries:]))
	if count < 1 || count > mostEntries {
		t.find(Damage, g.block+apmEntries, "the partition map claims %d entries", count)
		count = min(max(count, 0), mostEntries)
	}
	for i := range count {
		at := (i + 1) * g.block
		e := make([]byte, apmEntryLen)
		if err := readAt(r, e, at); err != nil || string(e[:2]) != apmEntry {
			if disk.Gone(err) {
				return true, err
			}
			t.find(Damage, at, "entry %d of the partition map can't be read, or isn't one", i+1)
			break
		}
		if n := int64(be.Uint32(e[apmEntries:])); n != count {
			t.find(Warning, at, "entry %d of the partition map counts %d entries, the first one %d", i+1, n, count)
		}
		g.entries = append(g.entries, e)
	}
	g.end = (1 + count) * g.block
	t.apm = g
	t.apmParts(size)
	return true, nil
}

// apmParts takes the parts out of the map's entries.
func (t *Table) apmParts(size int64) {
	g := &t.apm
	for i, e := range g.entries {
		sp, kind := g.place(e), apmText(e[apmType:])
		switch {
		case kind == apmMap:
			g.end = max(g.end, sp.End)
			continue
		case kind == apmFree || kind == apmVoid || sp.Empty():
			continue
		}
		t.Parts = append(t.Parts, Part{Number: i + 1, Span: sp, Type: cmp.Or(kind, "without a type"),
			Name: apmText(e[apmName:]), TableAt: int64(i+1) * g.block})
	}
	t.Usable = span.Span{Start: g.end, End: size}
	if n := int64(binary.BigEndian.Uint32(g.head[apmBlockCount:])) * g.block; string(g.head[:2]) == apmDescriptor &&
		n != 0 && n > size {
		t.find(Warning, apmBlockCount, "the partition map is of a disk of %d bytes, and this one has %d", n, size)
	}
}

// place is where an entry's part lies, in bytes.
func (g *apmGeometry) place(e []byte) span.Span {
	be := binary.BigEndian
	return span.At(int64(be.Uint32(e[apmStart:]))*g.block, int64(be.Uint32(e[apmCount:]))*g.block)
}

// put writes a place into an entry. What the file system in it takes follows where it took all.
func (g *apmGeometry) put(e []byte, sp span.Span) {
	be := binary.BigEndian
	if be.Uint32(e[apmDataCount:]) == be.Uint32(e[apmCount:]) {
		be.PutUint32(e[apmDataCount:], uint32(sp.Len()/g.block))
	}
	be.PutUint32(e[apmStart:], uint32(sp.Start/g.block))
	be.PutUint32(e[apmCount:], uint32(sp.Len()/g.block))
}

// rearrangeAPM changes the entries where they stand. Free room is described anew, as far as the map has entries.
func (t *Table) rearrangeAPM(places map[int]span.Span, size int64) ([]disk.Patch, error) {
	g := t.apm
	const most = 1<<32 - 1 // blocks
	total := min(size/g.block, most)
	var entries [][]byte
	var slots []int // of entries that stand for nothing any more
	used := []span.Span{{End: g.end}}
	for i, e := range g.entries {
		e = bytes.Clone(e)
		entries = append(entries, e)
		kind := apmText(e[apmType:])
		sp, stays := places[i+1]
		switch {
		case kind == apmFree || kind == apmVoid:
			slots = append(slots, i)
			continue
		case kind == apmMap || g.place(e).Empty():
			continue
		case !stays:
			slots = append(slots, i)
			continue
		case sp.Start%g.block != 0 || sp.End%g.block != 0:
			return nil, fmt.Errorf("part %d at %s would not be on whole blocks of %d bytes", i+1, sp, g.block)
		case sp.Start < g.end || sp.End/g.block > total:
			return nil, fmt.Errorf("part %d at %s would lie in the partition map, or beyond what it can "+
				"address", i+1, sp)
		}
		g.put(e, sp)
		used = append(used, sp)
	}
	for free := range span.Of(span.Span{End: total * g.block}).Subtract(span.Of(used...)).All() {
		if len(slots) == 0 {
			if int64(len(entries)+2)*g.block > g.end {
				break
			}
			slots, entries = append(slots, len(entries)), append(entries, make([]byte, apmEntryLen))
		}
		g.free(entries[slots[0]], apmFree, free)
		slots = slots[1:]
	}
	for _, i := range slots {
		g.free(entries[i], apmVoid, span.Span{})
	}
	return g.patches(entries, places, total), nil
}

// relocateAPM says how large the disk is now; the parts stay where they are.
func (t *Table) relocateAPM(size int64) ([]disk.Patch, error) {
	unit := int64(binary.BigEndian.Uint16(t.apm.head[apmBlockSize:]))
	if int64(binary.BigEndian.Uint32(t.apm.head[apmBlockCount:])) == size/max(1, unit) {
		return nil, nil
	}
	places := map[int]span.Span{}
	for _, p := range t.Parts {
		places[p.Number] = p.Span
	}
	return t.rearrangeAPM(places, size)
}

// free makes an entry one of free room.
func (g *apmGeometry) free(e []byte, kind string, sp span.Span) {
	clear(e)
	copy(e, apmEntry)
	copy(e[apmName:], "Extra")
	copy(e[apmType:], kind)
	g.put(e, sp)
}

// patches writes the entries, and the first block with the disk's size and the drivers' places.
func (g *apmGeometry) patches(entries [][]byte, places map[int]span.Span, total int64) []disk.Patch {
	be := binary.BigEndian
	head := bytes.Clone(g.head)
	if string(head[:2]) == apmDescriptor {
		unit := int64(be.Uint16(head[apmBlockSize:]))
		be.PutUint32(head[apmBlockCount:], uint32(min(total*g.block/max(1, unit), 1<<32-1)))
		g.moveDrivers(head, max(1, unit), places)
	}
	out := []disk.Patch{{Data: head, Why: "driver descriptor"}}
	for i, e := range entries {
		be.PutUint32(e[apmEntries:], uint32(len(entries)))
		out = append(out, disk.Patch{Off: int64(i+1) * g.block, Data: e, Why: "partition map"})
	}
	return out
}

// moveDrivers follows with the places of drivers the parts that they lie in.
func (g *apmGeometry) moveDrivers(head []byte, unit int64, places map[int]span.Span) {
	be := binary.BigEndian
	for d := range min(int(be.Uint16(head[apmDrivers:])), apmMostDrivers) {
		b := head[apmDriver+d*apmDriverLen:]
		at := int64(be.Uint32(b)) * unit
		for i, e := range g.entries {
			was := g.place(e)
			if now, stays := places[i+1]; stays && was.Start <= at && at < was.End {
				be.PutUint32(b, uint32((now.Start+at-was.Start)/unit))
				break
			}
		}
	}
}
