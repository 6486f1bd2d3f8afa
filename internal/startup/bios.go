package startup

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
	"twinshelf/internal/startup/image"
	"twinshelf/internal/startup/realmode"
	"twinshelf/internal/startup/script"
	"twinshelf/internal/table"
)

// The first sector of a disk, and the loader of which it holds the first stage (GNU GRUB manual, "Images": boot.img,
// and diskboot.img at the head of core.img; offsets as in their sources).
const (
	biosSector  = 512
	codeLen     = 440 // bytes of code in an MBR
	signatureAt = 510

	bootNext = 0x5C // sector of the second stage, 64 bits

	// The block list of the second stage stands at the end of its first sector, growing downward: first sector, count,
	// segment.
	listAt    = 0x1F4
	listEntry = 12
	maxList   = 20
)

var (
	bootMark = []byte("GRUB \x00Geom\x00Hard Disk\x00Read\x00 Error")
	coreMark = []byte("Geom\x00Read\x00 Error")
)

// bios looks at the code in the first sector and at what it loads.
func (c *biosWay) bios() {
	sector := int64(c.d.SectorSize())
	first := make([]byte, sector)
	if disk.ReadFull(c.d, first, 0) != nil || bytes.Count(first[:codeLen], []byte{0}) == codeLen ||
		first[signatureAt] != 0x55 || first[signatureAt+1] != 0xAA {
		c.noCode()
		return
	}
	if bytes.Contains(first, bootMark) && c.moved(first) {
		return
	}
	m := realmode.New(first, c.sectors)
	j, err := m.Run(c.ctx)
	switch {
	case err == nil:
		c.ran(first, m, j)
	case !c.meant(first): // a data disk, or code that nobody runs
	case errors.Is(err, realmode.ErrUnknown) && bytes.Contains(first, bootMark):
		c.add(Finding{Way: BIOS, Verdict: Bad, Says: "the code in the first sector isn't whole any more: it does " +
			"what its loader never did", Evidence: err.Error()})
	case errors.Is(err, realmode.ErrUnknown):
		c.add(Finding{Way: BIOS, Verdict: Doubt, Says: "what the code in the first sector starts can't be told",
			Evidence: err.Error()})
	default:
		c.add(Finding{Way: BIOS, Verdict: Bad, Says: "the code in the first sector starts nothing",
			Evidence: err.Error()})
	}
}

// sectors reads sectors of 512 bytes, as BIOS firmware counts.
func (c *biosWay) sectors(first int64, b []byte) error {
	if at := first * biosSector; first < 0 || at+int64(len(b)) > c.d.Size() {
		return fmt.Errorf("it is beyond the end of the disk")
	}
	return disk.ReadFull(c.d, b, first*biosSector)
}

// meant says whether the disk is there to be started from by BIOS firmware.
func (c *biosWay) meant(first []byte) bool {
	if bytes.Contains(first, bootMark) {
		return true
	}
	return slices.ContainsFunc(c.parts, func(p part) bool {
		return p.Type == table.TypeBIOSBoot || p.Active && c.t.Kind == table.MBR
	})
}

// ran goes on where the first sector's code jumped to.
func (c *biosWay) ran(first []byte, m *realmode.Machine, j realmode.Jump) {
	b := make([]byte, biosSector)
	if err := c.sectors(j.Disk/biosSector, b); err != nil {
		return
	}
	if bytes.Contains(b, coreMark) {
		c.second(m, j)
		return
	}
	i := slices.IndexFunc(c.parts, func(p part) bool { return p.Span.Start == j.Disk })
	if i < 0 && bytes.Contains(first, bootMark) {
		c.add(Finding{Way: BIOS, Verdict: Bad, Says: "the first sector loads a second stage that isn't there",
			Evidence: fmt.Sprintf("it should begin at sector %d", j.Disk/biosSector)})
		return
	}
	if i < 0 {
		c.add(Finding{Way: BIOS, Verdict: Doubt,
			Says: fmt.Sprintf("the code in the first sector loads sector %d, and what that does can't be told",
				j.Disk/biosSector)})
		return
	}
	p := &c.parts[i]
	c.add(Finding{Way: BIOS, Verdict: Good,
		Says:     fmt.Sprintf("the first sector's code starts the boot sector of part %d", p.Number),
		Evidence: fmt.Sprintf("the part begins at sector %d", p.Span.Start/int64(c.t.Sector))})
	c.hidden(*p, b)
	next, err := m.Run(c.ctx)
	switch {
	case errors.Is(err, realmode.ErrStuck):
		c.add(Finding{Way: BIOS, Verdict: Bad, Says: fmt.Sprintf("the boot sector of part %d starts nothing", p.Number),
			Evidence: err.Error()})
	case err == nil && c.isSecond(next):
		c.second(m, next)
	default:
		c.bootSector(p, b)
	}
}

func (c *biosWay) isSecond(j realmode.Jump) bool {
	b := make([]byte, biosSector)
	return c.sectors(j.Disk/biosSector, b) == nil && bytes.Contains(b, coreMark)
}

// second runs the head of the second stage, which loads the rest, and unpacks that.
func (c *biosWay) second(m *realmode.Machine, j realmode.Jump) {
	_, err := m.Run(c.ctx)
	if err != nil {
		c.add(Finding{Way: BIOS, Verdict: Bad, Says: "the head of the second stage doesn't load the rest of it",
			Evidence: err.Error()})
		return
	}
	b := m.Loaded(j.Address)
	g, err := image.Core(b)
	if err != nil {
		f := Finding{Way: BIOS, Verdict: Bad, Says: "the second stage is damaged",
			Evidence: fmt.Sprintf("%d bytes from sector %d on: %v", len(b), j.Disk/biosSector, err)}
		if image.Spare(b) {
			f.Verdict, f.Says = Doubt, "the second stage is damaged, and may mend itself when it starts"
		}
		c.add(f)
		return
	}
	c.add(Finding{Way: BIOS, Verdict: Good, Says: "the first sector loads the second stage, which is whole",
		Evidence: fmt.Sprintf("at sector %d, %s", j.Disk/biosSector, c.whereIs(j.Disk))})
	c.menu(BIOS, "the loader in the first sectors", g,
		script.Options{Loaded: script.Place{Device: "hd0", Path: "/"}, Platform: "pc"})
}

// noCode is a disk whose first sector does nothing. With an active part, or one for start-up code, it was meant to.
func (c *biosWay) noCode() {
	for _, p := range c.parts {
		if p.Type == table.TypeBIOSBoot {
			c.add(Finding{Way: BIOS, Verdict: Bad,
				Says: fmt.Sprintf("part %d is for BIOS start-up code, and the first sector holds none that would "+
					"load it", p.Number), Evidence: "the first 440 bytes are zeros, or the signature 55 AA is missing"})
			return
		}
		if p.Active && c.t.Kind == table.MBR {
			c.add(Finding{Way: BIOS, Verdict: Bad,
				Says: fmt.Sprintf("part %d is marked active and the first sector holds no code that would start it",
					p.Number), Evidence: "the first 440 bytes are zeros"})
			return
		}
	}
}

// elsewhere warns of what wasn't looked into: on an MBR disk, Windows names the part that it starts from by its place.
func (c *biosWay) elsewhere() {
	if c.stored {
		return
	}
	for _, p := range c.parts {
		if _, windows := p.volume.(fsys.WindowsHome); c.t.Kind != table.MBR || !windows {
			continue
		}
		for _, m := range c.o.Moves {
			if to := m.Target(); m.Shift() != 0 && to.Start <= p.Span.Start && p.Span.Start < to.End {
				c.add(Finding{Way: References, Verdict: Doubt,
					Says: fmt.Sprintf("part %d begins elsewhere now, and a Windows that starts from it may name it "+
						"by its old place", p.Number),
					Evidence: "on an MBR disk its start-up data holds the disk's identity and the byte where the " +
						"part begins"})
				break
			}
		}
	}
}

// hidden checks the field by which a boot sector finds its own part.
func (c *biosWay) hidden(p part, boot []byte) {
	v, ok := p.volume.(fsys.BootSectored)
	if !ok || p.Logical {
		return
	}
	at := v.HiddenSectors(p.Span.Len())
	want, have := uint32(p.Span.Start/int64(c.t.Sector)), binary.LittleEndian.Uint32(boot[at[0]:])
	if have == want {
		c.add(Finding{Way: BIOS, Verdict: Good, Says: "its boot sector knows where the part begins",
			Evidence: fmt.Sprintf("%d sectors before it", have)})
		return
	}
	fixed := binary.LittleEndian.AppendUint32(nil, want)
	f := Finding{Way: BIOS, Verdict: Doubt, Says: fmt.Sprintf(
		"the boot sector of part %d says that %d sectors lie before it, and there are %d", p.Number, have, want),
		Repair: fmt.Sprintf("the boot sector of part %d is told where it begins", p.Number)}
	for i, off := range at {
		why := "sectors before the part"
		if i > 0 {
			why += ", in the copy"
		}
		f.Patches = append(f.Patches, disk.Patch{Off: p.Span.Start + off, Data: fixed, Why: why})
	}
	c.add(f)
}

// moved repairs a first stage whose second one a plan moved, with that one's list of its own sectors; false when it
// didn't move.
func (c *biosWay) moved(first []byte) bool {
	sector := int64(c.t.Sector)
	le := binary.LittleEndian
	next := int64(le.Uint64(first[bootNext:]))
	core, moved, ok := c.findStage(next)
	if !ok || !moved {
		return false
	}
	f := Finding{Way: BIOS, Verdict: Doubt,
		Says: fmt.Sprintf("the first sector looks for its second stage at sector %d, and it moved to sector %d",
			next, core),
		Evidence: c.whereIs(core * sector), Repair: "the start-up code is told where its second stage is"}
	f.Patches = append(f.Patches,
		disk.Patch{Off: bootNext, Data: le.AppendUint64(nil, uint64(core)), Why: "place of the second stage"})
	head := make([]byte, biosSector)
	if err := disk.ReadFull(c.d, head, core*sector); err != nil {
		return false
	}
	room := c.roomOf(core * sector)
	for i := range maxList {
		at := listAt - i*listEntry
		start, count := int64(le.Uint64(head[at:])), int64(le.Uint16(head[at+8:]))
		if count == 0 {
			break
		}
		to := start
		if p, ok := c.movedTo(start * sector); ok {
			to = p / sector
		}
		if !room.Covers(span.At(to*sector, count*sector)) {
			return false
		}
		if to != start {
			f.Patches = append(f.Patches,
				disk.Patch{Off: core*sector + int64(at), Data: le.AppendUint64(nil, uint64(to)),
					Why: "places of the second stage"})
		}
	}
	c.add(f)
	return true
}

// findStage finds the second stage where the first one says, or where a plan moved it.
func (c *biosWay) findStage(next int64) (at int64, moved, ok bool) {
	sector := int64(c.t.Sector)
	is := func(at int64) bool {
		b := make([]byte, 512)
		return at > 0 && at < c.d.Size()/sector && disk.ReadFull(c.d, b, at*sector) == nil &&
			bytes.Contains(b, coreMark)
	}
	if to, known := c.movedTo(next * sector); known && to != next*sector && is(to/sector) {
		return to / sector, true, true
	}
	return next, false, is(next)
}

// movedTo is where a plan put a byte of the disk that it was made from.
func (c *biosWay) movedTo(at int64) (int64, bool) {
	for _, m := range c.o.Moves {
		if m.From.Start <= at && at < m.From.End {
			return at + m.Shift(), true
		}
	}
	return 0, false
}

// roomOf is where a second stage may lie: the gap before the first part, or a part that is for it.
func (c *biosWay) roomOf(at int64) span.Span {
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

func (c *biosWay) whereIs(at int64) string {
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
