package startup

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
)

// The first sector of a disk, and the loader of which it holds the first stage (GNU GRUB manual, "Images": boot.img, and
// diskboot.img at the head of core.img; offsets as in their sources).
const (
	codeLen     = 440 // bytes of code in an MBR
	signatureAt = 510

	bootNext = 0x5C // sector of the second stage, 64 bits

	// The block list of the second stage stands at the end of its first sector, growing downward: first sector, count, segment.
	listAt    = 0x1F4
	listEntry = 12
	maxList   = 20
)

var (
	bootMark = []byte("GRUB \x00Geom\x00Hard Disk\x00Read\x00 Error")
	coreMark = []byte("Geom\x00Read\x00 Error")
)

// bios looks at the code in the first sector and at what it loads.
func (c *checker) bios() {
	sector := int64(c.d.SectorSize())
	first := make([]byte, sector)
	if disk.ReadFull(c.d, first, 0) != nil || bytes.Count(first[:codeLen], []byte{0}) == codeLen || first[signatureAt] != 0x55 || first[signatureAt+1] != 0xAA {
		c.noCode()
		return
	}
	if bytes.Contains(first, bootMark) {
		c.stages(first)
		return
	}
	c.activePart()
}

// noCode is a disk whose first sector does nothing. With an active part, or one for start-up code, it was meant to.
func (c *checker) noCode() {
	for _, p := range c.parts {
		if p.Type == table.TypeBIOSBoot {
			c.add(Finding{Way: BIOS, Verdict: Bad, Says: fmt.Sprintf("part %d is for BIOS start-up code, and the first sector holds none that would load it", p.Number), Evidence: "the first 440 bytes are zeros, or the signature 55 AA is missing"})
			return
		}
		if p.Active && c.t.Kind == table.MBR {
			c.add(Finding{Way: BIOS, Verdict: Bad, Says: fmt.Sprintf("part %d is marked active and the first sector holds no code that would start it", p.Number), Evidence: "the first 440 bytes are zeros"})
			return
		}
	}
}

// activePart is for code that starts the first sector of the active part.
func (c *checker) activePart() {
	if c.t.Kind != table.MBR {
		return // protective MBRs often hold code that nobody runs
	}
	var active []part
	for _, p := range c.parts {
		if p.Active {
			active = append(active, p)
		}
	}
	if len(active) != 1 {
		if len(active) > 1 {
			c.add(Finding{Way: BIOS, Verdict: Bad, Says: fmt.Sprintf("%d parts are marked active; start-up code refuses that", len(active))})
		}
		return // code of another kind, or a disk that isn't started from
	}
	p := active[0]
	b := make([]byte, 512)
	if err := disk.ReadFull(c.d, b, p.Span.Start); err != nil || b[510] != 0x55 || b[511] != 0xAA {
		c.add(Finding{Way: BIOS, Verdict: Bad, Says: fmt.Sprintf("part %d is active and its first sector isn't a boot sector", p.Number), Evidence: "the signature 55 AA is missing"})
		return
	}
	c.add(Finding{Way: BIOS, Verdict: Good, Says: fmt.Sprintf("the first sector holds code, and part %d, which it starts, has a boot sector", p.Number), Evidence: fmt.Sprintf("the part is marked active and begins at sector %d", p.Span.Start/int64(c.t.Sector))})
	c.hidden(p, b)
}

const hiddenAt = 0x1C // sectors before the volume, in the boot sectors of FAT and NTFS

// elsewhere warns of what can't be looked into: on an MBR disk, Windows names the part that it starts from by its place.
func (c *checker) elsewhere() {
	for _, p := range c.parts {
		if c.t.Kind != table.MBR || p.volume == nil || p.volume.Info().Kind != "NTFS" {
			continue
		}
		for _, m := range c.o.Moves {
			if to := m.Target(); m.Shift() != 0 && to.Start <= p.Span.Start && p.Span.Start < to.End {
				c.add(Finding{Way: References, Verdict: Doubt, Says: fmt.Sprintf("part %d begins elsewhere now, and a Windows that starts from it may name it by its old place", p.Number),
					Evidence: "on an MBR disk its start-up data holds the disk's identity and the byte where the part begins"})
				break
			}
		}
	}
}

// hidden checks the field by which a boot sector finds its own part.
func (c *checker) hidden(p part, boot []byte) {
	if p.volume == nil || p.Logical {
		return
	}
	kind := p.volume.Info().Kind
	if kind != "NTFS" && !strings.HasPrefix(kind, "FAT") {
		return
	}
	want, have := uint32(p.Span.Start/int64(c.t.Sector)), binary.LittleEndian.Uint32(boot[hiddenAt:])
	if have == want {
		c.add(Finding{Way: BIOS, Verdict: Good, Says: "its boot sector knows where the part begins", Evidence: fmt.Sprintf("%d sectors before it", have)})
		return
	}
	fixed := binary.LittleEndian.AppendUint32(nil, want)
	f := Finding{Way: BIOS, Verdict: Doubt, Says: fmt.Sprintf("the boot sector of part %d says that %d sectors stand before it, and there are %d", p.Number, have, want),
		Repair: fmt.Sprintf("the boot sector of part %d is told where it begins", p.Number)}
	f.Patches = []disk.Patch{{Off: p.Span.Start + hiddenAt, Data: fixed, Why: "sectors before the part"}}
	if kind == "NTFS" { // and its copy behind the volume
		if at := p.Span.Start + p.volume.Info().Size; at+512 <= p.Span.End {
			b := make([]byte, 512)
			if disk.ReadFull(c.d, b, at) == nil && string(b[3:7]) == "NTFS" {
				f.Patches = append(f.Patches, disk.Patch{Off: at + hiddenAt, Data: fixed, Why: "sectors before the part, in the copy"})
			}
		}
	}
	c.add(f)
}

// stages follows the first stage to the second one, and that one's list of its own sectors.
func (c *checker) stages(first []byte) {
	sector := int64(c.t.Sector)
	le := binary.LittleEndian
	next := int64(le.Uint64(first[bootNext:]))
	core, moved, ok := c.findStage(next)
	if !ok {
		c.add(Finding{Way: BIOS, Verdict: Bad, Says: "the first sector loads a second stage that isn't there", Evidence: fmt.Sprintf("it should begin at sector %d", next)})
		return
	}
	f := Finding{Way: BIOS, Verdict: Good, Says: "the first sector loads the second stage, which is where it is looked for", Evidence: fmt.Sprintf("at sector %d, %s", core, c.whereIs(core*sector))}
	if moved {
		f.Verdict, f.Says = Doubt, fmt.Sprintf("the first sector looks for its second stage at sector %d, and it moved to sector %d", next, core)
		f.Repair = "the start-up code is told where its second stage is"
		f.Patches = append(f.Patches, disk.Patch{Off: bootNext, Data: le.AppendUint64(nil, uint64(core)), Why: "place of the second stage"})
	}
	head := make([]byte, 512)
	if err := disk.ReadFull(c.d, head, core*sector); err != nil {
		c.add(Finding{Way: BIOS, Verdict: Bad, Says: "the second stage can't be read", Evidence: err.Error()})
		return
	}
	room := c.roomOf(core * sector)
	for i := range maxList {
		at := listAt - i*listEntry
		start, count := int64(le.Uint64(head[at:])), int64(le.Uint16(head[at+8:]))
		if count == 0 {
			break
		}
		to := start
		if moved {
			if p, ok := c.movedTo(start * sector); ok {
				to = p / sector
			}
		}
		if !room.Covers(span.At(to*sector, count*sector)) {
			c.add(Finding{Way: BIOS, Verdict: Bad, Says: "the second stage expects parts of itself where other things are", Evidence: fmt.Sprintf("%d sectors from sector %d on are not within %s", count, start, c.whereIs(core*sector))})
			return
		}
		if n := c.zeroSectors(span.At(start*sector, count*sector)); n > 0 {
			c.add(Finding{Way: BIOS, Verdict: Bad, Says: "the second stage is damaged", Evidence: fmt.Sprintf("%d of its %d sectors from sector %d on are all zeros", n, count, to)})
			return
		}
		if to != start {
			f.Patches = append(f.Patches, disk.Patch{Off: core*sector + int64(at), Data: le.AppendUint64(nil, uint64(to)), Why: "places of the second stage"})
		}
	}
	c.add(f)
	c.embedded(core*sector, room)
}

// maxEmbedded is how much of a second stage is searched for identities, in bytes.
const maxEmbedded = 1 << 20

// embedded looks for old identities in the second stage of a disk that got new ones. It is mostly packed, so that not finding any
// says nothing.
func (c *checker) embedded(at int64, room span.Span) {
	if len(c.o.Renewed) == 0 {
		return
	}
	b := make([]byte, min(maxEmbedded, room.End-at))
	if disk.ReadFull(c.d, b, at) == nil && c.oldIn(b) != "" {
		c.add(Finding{Way: BIOS, Verdict: Bad, Says: "the second stage names a file system by its old identity, " + c.oldIn(b) + ", and can't be told the new one"})
		return
	}
	c.add(Finding{Way: BIOS, Verdict: Doubt, Says: "the second stage may name a file system by its old identity: it is packed, so that nobody can tell or change it", Evidence: "without identities of its own the disk starts as it did"})
}

// oldIn is an old identity that stands in bytes as text.
func (c *checker) oldIn(b []byte) string {
	low := bytes.ToLower(b)
	for old := range c.o.Renewed {
		if len(old) >= leastIdentity && bytes.Contains(low, []byte(strings.ToLower(old))) {
			return old
		}
	}
	return ""
}

// leastIdentity is how long an identity is at least that is searched for: shorter ones are found anywhere.
const leastIdentity = 9

// zeroSectors counts sectors of a stretch that are all zeros, but for the last few, which may be filling: the second stage is
// packed, and has none. A stretch that a plan moved is looked at where it is now.
func (c *checker) zeroSectors(sp span.Span) int {
	const filling = 4
	sector := int64(c.t.Sector)
	if to, moved := c.movedTo(sp.Start); moved {
		sp = span.At(to, sp.Len())
	}
	n := 0
	b := make([]byte, sector)
	for at := sp.Start; at < sp.End-filling*sector; at += sector {
		if disk.ReadFull(c.d, b, at) != nil || bytes.Count(b, []byte{0}) == len(b) {
			n++
		}
	}
	return n
}

// findStage finds the second stage where the first one says, or where a plan moved it.
func (c *checker) findStage(next int64) (at int64, moved, ok bool) {
	sector := int64(c.t.Sector)
	is := func(at int64) bool {
		b := make([]byte, 512)
		return at > 0 && at < c.d.Size()/sector && disk.ReadFull(c.d, b, at*sector) == nil && bytes.Contains(b, coreMark)
	}
	if to, known := c.movedTo(next * sector); known && to != next*sector && is(to/sector) {
		return to / sector, true, true
	}
	return next, false, is(next)
}

// movedTo is where a plan put a byte of the disk that it was made from.
func (c *checker) movedTo(at int64) (int64, bool) {
	for _, m := range c.o.Moves {
		if m.From.Start <= at && at < m.From.End {
			return at + m.Shift(), true
		}
	}
	return 0, false
}

// roomOf is where a second stage may lie: the gap before the first part, or a part that is for it.
func (c *checker) roomOf(at int64) span.Span {
	gap := span.Span{Start: int64(c.t.Sector), End: c.d.Size()}
	for _, p := range c.parts {
		if p.Span.Start <= at && at < p.Span.End {
			return p.Span
		}
		gap.End = min(gap.End, p.Span.Start)
	}
	if c.t.Kind == table.GPT {
		gap.Start = c.t.Usable.Start
	}
	return gap
}

func (c *checker) whereIs(at int64) string {
	for _, p := range c.parts {
		if p.Span.Start <= at && at < p.Span.End {
			kind := "in part %d"
			if p.Type == table.TypeBIOSBoot {
				kind = "in part %d, which is for it"
			}
			return fmt.Sprintf(kind, p.Number)
		}
	}
	return "in the gap before the first part"
}
