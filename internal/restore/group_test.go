package restore_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
	"twinshelf/internal/plan"
	"twinshelf/internal/prove"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

// grouped are disks of a machine, on each of which one part is a physical volume of its group: a striped volume over
// both, and a linear one. With silent the second one bears no description of the group.
func grouped(t *testing.T, silent bool) (images []string, volumes map[string][]byte) {
	t.Helper()
	testkit.Need(t, "mkfs.ext4")
	pvs := []string{testkit.Image(t, "pv0", 100*miB), testkit.Image(t, "pv1", 100*miB)}
	testkit.Group(t, "purser", pvs,
		[]testkit.Logical{{Name: "cargo", Extents: 30, Stripes: 2}, {Name: "fares", Extents: 12}})
	volumes = map[string][]byte{}
	for name, extents := range map[string]int64{"cargo": 30, "fares": 12} {
		dir := t.TempDir()
		if err := os.WriteFile(dir+"/log", testkit.Noise(uint64(extents), 3*miB), 0o600); err != nil {
			t.Fatal(err)
		}
		fs := testkit.Image(t, name, extents*4*miB)
		testkit.Do(t, "mkfs.ext4", "-q", "-F", "-d", dir, fs)
		testkit.FillLogical(t, "purser/"+name, pvs, fs)
		b, err := os.ReadFile(fs)
		if err != nil {
			t.Fatal(err)
		}
		volumes[name] = b
	}
	if silent {
		testkit.LVM(t, pvs, "pvchange", "--metadataignore", "y", "{1}")
	}
	for i, pv := range pvs {
		img := testkit.Image(t, "disk.img", 104*miB)
		testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: guidN(20 + i), Parts: []table.Part{
			{Number: 1, Span: span.At(miB, 100*miB), Type: table.TypeLinuxLVM, GUID: guidN(30 + i)}}}, 104*miB)
		testkit.Place(t, pv, img, miB)
		images = append(images, img)
	}
	return images, volumes
}

// TestGroupOnTwoDisks captures both disks of a volume group by what its volumes use, restores both, and finds every
// volume and its files again.
func TestGroupOnTwoDisks(t *testing.T) {
	for _, silent := range []bool{false, true} {
		t.Run(fmt.Sprint("silent ", silent), func(t *testing.T) { groupOnTwoDisks(t, silent) })
	}
}

// takeJoined captures images as the disks of one machine; of none may more than so many bytes count as used.
func takeJoined(t *testing.T, s *shelf.Shelf, images []string, most int64) (twin *shelf.Twin) {
	t.Helper()
	var surveys []*survey.Survey
	for _, img := range images {
		sv, err := survey.Of(t.Context(), opened(t, img), nil)
		if err != nil {
			t.Fatal(err)
		}
		surveys = append(surveys, sv)
	}
	joined, err := survey.Joined(t.Context(), surveys)
	if err != nil {
		t.Fatal(err)
	}
	p := capture.Plan{Shelf: s, Machine: "Purser's laptop", Tool: "test"}
	for _, sv := range joined {
		if sv.Used() > most {
			t.Errorf("%d bytes of a disk count as used: %+v", sv.Used(), sv.Areas)
		}
		p.Sources = append(p.Sources, capture.Source{Survey: sv})
	}
	if err := testkit.Run(t, func(rc *run.Context) (err error) { twin, err = p.Run(rc); return err }); err != nil {
		t.Fatal(err)
	}
	return twin
}

func groupOnTwoDisks(t *testing.T, silent bool) {
	images, volumes := grouped(t, silent)
	s := newShelf(t)
	twin := takeJoined(t, s, images, 30*miB)
	if err := testkit.Run(t, func(rc *run.Context) error {
		proof, err := prove.Twin(rc, s, twin, "test")
		if err == nil {
			wantHolds(t, proof)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	var pvs []string
	for i := range images {
		pvs = append(pvs, restoredPart(t, s, twin, i))
	}
	testkit.LVM(t, pvs, "vgck", "purser")
	for name, want := range volumes {
		img := testkit.Image(t, name, int64(len(want)))
		if err := os.WriteFile(img, testkit.LogicalBytes(t, "purser/"+name, pvs), 0o600); err != nil {
			t.Fatal(err)
		}
		testkit.Do(t, "e2fsck", "-fn", img)
		log := testkit.Do(t, "debugfs", "-R", "cat log", img)
		was := testkit.Image(t, "was", int64(len(want)))
		if err := os.WriteFile(was, want, 0o600); err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal([]byte(log), []byte(testkit.Do(t, "debugfs", "-R", "cat log", was))) {
			t.Errorf("%s: its file isn't what it was", name)
		}
	}
}

// restoredPart restores a disk of a twin onto a larger one, proves it, and gives its first part.
func restoredPart(t *testing.T, s *shelf.Shelf, twin *shelf.Twin, i int) string {
	t.Helper()
	src, err := s.OpenDisk(t.Context(), twin, i)
	if err != nil {
		t.Fatal(err)
	}
	target := testkit.Image(t, "target.img", 300*miB)
	proof, made, err := written(t, src, &twin.Disks[i], target, plan.Wish{})
	if err != nil {
		t.Fatal(err)
	}
	wantHolds(t, proof)
	x := made.Layout.Parts[0]
	if x.Grown() > 0 {
		t.Errorf("one of two members grows: %+v", x)
	}
	return testkit.Extract(t, target, x.To.Start, x.To.Len())
}

// TestGroupUnchanged: of a volume group a later capture reads again what changed in its volumes, and holds everything;
// a volume that lies elsewhere by then is read whole.
func TestGroupUnchanged(t *testing.T) {
	testkit.Root(t)
	testkit.Need(t, "mkfs.ext4")
	pvs := []string{testkit.Image(t, "pv", 200*miB)}
	testkit.Group(t, "purser", pvs, []testkit.Logical{{Name: "fares", Extents: 20}, {Name: "cargo", Extents: 4}})
	dir := t.TempDir()
	for i := range 12 {
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprint("log", i)), testkit.Noise(uint64(i), 2*miB),
			0o600); err != nil {
			t.Fatal(err)
		}
	}
	fs := testkit.Image(t, "fs", 80*miB)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-d", dir, fs)
	testkit.FillLogical(t, "purser/fares", pvs, fs)
	s := newShelf(t)
	if _, err := take(t, s, labelled(t, pvs[0])); err != nil {
		t.Fatal(err)
	}
	testkit.Mounted(t, []string{"mount", "-o", "loop", fs}, func(point string) {
		if err := os.WriteFile(filepath.Join(point, "log3"), testkit.Noise(99, 2*miB), 0o600); err != nil {
			t.Fatal(err)
		}
	})
	testkit.LoopGone(t, fs)
	testkit.FillLogical(t, "purser/fares", pvs, fs)
	twin, err := take(t, s, labelled(t, pvs[0]))
	if err != nil {
		t.Fatal(err)
	}
	if r := twin.Disks[0].Regions[0]; r.Trusted < 8*miB || r.Added > 5*miB {
		t.Errorf("%d bytes aren't read again, %d are new", r.Trusted, r.Added)
	}
	proof, _, err := putBackAs(t, s, twin, testkit.Image(t, "target", 200*miB), kept())
	if err != nil {
		t.Fatal(err)
	}
	wantHolds(t, proof)
	testkit.LVM(t, pvs, "lvextend", "-l", "+4", "purser/cargo") // the others stay where they are
	testkit.LVM(t, pvs, "lvextend", "-l", "+4", "purser/fares")
	third, err := take(t, s, labelled(t, pvs[0]))
	if err != nil {
		t.Fatal(err)
	}
	if n := third.Disks[0].Regions[0].Trusted; n != 0 {
		t.Errorf("%d bytes of a volume that became longer aren't read again", n)
	}
}

// labelled opens an image as a drive with a serial number, by which its earlier twins are found.
func labelled(t *testing.T, path string) *disk.File {
	t.Helper()
	d, err := disk.Open(path, disk.Identity{Model: "Dunlin D 128", Serial: "DU128-77F20A64"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d
}
