package restore_test

import (
	"fmt"
	"strings"
	"testing"

	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/plan"
	"twinshelf/internal/prove"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

// simple is a disk with an ext4 and a swap part in a table of a kind, with sectors of so many bytes.
func simple(t *testing.T, kind table.Kind, sector int, options ...string) (img string, sv *survey.Survey) {
	t.Helper()
	testkit.Need(t, "mkfs.ext4", "mkswap")
	dir := t.TempDir()
	fill(t, dir, 4)
	fs, swap := testkit.Image(t, "fs", 60*miB), testkit.Image(t, "swap", 10*miB)
	if options == nil {
		options = []string{"-b", "4096"}
	}
	testkit.Do(t, "mkfs.ext4", append(append([]string{"-q", "-d", dir}, options...), fs)...)
	testkit.Do(t, "mkswap", swap)
	l := table.Layout{Kind: kind, Sector: sector, ID: "7A5E0F10-3B1C-4D5A-9C00-00000000A100", Parts: []table.Part{
		{Number: 1, Span: span.At(miB, 60*miB), Type: table.TypeLinuxData, GUID: "7A5E0F10-3B1C-4D5A-9C00-00000000A101",
			Name: "kiosk"},
		{Number: 2, Span: span.At(61*miB, 10*miB), Type: table.TypeLinuxSwap,
			GUID: "7A5E0F10-3B1C-4D5A-9C00-00000000A102"}}}
	if kind == table.MBR {
		l.ID, l.Parts[0].Type, l.Parts[1].Type = "00b21d9e", "0x83", "0x82"
	}
	img = testkit.Image(t, "source.img", 80*miB)
	testkit.WriteTable(t, img, l, 80*miB)
	testkit.Place(t, fs, img, miB)
	testkit.Place(t, swap, img, 61*miB)
	d := withSectors(t, img, sector)
	sv, err := survey.Of(t.Context(), d, nil)
	if err != nil {
		t.Fatal(err)
	}
	return img, sv
}

func withSectors(t *testing.T, img string, sector int) *disk.File {
	t.Helper()
	d, err := disk.Open(img, disk.Identity{Model: "Sandmartin", Serial: "SM-2", Sector: sector})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d
}

// TestNewPartInTheRest makes a part of the room that nothing takes; the operating system's tools see it.
func TestNewPartInTheRest(t *testing.T) {
	testkit.Need(t, "blkid", "partx", "e2fsck", "ntfsfix", "fsck.fat")
	for _, c := range []struct {
		kind table.Kind
		fs   string
		blk  string
	}{{table.GPT, "ext4", "ext4"}, {table.MBR, "NTFS", "ntfs"}, {table.GPT, "FAT32", "vfat"}} {
		_, sv := simple(t, c.kind, 512)
		target := testkit.Image(t, "target.img", 300*miB)
		proof, p, err := written(t, sv.Mapped(), capture.Describe(sv), target,
			plan.Wish{NewPart: plan.NewPart{Kind: c.fs, Label: "SPARE"}})
		if err != nil {
			t.Fatal(err)
		}
		if !proof.Holds() || p.Added == nil || p.Added.Part.Number != 3 ||
			strings.Contains(strings.Join(p.Notes(), "\n"), "unused") {
			t.Errorf("%s: %+v %+v", c.fs, p.Added, proof.Claims)
		}
		shown := testkit.Do(t, "partx", "--show", "-g", "-o", "NR,START,SECTORS", target)
		if want := fmt.Sprint(p.Added.Part.Span.Start / 512); !strings.Contains(shown, want) {
			t.Errorf("partx doesn't see it:\n%s", shown)
		}
		part := testkit.Extract(t, target, p.Added.Part.Span.Start, p.Added.Part.Span.Len())
		if out := testkit.Do(t, "blkid", "-p", "-o", "value", "-s", "TYPE", "-s", "LABEL", part); !strings.Contains(out,
			c.blk) || !strings.Contains(out, "SPARE") {
			t.Errorf("blkid says %s", out)
		}
		switch c.fs {
		case "ext4":
			testkit.Do(t, "e2fsck", "-fn", part)
		case "NTFS":
			testkit.Do(t, "ntfsfix", "-n", part)
		default:
			testkit.Do(t, "fsck.fat", "-n", part)
		}
		order := p.Order
		order.Wish = plan.Wish{}
		planned, err := plan.Retrace(t.Context(), order, opened(t, target))
		if err != nil {
			t.Fatal(err)
		}
		var later *shelf.Proof
		if err := testkit.Run(t, func(rc *run.Context) (err error) {
			later, err = prove.Target(rc, capture.Describe(sv), planned, opened(t, target), "test")
			return err
		}); err != nil || !later.Holds() {
			t.Errorf("%s: later: %v %+v", c.fs, err, later)
		}
	}
	_, sv := simple(t, table.GPT, 512)
	if _, err := plan.Rehearse(t.Context(), plan.Order{Source: sv.Mapped(),
		Target: disk.Identity{Size: 300 * miB, Sector: 512},
		Wish: plan.Wish{Wish: fit.Wish{Parts: map[int]fit.PartWish{1: {Share: 1}}},
			NewPart: plan.NewPart{Kind: "ext4"}}}); err == nil ||
		!strings.Contains(err.Error(), "no room left") {
		t.Errorf("%v", err)
	}
}

// TestOtherSectors puts disks onto targets with sectors of another size; what counts in the old ones is refused.
func TestOtherSectors(t *testing.T) {
	testkit.Root(t)
	testkit.Need(t, "partx", "e2fsck", "blkid")
	for _, c := range []struct {
		kind     table.Kind
		from, to int
	}{{table.GPT, 512, 4096}, {table.GPT, 4096, 512}, {table.MBR, 512, 4096}} {
		source, sv := simple(t, c.kind, c.from)
		target := testkit.Image(t, "target.img", 120*miB)
		d := withSectors(t, target, c.to)
		print, err := disk.Fingerprint(d)
		if err != nil {
			t.Fatal(err)
		}
		p, err := planned(t, sv.Mapped(), disk.Target{Path: target, Identity: d.Identity(), Fingerprint: print},
			&disk.Guard{}, plan.Wish{})
		if err != nil {
			t.Fatal(err)
		}
		if err := testkit.Run(t, p.Run); err != nil {
			t.Fatal(err)
		}
		var proof *shelf.Proof
		if err := testkit.Run(t, func(rc *run.Context) (err error) {
			proof, err = prove.Target(rc, capture.Describe(sv), p.Plan, withSectors(t, target, c.to), "test")
			return err
		}); err != nil || !proof.Holds() {
			t.Errorf("%v: %v %+v", c, err, proof)
		}
		dev := testkit.Loop(t, target, c.to)
		shown := testkit.Do(t, "partx", "--show", "-g", "-S", fmt.Sprint(c.to), "-o", "NR,START,SIZE", "-b", dev)
		for _, x := range p.Layout.Parts {
			if want := fmt.Sprint(x.To.Start / 512); !strings.Contains(shown, want) ||
				!strings.Contains(shown, fmt.Sprint(x.To.Len())) {
				t.Errorf("%v: partx shows\n%s", c, shown)
			}
		}
		part := testkit.Extract(t, target, miB, 60*miB)
		testkit.Do(t, "e2fsck", "-fn", part)
		if was := testkit.Extract(t, source, miB, 60*miB); testkit.Do(t, "debugfs", "-R", "ls -l /",
			was) != testkit.Do(t, "debugfs", "-R", "ls -l /", part) {
			t.Errorf("%v: the files differ", c)
		}
		testkit.Detach(dev)
	}
	_, sv := simple(t, table.GPT, 512, "-b", "1024")
	if _, err := plan.Rehearse(t.Context(), plan.Order{Source: sv.Mapped(),
		Target: disk.Identity{Size: 120 * miB, Sector: 4096}}); err == nil ||
		!strings.Contains(err.Error(), "blocks of 1024 bytes") {
		t.Errorf("%v", err)
	}
	d := opened(t, machine(t))
	sv, err := survey.Of(t.Context(), d, nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := plan.Rehearse(t.Context(), plan.Order{Source: sv.Mapped(),
		Target: disk.Identity{Size: 2 * d.Size(), Sector: 4096}}); err == nil ||
		!strings.Contains(err.Error(), "sectors are counted in the FAT") {
		t.Errorf("%v", err)
	}
}
