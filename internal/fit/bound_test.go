package fit_test

import (
	"context"
	"errors"
	"os"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

const mib = 1 << 20

// laidOut is an image with a table, and file systems placed on it.
func laidOut(t *testing.T, l table.Layout, size int64, parts map[int64]string) *disk.File {
	t.Helper()
	img := testkit.Image(t, "disk.img", size)
	testkit.WriteTable(t, img, l, size)
	for at, fs := range parts {
		testkit.Place(t, fs, img, at)
	}
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d
}

// TestDynamicDisk: what is part of a dynamic disk neither grows nor shrinks nor moves, and a smaller disk is refused
// with the reason.
func TestDynamicDisk(t *testing.T) {
	testkit.Need(t, "mkntfs")
	fs := testkit.Image(t, "fs", 60*mib)
	testkit.Do(t, "mkntfs", "-Q", "-F", "-q", fs)
	d := laidOut(t, table.Layout{Kind: table.MBR, Sector: 512, ID: "0badf00d",
		Parts: []table.Part{{Number: 1, Span: span.At(mib, 60*mib), Type: "0x42"}}}, 64*mib, map[int64]string{mib: fs})
	p, err := fit.Make(context.Background(), d, disk.Identity{Size: 200 * mib, Sector: 512}, fit.Wish{})
	if err != nil {
		t.Fatal(err)
	}
	if x := p.Parts[0]; x.To != x.From || x.Becomes != x.Volume ||
		!strings.Contains(strings.Join(p.Notes, "\n"), "dynamic disk") {
		t.Errorf("%+v %v", x, p.Notes)
	}
	if len(p.Moves) != 1 || p.Moves[0].From != (span.Span{End: 64 * mib}) || p.Moves[0].To != 0 {
		t.Errorf("the database at the end goes elsewhere: %v", p.Moves)
	}
	var small *fit.TooSmall
	if _, err := fit.Make(context.Background(), d, disk.Identity{Size: 63 * mib, Sector: 512},
		fit.Wish{}); !errors.As(err, &small) || !strings.Contains(err.Error(), "dynamic disk") {
		t.Error(err)
	}
	if _, err := fit.Make(context.Background(), d, disk.Identity{Size: 200 * mib, Sector: 512},
		fit.Wish{Parts: map[int]fit.PartWish{1: {Share: 1}}}); err == nil ||
		!strings.Contains(err.Error(), "dynamic disk") {
		t.Error(err)
	}
}

// TestTheRoomOfAPartThatIsNotUnderstood: a small part takes no room because the large one can't; one line says why.
func TestTheRoomOfAPartThatIsNotUnderstood(t *testing.T) {
	testkit.Need(t, "mkfs.ext4")
	boot, group := testkit.Image(t, "boot", 20*mib), testkit.Image(t, "group", 40*mib)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", boot)
	b := make([]byte, 1024)
	copy(b[512:], "LABELONE\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x20\x00\x00\x00LVM2 001")
	f, err := os.OpenFile(group, os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.WriteAt(b, 0); err != nil {
		t.Fatal(err)
	}
	f.Close()
	for _, kind := range []string{table.TypeLinuxLVM, table.TypeLinuxData} {
		d := laidOut(t, table.Layout{Kind: table.GPT, Sector: 512, ID: "7A5E0F10-3B1C-4D5A-9C00-00000000D001",
			Parts: []table.Part{
				{Number: 1, Span: span.At(mib, 20*mib), Type: table.TypeLinuxData,
					GUID: "7A5E0F10-3B1C-4D5A-9C00-00000000D101"},
				{Number: 2, Span: span.At(21*mib, 40*mib), Type: kind, GUID: "7A5E0F10-3B1C-4D5A-9C00-00000000D102"},
			}}, 64*mib, map[int64]string{mib: boot, 21 * mib: group})
		p, err := fit.Make(context.Background(), d, disk.Identity{Size: 200 * mib, Sector: 512}, fit.Wish{})
		if err != nil {
			t.Fatal(err)
		}
		if p.Parts[0].Grown()+p.Parts[1].Grown() != 0 || p.Leftover.Len() < 130*mib ||
			!strings.Contains(strings.Join(p.Notes, "\n"), "part 2 keeps its size") {
			t.Errorf("%+v %v", p.Parts, p.Notes)
		}
		if p, err = fit.Make(context.Background(), d, disk.Identity{Size: 200 * mib, Sector: 512},
			fit.Wish{Parts: map[int]fit.PartWish{1: {Share: 1}}}); err != nil || p.Parts[0].Grown() == 0 {
			t.Errorf("on demand: %v", err)
		}
	}
}

// TestDamagedTableSaysWhy: with one copy of the GPT damaged everything keeps its place, and the plan says for what
// reason.
func TestDamagedTableSaysWhy(t *testing.T) {
	testkit.Need(t, "mkfs.ext4")
	fs := testkit.Image(t, "fs", 40*mib)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", fs)
	d := laidOut(t, table.Layout{Kind: table.GPT, Sector: 512, ID: "7A5E0F10-3B1C-4D5A-9C00-00000000D001",
		Parts: []table.Part{
			{Number: 1, Span: span.At(mib, 40*mib), Type: table.TypeLinuxData,
				GUID: "7A5E0F10-3B1C-4D5A-9C00-00000000D101"},
		}}, 64*mib, map[int64]string{mib: fs})
	testkit.Write(t, d.Path(), []disk.Patch{{Off: 64*mib - 512, Data: make([]byte, 512)}})
	p, err := fit.Make(context.Background(), d, disk.Identity{Size: 200 * mib, Sector: 512}, fit.Wish{})
	if err != nil {
		t.Fatal(err)
	}
	if notes := strings.Join(p.Notes, "\n"); p.Parts[0].Grown() != 0 ||
		!strings.Contains(notes, "its table is damaged: the back-up copy of the GPT") {
		t.Errorf("%v", p.Notes)
	}
}

// TestVolumeThatCantFollow: the part of a file system that reaches no further isn't made larger than that unasked;
// where a size was wished for both are told.
func TestVolumeThatCantFollow(t *testing.T) {
	testkit.Need(t, "mkfs.fat")
	fs := testkit.Image(t, "fs", 60*mib)
	testkit.Do(t, "mkfs.fat", "-F", "16", "-s", "4", fs) // clusters of 2 KiB: 128 MiB at the most
	d := laidOut(t, table.Layout{Kind: table.MBR, Sector: 512, ID: "00b21d9e",
		Parts: []table.Part{{Number: 2, Span: span.At(mib, 60*mib), Type: "0x06"}}}, 64*mib, map[int64]string{mib: fs})
	for _, c := range []struct {
		wish fit.Wish
		part int64
		says string
	}{
		{fit.Wish{}, 129 * mib, "stay unused"},
		{fit.Wish{Parts: map[int]fit.PartWish{2: {Size: 300 * mib}}}, 300 * mib, "only: the rest of it can't be used"},
	} {
		p, err := fit.Make(context.Background(), d, disk.Identity{Size: 500 * mib, Sector: 512}, c.wish)
		if err != nil {
			t.Fatal(err)
		}
		x, notes := p.Parts[0], strings.Join(append(p.Notes, p.Unused...), "\n")
		if x.To.Len() > c.part || x.To.Len() < c.part-2*mib || x.Becomes > 129*mib || x.Becomes < 126*mib ||
			!strings.Contains(notes, c.says) {
			t.Errorf("%s becomes %d bytes, its volume %d:\n%s", x.Kind, x.To.Len(), x.Becomes, notes)
		}
	}
}
