package fit

import (
	"context"
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
		{Number: 1, Span: span.At(miB, 8*miB), Type: "0x06", Active: true},
		{Number: 2, Span: span.At(10*miB, 40*miB), Type: "0x83"}}}
	if kind == table.GPT {
		l.ID = "7A5E0F10-3B1C-4D5A-9C00-000000000001"
		for i := range l.Parts {
			l.Parts[i].Type, l.Parts[i].GUID = table.TypeLinuxData, "7A5E0F10-3B1C-4D5A-9C00-00000000001"+
				string(rune('0'+i))
		}
	}
	patches, err := table.Build(l, d.Size())
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range patches {
		copy(d.Bytes[p.Off:], p.Bytes())
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
		p, err := Make(context.Background(), src, disk.Identity{Size: c.size, Sector: c.sector}, Wish{Keep: true})
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		if p.Leftover != c.leftover && !(c.size == src.Size() && p.Leftover.Start == c.leftover.Start) ||
			len(p.Notes)+len(p.Unused) != c.notes {
			t.Errorf("%s: leftover %v (want %v), notes %q %q", c.name, p.Leftover, c.leftover, p.Notes, p.Unused)
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
	if _, err := Make(context.Background(), src, disk.Identity{Size: 50 * miB, Sector: 512}, Wish{}); !errors.As(err,
		&small) || small.Need-small.Have != 33*512 {
		t.Errorf("%v", err)
	}
	if p, err := Make(context.Background(), src, disk.Identity{Size: 50*miB + 33*512, Sector: 512}, Wish{}); err !=
		nil || p.Least != 50*miB+33*512 {
		t.Errorf("a target that is smaller, but large enough: %v", err)
	}
	for _, w := range []Wish{{Parts: map[int]PartWish{7: {Leave: true}}}, {Parts: map[int]PartWish{1: {Share: 1}}},
		{Parts: map[int]PartWish{1: {Size: miB}}}} {
		if _, err := Make(context.Background(), src, disk.Identity{Size: 128 * miB, Sector: 512}, w); err == nil {
			t.Errorf("%+v is granted", w)
		}
	}
	if _, err := Make(context.Background(), src, disk.Identity{Size: 128 * miB, Sector: 4096}, Wish{}); err == nil ||
		!strings.Contains(err.Error(), "sectors of 512 bytes") {
		t.Errorf("%v", err)
	}
}

func TestDamagedFirstCopyIsWrittenAnew(t *testing.T) {
	src := source(t, table.GPT, 512)
	clear(src.Bytes[512:1024])
	p, err := Make(context.Background(), src, disk.Identity{Size: 100 * miB, Sector: 512}, Wish{Keep: true})
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

// TestHybridStays: an MBR with parts of its own beside the GPT couldn't follow, so nothing moves.
func TestHybridStays(t *testing.T) {
	src := source(t, table.GPT, 512)
	// sector 2048, 16384 sectors
	copy(src.Bytes[446+16:], []byte{0x80, 0, 0, 0, 0x07, 0, 0, 0, 0, 8, 0, 0, 0, 64, 0, 0})
	if _, err := Make(context.Background(), src, disk.Identity{Size: 200 * miB, Sector: 512},
		Wish{Parts: map[int]PartWish{1: {Leave: true}}}); err == nil {
		t.Error("a wish that can't be granted is forgotten")
	}
	p, err := Make(context.Background(), src, disk.Identity{Size: 200 * miB, Sector: 512}, Wish{})
	if err != nil || !strings.Contains(strings.Join(p.Notes, ";"), "MBR with parts of its own") {
		t.Fatalf("%v %+v", err, p)
	}
	for _, x := range p.Parts {
		if x.To != x.From {
			t.Errorf("part %d goes from %v to %v", x.Part.Number, x.From, x.To)
		}
	}
}
