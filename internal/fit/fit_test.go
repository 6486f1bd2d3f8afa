package fit

import (
	"errors"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
)

const miB = 1 << 20

// source is a memory disk of 64 MiB with a table and two parts.
func source(t *testing.T, kind table.Kind, sector int) *disk.Memory {
	t.Helper()
	d := disk.NewMemory(64*miB, sector)
	if kind == table.None {
		return d
	}
	l := table.Layout{Kind: kind, Sector: sector, ID: "00b21d9e", Parts: []table.Part{
		{Number: 1, Span: span.At(miB, 8*miB), Type: "0x06", Active: true}, {Number: 2, Span: span.At(10*miB, 40*miB), Type: "0x83"}}}
	if kind == table.GPT {
		l.ID = "7A5E0F10-3B1C-4D5A-9C00-000000000001"
		for i := range l.Parts {
			l.Parts[i].Type, l.Parts[i].GUID = table.TypeLinuxData, "7A5E0F10-3B1C-4D5A-9C00-00000000001"+string(rune('0'+i))
		}
	}
	patches, err := table.Build(l, d.Size())
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range patches {
		copy(d.Bytes[p.Off:], p.Data)
	}
	return d
}

func TestSameLayout(t *testing.T) {
	for _, c := range []struct {
		name     string
		kind     table.Kind
		sector   int
		size     int64
		leftover span.Span
		notes    int
	}{
		{"same size, GPT", table.GPT, 512, 64 * miB, span.Span{Start: 50 * miB, End: 64*miB - 33*512}, 1},
		{"larger, GPT", table.GPT, 512, 200 * miB, span.Span{Start: 50 * miB, End: 200*miB - 33*512}, 2},
		{"larger, GPT, 4096", table.GPT, 4096, 200 * miB, span.Span{Start: 50 * miB, End: 200*miB - 5*4096}, 2},
		{"larger, MBR", table.MBR, 512, 200 * miB, span.Span{Start: 50 * miB, End: 200 * miB}, 1},
		{"larger, no table", table.None, 512, 65 * miB, span.Span{Start: 64 * miB, End: 65 * miB}, 1},
		{"beyond what an MBR reaches", table.MBR, 512, 4 << 40, span.Span{Start: 50 * miB, End: 4 << 40}, 2},
	} {
		src := source(t, c.kind, c.sector)
		p, err := SameLayout(src, disk.Identity{Size: c.size, Sector: c.sector})
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		if p.Leftover != c.leftover && !(c.size == src.Size() && p.Leftover.Start == c.leftover.Start) || len(p.Notes) != c.notes {
			t.Errorf("%s: leftover %v (want %v), notes %q", c.name, p.Leftover, c.leftover, p.Notes)
		}
		o, err := disk.NewOverlay(src, p.Patches, c.size)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		got, err := table.Read(o, c.size, c.sector)
		if err != nil || got.Kind != c.kind || len(got.Parts) != len(p.Table.Parts) || got.Worst() != "" {
			t.Errorf("%s: the planned table: %v %+v", c.name, err, got)
		}
		for i := range got.Parts {
			if got.Parts[i].Span != p.Table.Parts[i].Span {
				t.Errorf("%s: part %d moved to %v", c.name, i+1, got.Parts[i].Span)
			}
		}
	}
}

func TestRefusals(t *testing.T) {
	src := source(t, table.GPT, 512)
	var small *TooSmall
	if _, err := SameLayout(src, disk.Identity{Size: 64*miB - 512, Sector: 512}); !errors.As(err, &small) || small.Need-small.Have != 512 {
		t.Errorf("%v", err)
	}
	if _, err := SameLayout(src, disk.Identity{Size: 128 * miB, Sector: 4096}); err == nil || !strings.Contains(err.Error(), "sectors of 512 bytes") {
		t.Errorf("%v", err)
	}
}

func TestDamagedFirstCopyIsWrittenAnew(t *testing.T) {
	src := source(t, table.GPT, 512)
	clear(src.Bytes[512:1024])
	p, err := SameLayout(src, disk.Identity{Size: 100 * miB, Sector: 512})
	if err != nil || !strings.Contains(strings.Join(p.Notes, ";"), "from the back-up copy") {
		t.Fatalf("%v %q", err, p.Notes)
	}
	o, err := disk.NewOverlay(src, p.Patches, 100*miB)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := table.Read(o, 100*miB, 512); err != nil || got.Worst() != "" || got.FromBackup {
		t.Errorf("%v %+v", err, got)
	}
}
