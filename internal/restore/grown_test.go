package restore_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/plan"
	"twinshelf/internal/prove"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// judgeGrown lets the operating system check a grown disk, compare every file, and write into the new room.
func judgeGrown(t testing.TB, source, target string, p *plan.Plan) {
	t.Helper()
	d := opened(t, target)
	tab, err := table.Read(d, d.Size(), 512)
	if err != nil || tab.Worst() != "" {
		t.Fatalf("%v %+v", err, tab)
	}
	for i, x := range p.Layout.Parts {
		if x.To.Empty() {
			continue
		}
		was := testkit.Extract(t, source, x.From.Start, x.From.Len())
		is := testkit.Extract(t, target, x.To.Start, x.To.Len())
		var check, mount []string
		switch x.Kind {
		case "ext4":
			check, mount = []string{"e2fsck", "-fn"}, []string{"mount", "-o", "loop"}
		case "NTFS":
			check, mount = []string{"ntfsfix", "-n"}, []string{"ntfs-3g"}
		case "FAT16", "FAT32":
			testkit.Do(t, "fsck.fat", "-n", is)
			continue
		default:
			continue
		}
		testkit.Do(t, check[0], append(check[1:], is)...)
		var before map[string]string
		testkit.Mounted(t, append(mount, was), func(m string) { before = hashes(t, m) })
		testkit.Mounted(t, append(mount, is), func(m string) {
			after := hashes(t, m)
			same(t, i+1, before, after)
			if x.Grown() == 0 {
				return
			}
			f, err := os.Create(filepath.Join(m, "new room"))
			if err != nil {
				t.Fatal(err)
			}
			defer f.Close()
			b := bytes.Repeat([]byte("tide"), 1<<18)
			for n := min(x.Grown()*8/10, 600*miB); n > 0; n -= int64(len(b)) {
				if _, err := f.Write(b); err != nil {
					t.Fatalf("part %d: its new room can't be written: %v", i+1, err)
				}
			}
		})
		testkit.LoopGone(t, is)
		testkit.Do(t, check[0], append(check[1:], is)...)
	}
}

// TestGrowsOntoOtherTargets puts one machine onto targets of many sizes, with many wishes.
func TestGrowsOntoOtherTargets(t *testing.T) {
	testkit.Root(t)
	source := machine(t)
	s := newShelf(t)
	twin, err := take(t, s, opened(t, source))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name  string
		size  int64
		wish  fit.Wish
		sizes map[int]int64 // of the parts afterwards, MiB
	}{
		{"the main part takes the room", 1500 * miB, fit.Wish{}, map[int]int64{1: 64, 2: 1170, 3: 200, 4: 64}},
		{"the smallest possible", 629*miB + 33*512, fit.Wish{}, map[int]int64{1: 64, 2: 300, 3: 200, 4: 64}},
		{"a little larger", 910 * miB, fit.Wish{}, map[int]int64{1: 64, 2: 580, 3: 200, 4: 64}},
		{"NTFS grows", 1500 * miB, fit.Wish{Parts: map[int]fit.PartWish{3: {Share: 1}}},
			map[int]int64{1: 64, 2: 300, 3: 1070, 4: 64}},
		{"both by share", 1500 * miB, fit.Wish{Parts: map[int]fit.PartWish{2: {Share: 1}, 3: {Share: 2}}},
			map[int]int64{1: 64, 2: 590, 3: 780, 4: 64}},
		{"an exact size", 1500 * miB, fit.Wish{Parts: map[int]fit.PartWish{3: {Size: 500 * miB}}},
			map[int]int64{1: 64, 2: 300, 3: 500, 4: 64}},
		{"the swap left out", 600 * miB, fit.Wish{Parts: map[int]fit.PartWish{4: {Leave: true}}},
			map[int]int64{1: 64, 2: 334, 3: 200}},
		{"what gives most shrinks for a smaller disk", 560 * miB, fit.Wish{}, map[int]int64{1: 64, 4: 64}},
		{"both shrink", 360 * miB, fit.Wish{}, map[int]int64{1: 64, 4: 64}},
		{"NTFS as small as it gets", 700 * miB, fit.Wish{Parts: map[int]fit.PartWish{2: {Share: 1}, 3: {Least: true}}},
			map[int]int64{1: 64, 4: 64}},
		{"ten times", 7 * units.GB, fit.Wish{}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			target := testkit.Image(t, "target.img", c.size)
			proof, p, err := putBackAs(t, s, twin, target, plan.Wish{Wish: c.wish})
			if err != nil {
				t.Fatal(err)
			}
			if !proof.Holds() {
				t.Errorf("%+v", proof.Claims)
			}
			for _, x := range p.Layout.Parts {
				if want, ok := c.sizes[x.Part.Number]; ok && x.To.Len()/miB != want {
					t.Errorf("part %d has %d MiB, want %d", x.Part.Number, x.To.Len()/miB, want)
				}
			}
			judgeGrown(t, source, target, p)
		})
	}
}

// TestDirectCopy copies an attached disk without a shelf; what its free areas hold stays behind.
func TestDirectCopy(t *testing.T) {
	testkit.Root(t)
	source := machine(t)
	d := opened(t, source)
	sv, err := survey.Of(t.Context(), d, nil)
	if err != nil {
		t.Fatal(err)
	}
	end := int64(0)
	for p, err := range sv.Mapped().Pieces() {
		if err != nil || p.Start != end || p.Empty() || p.Kind == disk.Data && p.Len() > miB {
			t.Fatalf("piece %+v behind byte %d: %v", p, end, err)
		}
		end = p.End
	}
	if end != d.Size() {
		t.Errorf("the pieces end at %d of %d", end, d.Size())
	}
	target := testkit.Image(t, "target.img", 900*miB)
	proof, p, err := written(t, sv.Mapped(), capture.Describe(sv), target, plan.Wish{})
	if err != nil {
		t.Fatal(err)
	}
	if !proof.Holds() {
		t.Errorf("%+v", proof.Claims)
	}
	judgeGrown(t, source, target, p)
	f, err := os.OpenFile(target, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	f.WriteAt([]byte("a byte that changed"), p.Layout.Parts[1].To.Start+2048)
	f.Close()
	made := rehearsed(t, sv.Mapped(), opened(t, target), plan.Wish{})
	if err := testkit.Run(t, func(rc *run.Context) (err error) {
		proof, err = prove.Target(rc, capture.Describe(sv), made, opened(t, target), "test")
		return err
	}); err != nil || proof.Holds() {
		t.Errorf("a changed copy passes: %v", err)
	}
}

// TestMBRChainGrows moves and grows parts of an MBR with an extended chain; the kernel's tools see the same parts.
func TestMBRChainGrows(t *testing.T) {
	testkit.Root(t)
	testkit.Need(t, "mkfs.ext4", "mkntfs", "partx")
	source := testkit.Image(t, "weighbridge.img", 300*miB)
	l := table.Layout{Kind: table.MBR, Sector: 512, ID: "00b21d9e", Parts: []table.Part{
		{Number: 1, Span: span.At(miB, 80*miB), Type: "0x07", Active: true},
		{Number: 5, Span: span.At(82*miB, 60*miB), Type: "0x83", Logical: true},
		{Number: 6, Span: span.At(143*miB, 60*miB), Type: "0x83", Logical: true},
	}}
	testkit.WriteTable(t, source, l, 300*miB)
	dir := t.TempDir()
	fill(t, dir, 3)
	for i, p := range l.Parts {
		part := testkit.Image(t, fmt.Sprintf("part%d", i), p.Span.Len())
		if i == 0 {
			testkit.Do(t, "mkntfs", "-q", "-F", "-f", "-p", "2048", "-H", "255", "-S", "63", part)
			testkit.Mounted(t, []string{"ntfs-3g", part}, func(m string) { testkit.Do(t, "cp", "-r", dir+"/.", m) })
		} else {
			testkit.Do(t, "mkfs.ext4", "-q", "-F", "-d", dir, part)
		}
		testkit.Place(t, part, source, p.Span.Start)
	}
	s := newShelf(t)
	twin, err := take(t, s, opened(t, source))
	if err != nil {
		t.Fatal(err)
	}
	for _, wish := range []fit.Wish{{}, {Parts: map[int]fit.PartWish{1: {Share: 1}, 5: {Share: 1}, 6: {Share: 1}}},
		{Parts: map[int]fit.PartWish{5: {Leave: true}, 6: {Share: 1}}}} {
		target := testkit.Image(t, "target.img", 900*miB)
		proof, p, err := putBackAs(t, s, twin, target, plan.Wish{Wish: wish})
		if err != nil {
			t.Fatal(err)
		}
		if !proof.Holds() {
			t.Errorf("%+v", proof.Claims)
		}
		judgeGrown(t, source, target, p)
		shown := testkit.Do(t, "partx", "--show", "-g", "-o", "START,SECTORS", target)
		for _, x := range p.Layout.Parts {
			if line := fmt.Sprintf("%d", x.To.Start/512); !x.To.Empty() &&
				!bytes.Contains([]byte(shown), []byte(line)) {
				t.Errorf("partx doesn't see part %d at %s:\n%s", x.Part.Number, line, shown)
			}
		}
	}
}
