package table

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

const miB = 1 << 20

func guidN(n int) string { return fmt.Sprintf("7A5E0F10-3B1C-4D5A-9C00-%012X", n) }

func gptLayout(sector, entries int) Layout {
	return Layout{Kind: GPT, Sector: sector, ID: guidN(1), Entries: entries, Parts: []Part{
		{Number: 1, Span: span.At(miB, 4*miB), Type: TypeESP, GUID: guidN(2), Name: "EFI system"},
		{Number: 2, Span: span.At(5*miB, 20*miB), Type: TypeLinuxData, GUID: guidN(3), Name: "Kiosk grün", Attrs: 4},
		{Number: 4, Span: span.At(30*miB, 10*miB), Type: TypeMSRecovery, GUID: guidN(4)},
	}}
}

// written is a memory disk with a table on it.
func written(t testing.TB, l Layout, size int64) *disk.Memory {
	t.Helper()
	m := disk.NewMemory(size, l.Sector)
	patches, err := Build(l, size)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range patches {
		copy(m.Bytes[p.Off:], p.Data)
	}
	return m
}

func read(t testing.TB, m *disk.Memory) *Table {
	t.Helper()
	tab, err := Read(m, m.Size(), m.Sector)
	if err != nil {
		t.Fatal(err)
	}
	return tab
}

func TestGPTThereAndBack(t *testing.T) {
	for _, c := range []struct{ sector, entries int }{{512, 128}, {4096, 128}, {512, 12}, {512, 256}, {4096, 4}} {
		m := written(t, gptLayout(c.sector, c.entries), 64*miB)
		tab := read(t, m)
		if tab.Kind != GPT || tab.ID != guidN(1) || len(tab.Findings) != 0 || len(tab.Parts) != 3 {
			t.Fatalf("%v: %+v", c, tab)
		}
		for i, want := range gptLayout(c.sector, c.entries).Parts {
			got := tab.Parts[i]
			if got.Span != want.Span || got.Type != want.Type || got.GUID != want.GUID || got.Name != want.Name ||
				got.Attrs != want.Attrs || got.Number != want.Number {
				t.Errorf("%v: part %+v, want %+v", c, got, want)
			}
		}
		if n := DetectSector(m, m.Size()); n != c.sector {
			t.Errorf("sector size detected as %d, want %d", n, c.sector)
		}
		if !tab.Sound(m.Size()) {
			t.Error("a sound table is called unsound")
		}
	}
}

func TestGPTDamage(t *testing.T) {
	const size = 64 * miB
	last := int64(size - 512)
	for _, c := range []struct {
		name   string
		harm   func(b []byte)
		word   string
		backup bool
		parts  int
		worst  Severity
	}{
		{"whole", func([]byte) {}, "", false, 3, ""},
		{"first header zeroed", func(b []byte) { clear(b[512:1024]) }, "back-up copy at sector", true, 3, Damage},
		{"a bit of the first header", func(b []byte) { b[512+60] ^= 1 }, "checksum is wrong", true, 3, Damage},
		{"first entries", func(b []byte) { b[1024+3] ^= 1 }, "checksum of its entries", true, 3, Damage},
		{"back-up header", func(b []byte) { b[last+60] ^= 1 }, "the first copy is used", false, 3, Damage},
		{"both headers", func(b []byte) { b[512+60] ^= 1; b[last+60] ^= 1 }, "both copies", false, 0, Damage},
		{"no protective MBR", func(b []byte) { clear(b[:512]) }, "protective MBR is missing", false, 3, Warning},
		{"absurd entry count", func(b []byte) {
			reheader(b[512:1024], func(h []byte) { binary.LittleEndian.PutUint32(h[hdrCount:], 1<<31) })
		}, "claims 2147483648 entries", true, 3, Damage},
		{"absurd header size", func(b []byte) { binary.LittleEndian.PutUint32(b[512+hdrSize:], 1<<30) },
			"claims a size", true, 3, Damage},
		{"header of another place", func(b []byte) {
			reheader(b[512:1024], func(h []byte) { binary.LittleEndian.PutUint64(h[hdrMyLBA:], 77) })
		}, "belongs at sector 77", true, 3, Damage},
	} {
		m := written(t, gptLayout(512, 128), size)
		c.harm(m.Bytes)
		tab := read(t, m)
		if len(tab.Parts) != c.parts || tab.FromBackup != c.backup || tab.Worst() != c.worst {
			t.Errorf("%s: %d parts, from back-up %v, worst %q: %v", c.name, len(tab.Parts), tab.FromBackup, tab.Worst(),
				tab.Findings)
		}
		if text := fmt.Sprint(tab.Findings); !strings.Contains(text, c.word) {
			t.Errorf("%s: findings %s don't say %q", c.name, text, c.word)
		}
	}
}

func reheader(h []byte, change func([]byte)) {
	change(h)
	le := binary.LittleEndian
	le.PutUint32(h[hdrCRC:], 0)
	le.PutUint32(h[hdrCRC:], crc32.ChecksumIEEE(h[:le.Uint32(h[hdrSize:])]))
}

func TestTruncatedImageAndOverlap(t *testing.T) {
	m := written(t, gptLayout(512, 128), 64*miB)
	m.Bytes = m.Bytes[:35*miB]
	tab := read(t, m)
	if tab.Sound(m.Size()) || !strings.Contains(fmt.Sprint(tab.Findings), "cut off") {
		t.Errorf("truncated: sound %v, %v", tab.Sound(m.Size()), tab.Findings)
	}
	l := Layout{Kind: MBR, Sector: 512, ID: "00b21d9e",
		Parts: []Part{{Number: 1, Span: span.At(miB, 4*miB), Type: "0x83"},
			{Number: 2, Span: span.At(6*miB, 4*miB), Type: "0x83"}}}
	m = written(t, l, 16*miB)
	binary.LittleEndian.PutUint32(m.Bytes[mbrEntries+mbrEntryLen+entMBRFirst:], 4*2048)
	if tab = read(t, m); tab.Sound(m.Size()) || !strings.Contains(fmt.Sprint(tab.Findings), "overlap") {
		t.Errorf("overlap: %v", tab.Findings)
	}
	if _, err := Build(Layout{Kind: GPT, Sector: 512, ID: guidN(1),
		Parts: []Part{{Number: 1, Span: span.At(0, miB), Type: TypeESP, GUID: guidN(2)}}}, 64*miB); err == nil {
		t.Error("a part over the GPT itself was built")
	}
}

func TestRelocate(t *testing.T) {
	for _, sector := range []int{512, 4096} {
		for _, broken := range []bool{false, true} {
			m := written(t, gptLayout(sector, 128), 64*miB)
			copy(m.Bytes[:440], bytes.Repeat([]byte{0xEB}, 440)) // boot code stays
			if broken {
				clear(m.Bytes[sector : 2*sector])
			}
			tab := read(t, m)
			patches, err := tab.Relocate(100 * miB)
			if err != nil {
				t.Fatal(err)
			}
			o, err := disk.NewOverlay(m, patches, 100*miB)
			if err != nil {
				t.Fatal(err)
			}
			now, err := Read(o, o.Size(), sector)
			if err != nil || len(now.Findings) != 0 || len(now.Parts) != 3 || now.ID != tab.ID {
				t.Fatalf("sector %d, broken %v: %+v %v", sector, broken, now, err)
			}
			b := make([]byte, 512)
			o.ReadAt(b, 0)
			if b[0] != 0xEB || binary.LittleEndian.Uint32(b[mbrEntries+entMBRCount:]) != uint32(100*miB/sector-1) {
				t.Errorf("protective MBR % x", b[mbrEntries:mbrEntries+16])
			}
			o.ReadAt(b, 64*miB-int64(sector))
			if !bytes.Equal(b, make([]byte, 512)) {
				t.Error("the old back-up header is still there")
			}
			if now.Usable.End <= 64*miB {
				t.Errorf("usable area ends at %d", now.Usable.End)
			}
		}
	}
	m := written(t, gptLayout(512, 128), 64*miB)
	if p, err := read(t, m).Relocate(64 * miB); err != nil || len(p) != 0 {
		t.Errorf("same size: %d patches, %v", len(p), err)
	}
	if _, err := read(t, m).Relocate(40*miB + 1024); err == nil {
		t.Error("a part over the back-up copy was accepted")
	}
}

func mbrLayout() Layout {
	return Layout{Kind: MBR, Sector: 512, ID: "5ea0d002", Parts: []Part{
		{Number: 1, Span: span.At(63*512, 4*miB), Type: "0x06", Active: true},
		{Number: 5, Span: span.At(6*miB, 4*miB), Type: "0x83", Logical: true},
		{Number: 6, Span: span.At(11*miB, 2*miB), Type: "0x82", Logical: true},
		{Number: 7, Span: span.At(14*miB, miB), Type: "0x07", Logical: true},
	}}
}

func TestMBRChain(t *testing.T) {
	m := written(t, mbrLayout(), 32*miB)
	tab := read(t, m)
	if tab.Kind != MBR || tab.ID != "5ea0d002" || len(tab.Findings) != 0 || len(tab.Parts) != 4 {
		t.Fatalf("%+v", tab)
	}
	for i, want := range mbrLayout().Parts {
		if got := tab.Parts[i]; got.Span != want.Span || got.Type != want.Type || got.Number != want.Number ||
			got.Active != want.Active || got.Logical != want.Logical {
			t.Errorf("part %+v, want %+v", got, want)
		}
	}
	link := 6*miB - 512
	for _, c := range []struct {
		name, word string
		harm       func([]byte)
	}{
		{"link to itself", "circle", func(b []byte) {
			binary.LittleEndian.PutUint32(b[link+mbrEntries+mbrEntryLen+entMBRFirst:], 0)
		}},
		{"link without signature", "should hold a link", func(b []byte) { b[link+510] = 0 }},
		{"link beyond the end", "beyond the end", func(b []byte) {
			binary.LittleEndian.PutUint32(b[link+mbrEntries+mbrEntryLen+entMBRFirst:], 1<<31)
		}},
	} {
		m := written(t, mbrLayout(), 32*miB)
		c.harm(m.Bytes)
		tab := read(t, m)
		if len(tab.Parts) < 1 || !strings.Contains(fmt.Sprint(tab.Findings), c.word) {
			t.Errorf("%s: %v", c.name, tab.Findings)
		}
	}
}

func TestNoTable(t *testing.T) {
	if tab := read(t, disk.NewMemory(miB, 512)); tab.Kind != None || len(tab.Parts) != 0 {
		t.Errorf("blank: %+v", tab)
	}
	m := disk.NewMemory(miB, 512) // a boot sector with code where entries would be
	copy(m.Bytes[mbrEntries:], bytes.Repeat([]byte{0x33}, 64))
	m.Bytes[510], m.Bytes[511] = 0x55, 0xAA
	if tab := read(t, m); tab.Kind != None {
		t.Errorf("boot code was taken for a table: %+v", tab)
	}
	if tab := read(t, disk.NewMemory(100, 512)); tab.Kind != None {
		t.Error("a disk smaller than a sector has a table")
	}
	// A GPT's back-up left behind on a disk that was laid out as MBR later.
	old := written(t, gptLayout(512, 128), 64*miB)
	clear(old.Bytes[:34*512])
	for _, p := range must(Build(mbrLayout(), 64*miB)) {
		copy(old.Bytes[p.Off:], p.Data)
	}
	if tab := read(t, old); tab.Kind != MBR || len(tab.Parts) != 4 {
		t.Errorf("leftover back-up: %+v", tab)
	}
}

func must(p []disk.Patch, err error) []disk.Patch {
	if err != nil {
		panic(err)
	}
	return p
}

func TestTypesHaveNames(t *testing.T) {
	for _, c := range []struct {
		kind string
		role Role
		name string
	}{{TypeESP, RoleStartup, "EFI system part"}, {"0x82", RoleSwap, "Linux swap"}, {"0x7f", RoleUnknown, "type 0x7f"},
		{TypeMSRecovery, RoleRecovery, "Windows recovery"}} {
		if RoleOf(c.kind) != c.role || TypeName(c.kind) != c.name {
			t.Errorf("%s: %s, %s", c.kind, RoleOf(c.kind), TypeName(c.kind))
		}
	}
}

func FuzzRead(f *testing.F) {
	const size = 256 << 10
	for _, sector := range []int{512, 4096} {
		l := gptLayout(sector, 16)
		l.Parts = []Part{{Number: 1, Span: span.At(64<<10, 64<<10), Type: TypeESP, GUID: guidN(2)}}
		f.Add(written(f, l, size).Bytes[:8192], written(f, l, size).Bytes[size-8192:], sector == 4096)
	}
	f.Add(written(f, mbrLayout(), 32*miB).Bytes[:8192], make([]byte, 8192), false)
	f.Add(Mapped(f, 512, OldMac(512)).Bytes[:8192], make([]byte, 8192), false)
	f.Add(Mapped(f, 2048, OldMac(2048)).Bytes[:8192], make([]byte, 8192), false)
	f.Fuzz(func(t *testing.T, head, tail []byte, big bool) {
		m := disk.NewMemory(size, 512)
		if big {
			m.Sector = 4096
		}
		copy(m.Bytes, head)
		copy(m.Bytes[size-min(size, len(tail)):], tail)
		tab, err := Read(m, size, m.Sector)
		if err != nil {
			t.Fatalf("memory can't fail: %v", err)
		}
		if tab.Sound(size) {
			if p, err := tab.Relocate(size + 64<<10); err == nil {
				if _, err := disk.NewOverlay(m, p, size+64<<10); err != nil {
					t.Fatalf("a sound table can't be moved: %v", err)
				}
			}
		}
	})
}

// TestOldGPTBehindAnMBR: where sector 0 is an MBR without a protective entry, the disk is laid out by it, however whole
// a GPT after it is.
func TestOldGPTBehindAnMBR(t *testing.T) {
	const size = 64 << 20
	b := make([]byte, size)
	write := func(l Layout) {
		t.Helper()
		patches, err := Build(l, size)
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range patches {
			if p.Data != nil {
				copy(b[p.Off:], p.Data)
			}
		}
	}
	write(Layout{Kind: GPT, Sector: 512, ID: "7A5E0F10-3B1C-4D5A-9C00-00000000D001", Parts: []Part{
		{Number: 1, Span: span.At(1<<20, 40<<20), Type: TypeLinuxData, GUID: "7A5E0F10-3B1C-4D5A-9C00-00000000D101"},
	}})
	gpt := bytes.Clone(b)
	write(Layout{Kind: MBR, Sector: 512, ID: "0badf00d",
		Parts: []Part{{Number: 1, Span: span.At(2<<20, 10<<20), Type: "0x83"}}})
	copy(b[512:], gpt[512:1<<20])
	copy(b[size-1<<20:], gpt[size-1<<20:])
	got, err := Read(bytes.NewReader(b), size, 512)
	if err != nil || got.Kind != MBR || len(got.Parts) != 1 || got.Parts[0].Span.Start != 2<<20 ||
		got.Worst() != Warning {
		t.Errorf("%+v %v", got, err)
	}
	clear(b[:512]) // no MBR at all: the GPT, with a word about it
	if got, err = Read(bytes.NewReader(b), size, 512); err != nil || got.Kind != GPT || got.Worst() != Warning {
		t.Errorf("%+v %v", got, err)
	}
}

// TestMBRKeepsNumbers: parts that stand in the second and fourth entry stay there; what has no number takes a free one.
func TestMBRKeepsNumbers(t *testing.T) {
	const size = 64 << 20
	l := Layout{Kind: MBR, Sector: 512, ID: "00b21d9e", Parts: []Part{
		{Number: 4, Span: span.At(1<<20, 4<<20), Type: "0x83"},
		{Number: 2, Span: span.At(8<<20, 4<<20), Type: "0x07", Active: true},
		{Span: span.At(16<<20, 4<<20), Type: "0x0c"}}}
	got := map[int]string{}
	for _, p := range read(t, written(t, l, size)).Parts {
		got[p.Number] = p.Type
	}
	if len(got) != 3 || got[4] != "0x83" || got[2] != "0x07" || got[1] != "0x0c" {
		t.Errorf("%v", got)
	}
}

// TestComplaints: what a planned table would be read as is said in words.
func TestComplaints(t *testing.T) {
	const size = 100
	part := func(n int, from, to int64) Part { return Part{Number: n, Span: span.Span{Start: from, End: to}} }
	for want, tb := range map[string]Table{
		"":                              {Kind: GPT, Parts: []Part{part(1, 0, 10), part(2, 10, 20)}},
		"it would be read as no table":  {},
		"part 2 overlaps another one":   {Kind: GPT, Parts: []Part{part(1, 0, 10), part(2, 9, 20)}},
		"part 1 ends at byte 101":       {Kind: GPT, Parts: []Part{part(1, 0, 101), part(2, 10, 20)}},
		"part 1 has no room":            {Kind: GPT, Parts: []Part{part(1, 5, 5)}},
		"read with 1 part instead of 2": {Kind: GPT, Parts: []Part{part(1, 0, 10)}},
		"the second copy contradicts it": {Kind: GPT, Findings: []Finding{{Damage, "the second copy contradicts it",
			0}}},
	} {
		got := tb.Complaint(GPT, 2, size)
		if !strings.Contains(got, want) || (got == "") != (want == "") {
			t.Errorf("%q instead of %q", got, want)
		}
	}
}
