package table

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"slices"
	"strconv"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

// Layout is a table to be built.
type Layout struct {
	Kind    Kind
	Sector  int    // bytes
	ID      string // GPT: disk GUID; MBR: eight hex digits
	Entries int    // GPT: entries in the array; 0 means 128
	Parts   []Part // Span, Type, GUID, Name, Attrs, Active, Logical are used
	// First is the disk's first sector when the boot code in it is to stay; nil
	// makes a new one.
	First []byte
	// Code is boot code for the first sector, 440 bytes at the most; nil for what First has.
	Code []byte
}

// Build gives the sectors of a table for a disk of size bytes, as patches:
// for GPT the protective MBR and both copies, for MBR the first sector and the
// links of the extended chain. Logical parts must leave at least one sector
// free before each of them for their link.
func Build(l Layout, size int64) ([]disk.Patch, error) {
	probe := Table{Sector: l.Sector, Parts: l.Parts}
	if !probe.Sound(size) {
		return nil, fmt.Errorf("the parts overlap or lie beyond the end of the disk at byte %d", size)
	}
	for _, p := range l.Parts {
		if p.Span.Start%int64(l.Sector) != 0 || p.Span.End%int64(l.Sector) != 0 {
			return nil, fmt.Errorf("part %d at %s is not on whole sectors of %d bytes", p.Number, p.Span, l.Sector)
		}
	}
	if l.Kind == APM {
		return nil, fmt.Errorf("an Apple partition map isn't made here")
	}
	if l.Kind == MBR {
		return buildMBR(l, size)
	}
	return buildGPT(l, size)
}

func buildGPT(l Layout, size int64) ([]disk.Patch, error) {
	if l.Entries == 0 {
		l.Entries = 128
	}
	guid, err := GUIDBytes(l.ID)
	if err != nil {
		return nil, err
	}
	g := gptGeometry{count: uint32(l.Entries), entrySize: entMin, entriesLBA: 2, first: protectiveMBR(l.Sector)}
	if hasProtective(padSector(l.First, l.Sector)) {
		g.first = padSector(l.First, l.Sector)
	}
	l.putCode(g.first)
	g.entries = make([]byte, l.Entries*entMin)
	s := int64(l.Sector)
	arraySectors := (int64(len(g.entries)) + s - 1) / s
	le := binary.LittleEndian
	for i, p := range l.Parts {
		slot := p.Number - 1
		if p.Number == 0 {
			slot = i
		}
		if slot < 0 || slot >= l.Entries {
			return nil, fmt.Errorf("part %d has no room in a table of %d entries", p.Number, l.Entries)
		}
		kind, err := GUIDBytes(p.Type)
		if err != nil {
			return nil, err
		}
		id, err := GUIDBytes(p.GUID)
		if err != nil {
			return nil, err
		}
		if p.Span.Start/s < 2+arraySectors || p.Span.End > size-s*(1+arraySectors) {
			return nil, fmt.Errorf("part %d at %s lies where the GPT itself has to be", p.Number, p.Span)
		}
		e := g.entries[slot*entMin:][:entMin]
		copy(e[entType:], kind)
		copy(e[entGUID:], id)
		le.PutUint64(e[entFirst:], uint64(p.Span.Start/s))
		le.PutUint64(e[entLast:], uint64(p.Span.End/s-1))
		le.PutUint64(e[entAttrs:], p.Attrs)
		putName(e, p.Name)
	}
	g.header = make([]byte, l.Sector)
	copy(g.header, gptSignature)
	le.PutUint32(g.header[hdrRevision:], gptRevision1)
	le.PutUint32(g.header[hdrSize:], hdrMinSize)
	le.PutUint64(g.header[hdrFirst:], uint64(2+arraySectors))
	copy(g.header[hdrGUID:], guid)
	le.PutUint32(g.header[hdrCount:], g.count)
	le.PutUint32(g.header[hdrEntrySize:], g.entrySize)
	return g.patches(l.Sector, size), nil
}

// Relocate gives the patches that make the GPT right for a disk of size bytes:
// protective MBR, first copy, and the back-up copy at the new end; the sectors of
// the old back-up copy inside the larger disk are cleared. Parts stay where
// they are. It is empty when the table is whole and already ends at size, and
// for an MBR. An Apple partition map says how large its disk is, and what of it
// is free.
func (t *Table) Relocate(size int64) ([]disk.Patch, error) {
	s := int64(t.Sector)
	if t.Kind == APM {
		return t.relocateAPM(size)
	}
	if t.Kind != GPT || t.gpt.header == nil {
		return nil, nil
	}
	if int64(t.gpt.altLBA) == size/s-1 && t.Worst() != Damage && !t.FromBackup {
		return nil, nil
	}
	arraySectors := (int64(len(t.gpt.entries)) + s - 1) / s
	usableEnd := size - s*(1+arraySectors)
	for _, p := range t.Parts {
		if p.Span.End > usableEnd {
			return nil, fmt.Errorf("part %d ends at byte %d, where the GPT's back-up copy has to be on a disk of %d "+
				"bytes", p.Number, p.Span.End, size)
		}
	}
	return append(t.gpt.patches(t.Sector, size), t.oldBackup(size)...), nil
}

// oldBackup clears the sectors of the former back-up copy, so that nobody
// mistakes them for a table later.
func (t *Table) oldBackup(size int64) []disk.Patch {
	s := int64(t.Sector)
	old := int64(t.gpt.altLBA)
	if t.FromBackup {
		old = int64(binary.LittleEndian.Uint64(t.gpt.header[hdrMyLBA:]))
	}
	n := (int64(len(t.gpt.entries)) + s - 1) / s
	sp := span.Span{Start: (old - n) * s, End: (old + 1) * s}
	newHome := span.Span{Start: size - s*(1+n), End: size}
	if old <= n || sp.End > size || sp.Overlaps(newHome) {
		return nil
	}
	for _, p := range t.Parts {
		if p.Span.Overlaps(sp) {
			return nil
		}
	}
	return []disk.Patch{{Off: sp.Start, Data: make([]byte, sp.Len()),
		Why: "the GPT's back-up copy no longer belongs here"}}
}

// patches writes both copies for a disk of size bytes.
func (g *gptGeometry) patches(sector int, size int64) []disk.Patch {
	s := int64(sector)
	last := uint64(size/s) - 1
	n := uint64((int64(len(g.entries)) + s - 1) / s)
	padded := make([]byte, n*uint64(s))
	copy(padded, g.entries)
	header := func(my, alt, entries uint64) []byte {
		h := bytes.Clone(g.header)
		le := binary.LittleEndian
		le.PutUint64(h[hdrMyLBA:], my)
		le.PutUint64(h[hdrAltLBA:], alt)
		le.PutUint64(h[hdrLast:], last-n-1)
		le.PutUint64(h[hdrEntriesLBA:], entries)
		le.PutUint32(h[hdrEntriesCRC:], crc32.ChecksumIEEE(g.entries))
		le.PutUint32(h[hdrCRC:], 0)
		le.PutUint32(h[hdrCRC:], crc32.ChecksumIEEE(h[:le.Uint32(h[hdrSize:])]))
		return h
	}
	mbr := bytes.Clone(g.first)
	fitProtective(mbr, last)
	return []disk.Patch{
		{Off: 0, Data: mbr, Why: "protective MBR for the new size"},
		{Off: s, Data: header(1, last, g.entriesLBA), Why: "first GPT header"},
		{Off: int64(g.entriesLBA) * s, Data: padded, Why: "first GPT entries"},
		{Off: int64(last-n) * s, Data: padded, Why: "back-up GPT entries at the new end"},
		{Off: int64(last) * s, Data: header(last, 1, last-n), Why: "back-up GPT header at the new end"},
	}
}

// padSector copies a first sector; nil gives an empty one.
// putCode puts the boot code into a first sector.
func (l *Layout) putCode(first []byte) {
	if l.Code != nil {
		clear(first[:mbrDiskSig])
		copy(first[:mbrDiskSig], l.Code)
	}
}

func padSector(first []byte, sector int) []byte {
	b := make([]byte, sector)
	copy(b, first)
	return b
}

func protectiveMBR(sector int) []byte {
	b := make([]byte, sector)
	e := b[mbrEntries:]
	copy(e[1:], []byte{0x00, 0x02, 0x00, mbrProtective, 0xFF, 0xFF, 0xFF})
	binary.LittleEndian.PutUint32(e[entMBRFirst:], 1)
	b[mbrBootSig], b[mbrBootSig+1] = 0x55, 0xAA
	return b
}

// fitProtective sets the size of the protective entry that begins at sector 1
// (UEFI 2.10, section 5.2.3). Entries of a hybrid MBR are left alone; a sector without a
// protective entry gets one when its entries are free.
func fitProtective(b []byte, last uint64) {
	for i := range 4 {
		e := b[mbrEntries+i*mbrEntryLen:]
		if e[entMBRType] == mbrProtective && binary.LittleEndian.Uint32(e[entMBRFirst:]) == 1 {
			hybrid := i > 0 || b[mbrEntries+mbrEntryLen+entMBRType] != mbrTypeEmpty
			if !hybrid {
				binary.LittleEndian.PutUint32(e[entMBRCount:], uint32(min(last, maxMBRSector)))
			}
			return
		}
	}
	if !looksLikeMBR(b) {
		copy(b[mbrEntries:], protectiveMBR(len(b))[mbrEntries:])
		binary.LittleEndian.PutUint32(b[mbrEntries+entMBRCount:], uint32(min(last, maxMBRSector)))
	}
}

func putMBREntry(b []byte, i int, active bool, kind byte, first, count int64) {
	e := b[mbrEntries+i*mbrEntryLen:]
	if active {
		e[0] = mbrActive
	}
	copy(e[1:], []byte{0xFE, 0xFF, 0xFF, kind, 0xFE, 0xFF, 0xFF}) // CHS: beyond its reach
	binary.LittleEndian.PutUint32(e[entMBRFirst:], uint32(first))
	binary.LittleEndian.PutUint32(e[entMBRCount:], uint32(count))
	b[mbrBootSig], b[mbrBootSig+1] = 0x55, 0xAA
}

func buildMBR(l Layout, size int64) ([]disk.Patch, error) {
	s := int64(l.Sector)
	sig, err := strconv.ParseUint(l.ID, 16, 32)
	if err != nil {
		return nil, fmt.Errorf("%q is not an MBR signature of eight hex digits", l.ID)
	}
	first := padSector(l.First, l.Sector)
	l.putCode(first)
	clear(first[mbrEntries:mbrBootSig])
	binary.LittleEndian.PutUint32(first[mbrDiskSig:], uint32(sig))
	first[mbrBootSig], first[mbrBootSig+1] = 0x55, 0xAA
	patches := []disk.Patch{{Data: first, Why: "MBR"}}
	taken := [4]bool{}
	var logical []Part
	for _, p := range l.Parts {
		if p.Span.End/s > maxMBRSector {
			return nil, fmt.Errorf("part %d ends beyond what an MBR can address (%d sectors); lay the disk out as GPT",
				p.Number, int64(maxMBRSector))
		}
		kind, err := strconv.ParseUint(strings.TrimPrefix(p.Type, "0x"), 16, 8)
		if err != nil {
			return nil, fmt.Errorf("%q is not an MBR type such as 0x83", p.Type)
		}
		if p.Logical {
			logical = append(logical, p)
			continue
		}
		slot := p.Number - 1 // a part keeps its number: systems may know it by that
		if slot < 0 || slot > 3 || taken[slot] {
			slot = slices.Index(taken[:], false)
		}
		if slot < 0 {
			return nil, fmt.Errorf("an MBR has room for four parts; make the others logical or lay the disk out as GPT")
		}
		taken[slot] = true
		putMBREntry(first, slot, p.Active, byte(kind), p.Span.Start/s, p.Span.Len()/s)
	}
	if len(logical) == 0 {
		return patches, nil
	}
	slot := slices.Index(taken[:], false)
	if slot < 0 {
		return nil, fmt.Errorf("the logical parts need one of the four entries of the MBR")
	}
	extStart := logical[0].Span.Start/s - 1
	extEnd := logical[len(logical)-1].Span.End / s
	putMBREntry(first, slot, false, 0x05, extStart, extEnd-extStart)
	for i, p := range logical {
		link := make([]byte, l.Sector)
		at := p.Span.Start/s - 1
		kind, _ := strconv.ParseUint(strings.TrimPrefix(p.Type, "0x"), 16, 8)
		putMBREntry(link, 0, p.Active, byte(kind), 1, p.Span.Len()/s)
		if i+1 < len(logical) {
			next := logical[i+1]
			putMBREntry(link, 1, false, 0x05, next.Span.Start/s-1-extStart, next.Span.Len()/s+1)
		}
		patches = append(patches,
			disk.Patch{Off: at * s, Data: link, Why: fmt.Sprintf("link of logical part %d", p.Number)})
	}
	return patches, nil
}
