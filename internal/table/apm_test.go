package table

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

// MapEntry is one of an Apple partition map, in its blocks.
type MapEntry struct {
	kind, name   string
	start, count uint32
}

// OldMac is a disk of the kind that older Macs have: a driver, two file systems, and free room after them.
func OldMac(block int64) []MapEntry {
	return []MapEntry{{apmMap, "Apple", 1, 63}, {"Apple_Driver43", "Macintosh", 64, 56},
		{"Apple_HFS", "Weighbridge", uint32(miB / block), uint32(8 * miB / block)},
		{apmVoid, "", 0, 0},
		{"Apple_HFS", "Archive", uint32(12 * miB / block), uint32(4 * miB / block)},
		{apmFree, "Extra", uint32(16 * miB / block), uint32(4 * miB / block)}}
}

// Mapped is a disk of 20 MiB with such a map.
func Mapped(t testing.TB, block int64, all []MapEntry) *disk.Memory {
	t.Helper()
	be := binary.BigEndian
	m := disk.NewMemory(20*miB, 512)
	b := m.Bytes
	copy(b, apmDescriptor)
	be.PutUint16(b[apmBlockSize:], uint16(block))
	be.PutUint32(b[apmBlockCount:], uint32(int64(len(b))/block))
	be.PutUint16(b[apmDrivers:], 1)
	be.PutUint32(b[apmDriver:], 64)
	be.PutUint16(b[apmDriver+4:], 19)
	for i, x := range all {
		e := b[int64(i+1)*block:]
		copy(e, apmEntry)
		be.PutUint32(e[apmEntries:], uint32(len(all)))
		be.PutUint32(e[apmStart:], x.start)
		be.PutUint32(e[apmCount:], x.count)
		copy(e[apmName:], x.name)
		copy(e[apmType:], x.kind)
		be.PutUint32(e[apmDataCount:], x.count)
		be.PutUint32(e[88:], 0x33)
	}
	return m
}

// applied is a disk with patches, of another size.
func applied(t *testing.T, m *disk.Memory, patches []disk.Patch, size int64) *disk.Memory {
	t.Helper()
	out := disk.NewMemory(size, 512)
	copy(out.Bytes, m.Bytes)
	for _, p := range patches {
		copy(out.Bytes[p.Off:], p.Data)
	}
	return out
}

// TestAPM: an Apple partition map is read with blocks of all sizes, moved to another disk with
// its parts elsewhere, and described there with what is free.
func TestAPM(t *testing.T) {
	for _, block := range []int64{512, 2048} {
		t.Run(fmt.Sprint(block), func(t *testing.T) {
			m := Mapped(t, block, OldMac(block))
			tab, err := Read(m, m.Size(), 512)
			if err != nil || tab.Kind != APM || len(tab.Findings) > 0 || !tab.Sound(m.Size()) {
				t.Fatalf("%+v, %v", tab, err)
			}
			if before, behind := tab.Reserve(); before != 64*block || behind != 0 || tab.Entries() != 63 {
				t.Errorf("it keeps %d and %d, for %d entries", before, behind, tab.Entries())
			}
			var got []string
			for _, p := range tab.Parts {
				got = append(got, fmt.Sprint(p.Number, " ", p.Span.Start/miB, " ", p.Span.Len(), " ", p.Type, " ",
					p.Name, " ",
					RoleOf(p.Type)))
			}
			want := []string{fmt.Sprint("2 0 ", 56*block, " Apple_Driver43 Macintosh reserved"),
				"3 1 8388608 Apple_HFS Weighbridge data", "5 12 4194304 Apple_HFS Archive data"}
			if !slices.Equal(got, want) {
				t.Errorf("%q", got)
			}
			// The driver moves by a MiB, the first file system grows, the second moves and the disk is larger.
			now := map[int]span.Span{2: span.At(miB, 56*block), 3: span.At(2*miB, 16*miB), 5: span.At(20*miB, 4*miB)}
			patches, err := tab.Rearrange(m, now, 40*miB)
			if err != nil {
				t.Fatal(err)
			}
			larger := applied(t, m, patches, 40*miB)
			again, err := Read(larger, larger.Size(), 512)
			if err != nil || len(again.Findings) > 0 || len(again.Parts) != 3 {
				t.Fatalf("%+v, %v", again, err)
			}
			for _, p := range again.Parts {
				if p.Span != now[p.Number] {
					t.Errorf("part %d is at %v", p.Number, p.Span)
				}
			}
			be := binary.BigEndian
			if n, at := be.Uint32(larger.Bytes[apmBlockCount:]),
				be.Uint32(larger.Bytes[apmDriver:]); int64(n)*block != 40*miB ||
				int64(at)*block != miB {
				t.Errorf("the disk has %d blocks, and its driver is in block %d", n, at)
			}
		})
	}
}

// TestAPMChanges: parts that go become free room, the disk's size is told by itself, and what can't be is refused.
func TestAPMChanges(t *testing.T) {
	m := Mapped(t, 512, OldMac(512))
	tab, err := Read(m, m.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	driver, data := tab.Parts[0].Span, tab.Parts[1].Span
	patches, err := tab.Rearrange(m, map[int]span.Span{2: driver, 3: data}, m.Size())
	if err != nil {
		t.Fatal(err)
	}
	if less, err := Read(applied(t, m, patches, m.Size()), m.Size(), 512); err != nil || len(less.Parts) != 2 {
		t.Errorf("%+v, %v", less, err)
	}
	for why, places := range map[string]map[int]span.Span{
		"in the partition map": {2: span.At(512, 512)}, "whole": {2: span.At(miB, 700)}, "overlap": {2: data, 3: data},
		"beyond the end": {2: span.At(m.Size(), 512)},
	} {
		if _, err := tab.Rearrange(m, places, m.Size()); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%s: %v", why, err)
		}
	}
	if p, err := tab.Relocate(m.Size()); err != nil || len(p) > 0 {
		t.Errorf("on the same disk: %v, %v", p, err)
	}
	patches, err = tab.Relocate(30 * miB)
	if err != nil {
		t.Fatal(err)
	}
	larger := applied(t, m, patches, 30*miB)
	if n := binary.BigEndian.Uint32(larger.Bytes[apmBlockCount:]); int64(n)*512 != 30*miB {
		t.Errorf("the disk has %d blocks", n)
	}
	if again, err := Read(larger, 30*miB, 512); err != nil || fmt.Sprint(again.Parts) != fmt.Sprint(tab.Parts) {
		t.Errorf("%+v, %v", again, err)
	}
	if _, _, err := tab.Add(m, Part{Span: span.At(18*miB, miB), Type: "Apple_HFS"}, m.Size()); err == nil {
		t.Error("a part is added")
	}
	if _, err := Build(Layout{Kind: APM, Sector: 512}, m.Size()); err == nil {
		t.Error("one is made")
	}
	if p, ids, err := tab.Renew(m, func(s string) string { return s }, m.Size()); err != nil || len(p) > 0 ||
		len(ids) > 0 {
		t.Error("it has identities")
	}
	// A map without room for more entries leaves free room undescribed.
	all := OldMac(512)
	all[0].count = 5
	all = append(all[:3:3], all[4], all[5])
	full := Mapped(t, 512, all)
	if tab, err = Read(full, full.Size(), 512); err != nil || len(tab.Findings) > 0 {
		t.Fatalf("%+v, %v", tab, err)
	}
	if patches, err = tab.Relocate(30 * miB); err != nil {
		t.Fatal(err)
	}
	for _, p := range patches {
		if p.Off >= 6*512 {
			t.Errorf("something is written to byte %d, after the map", p.Off)
		}
	}
}

// TestAPMDamaged: what is wrong with a map is said, and beside an MBR it doesn't count.
func TestAPMDamaged(t *testing.T) {
	for why, change := range map[string]func(b []byte){
		"claims 0 entries":     func(b []byte) { binary.BigEndian.PutUint32(b[512+apmEntries:], 0) },
		"claims 70000 entries": func(b []byte) { binary.BigEndian.PutUint32(b[512+apmEntries:], 70000) },
		"or isn't one":         func(b []byte) { b[4*512] = 'X' },
		"counts 5 entries":     func(b []byte) { binary.BigEndian.PutUint32(b[3*512+apmEntries:], 5) },
		"overlap":              func(b []byte) { binary.BigEndian.PutUint32(b[5*512+apmStart:], 2048) },
		"the disk ends":        func(b []byte) { binary.BigEndian.PutUint32(b[5*512+apmCount:], 1<<30) },
		"of a disk of":         func(b []byte) { binary.BigEndian.PutUint32(b[apmBlockCount:], 1<<20) },
		"inside the table":     func(b []byte) { binary.BigEndian.PutUint32(b[3*512+apmStart:], 5) },
	} {
		m := Mapped(t, 512, OldMac(512))
		change(m.Bytes)
		tab, err := Read(m, m.Size(), 512)
		if err != nil || tab.Kind != APM {
			t.Fatalf("%+v, %v", tab, err)
		}
		if !slices.ContainsFunc(tab.Findings, func(f Finding) bool { return strings.Contains(f.Text, why) }) {
			t.Errorf("%s: %+v", why, tab.Findings)
		}
	}
	m := Mapped(t, 512, OldMac(512))
	m.Bytes[510], m.Bytes[511] = 0x55, 0xAA
	if tab, err := Read(m, m.Size(), 512); err != nil || tab.Kind == APM {
		t.Errorf("beside an MBR: %+v, %v", tab, err)
	}
	bare := Mapped(t, 512, OldMac(512))
	clear(bare.Bytes[:512])
	tab, err := Read(bare, bare.Size(), 512)
	if err != nil || tab.Kind != APM || len(tab.Parts) != 3 {
		t.Errorf("without its first block: %+v, %v", tab, err)
	}
	if p, err := tab.Relocate(30 * miB); err != nil || len(p) == 0 || !bytes.Equal(p[0].Data, make([]byte, 512)) {
		t.Errorf("%v, %v", p, err)
	}
}
