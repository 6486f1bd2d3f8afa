package table

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"strconv"
	"unicode/utf16"

	"twinshelf/internal/disk"
)

// TypeFor is the type that a part gets for a file system of a kind, in a table of a kind.
func TypeFor(kind Kind, fs string) string {
	gpt, mbr := TypeMSBasicData, map[string]string{"NTFS": "0x07", "exFAT": "0x07", "FAT32": "0x0c", "FAT16": "0x0e",
		"FAT12": "0x01"}[fs]
	if mbr == "" {
		gpt, mbr = TypeLinuxData, "0x83"
	}
	if kind == MBR {
		return mbr
	}
	return gpt
}

// Add gives the patches that put one more part into a table, under the lowest free number, on a disk of size bytes. In
// an MBR it becomes a primary part. r is the disk that the table was read from.
func (t *Table) Add(r io.ReaderAt, p Part, size int64) (patches []disk.Patch, number int, err error) {
	check := Table{Sector: t.Sector, Parts: append(append([]Part{}, t.Parts...), p)}
	if !check.Sound(size) {
		return nil, 0, fmt.Errorf("it would overlap another part or lie beyond the end of the disk")
	}
	le := binary.LittleEndian
	s := int64(t.Sector)
	switch t.Kind {
	case GPT:
		if t.gpt.header == nil {
			return nil, 0, fmt.Errorf("the GPT is too damaged: %v", t.Findings)
		}
		g := t.gpt
		g.entries = bytes.Clone(g.entries)
		kind, err1 := GUIDBytes(p.Type)
		id, err2 := GUIDBytes(p.GUID)
		if err1 != nil || err2 != nil {
			return nil, 0, fmt.Errorf("its type %q or identity %q is no GUID", p.Type, p.GUID)
		}
		for n := range int(g.count) {
			e := g.entries[n*int(g.entrySize):][:g.entrySize]
			if bytes.Count(e[entType:entType+16], []byte{0}) < 16 {
				continue
			}
			clear(e)
			copy(e[entType:], kind)
			copy(e[entGUID:], id)
			le.PutUint64(e[entFirst:], uint64(p.Span.Start/s))
			le.PutUint64(e[entLast:], uint64(p.Span.End/s-1))
			putName(e, p.Name)
			return g.patches(t.Sector, size), n + 1, nil
		}
		return nil, 0, fmt.Errorf("all %d entries of the GPT are taken", g.count)
	case MBR:
		first := make([]byte, t.Sector)
		if err := readAt(r, first, 0); err != nil {
			return nil, 0, err
		}
		kind, err := strconv.ParseUint(p.Type, 0, 8)
		if err != nil {
			return nil, 0, fmt.Errorf("its type %q is none of an MBR", p.Type)
		}
		for n := range 4 {
			e := first[mbrEntries+n*mbrEntryLen:][:mbrEntryLen]
			if e[entMBRType] != mbrTypeEmpty {
				continue
			}
			clear(e)
			e[entMBRType] = byte(kind)
			if err := t.putEntry(e, Part{Number: n + 1}, p.Span, p.Span.Start); err != nil {
				return nil, 0, err
			}
			return []disk.Patch{{Off: mbrEntries + int64(n)*mbrEntryLen, Data: e, Why: "entry of a new part"}},
				n + 1, nil
		}
		return nil, 0, fmt.Errorf("all four entries of the MBR are taken")
	}
	if t.Kind == APM {
		return nil, 0, fmt.Errorf("no part is added to an Apple partition map here")
	}
	return nil, 0, fmt.Errorf("the disk has no table")
}

// putName writes a part's name into a GPT entry, as far as it has room.
func putName(e []byte, name string) {
	for j, c := range utf16.Encode([]rune(name)) {
		if entName+2*j+2 > entMin {
			break
		}
		binary.LittleEndian.PutUint16(e[entName+2*j:], c)
	}
}
