package workshop

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/plan"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

const (
	systemUUID = "5d1c7a10-0000-4000-8000-00000000f001"
	recordUUID = "5d1c7a10-0000-4000-8000-00000000f002"
)

// twoDisks is a machine whose two disks mount each other's file systems: by identity of the file system, and of the
// part.
func twoDisks(t *testing.T) (*Workshop, *shelf.Twin) {
	t.Helper()
	testkit.Need(t, "mkfs.ext4", "debugfs")
	made := func(name, uuid, fstab, label string, kind table.Kind, id string, part table.Part) string {
		dir := t.TempDir()
		if err := os.MkdirAll(filepath.Join(dir, "etc"), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, "etc/fstab"), []byte(fstab), 0o644); err != nil {
			t.Fatal(err)
		}
		fs := testkit.Image(t, "fs", 30*units.MiB)
		testkit.Do(t, "mkfs.ext4", "-q", "-O", "^metadata_csum", "-U", uuid, "-L", label, "-d", dir, fs)
		img := testkit.Image(t, name, 40*units.MiB)
		part.Number, part.Span = 1, span.At(units.MiB, 30*units.MiB)
		testkit.WriteTable(t, img, table.Layout{Kind: kind, Sector: 512, ID: id, Parts: []table.Part{part}},
			40*units.MiB)
		testkit.Place(t, fs, img, units.MiB)
		return img
	}
	const guid = "7A5E0F10-3B1C-4D5A-9C00-00000000F00"
	first := made("first.img", systemUUID, "UUID="+systemUUID+" / ext4 defaults 0 1\nUUID="+recordUUID+
		" /records ext4 defaults 0 2\nPARTUUID=00b21d9e-01 /again ext4 defaults 0 2\n",
		"system", table.GPT, guid+"0", table.Part{Type: table.TypeLinuxData, GUID: guid + "1"})
	second := made("second.img", recordUUID, "UUID="+systemUUID+" / ext4 defaults 0 1\n", "records", table.MBR,
		"00b21d9e", table.Part{Type: "0x83"})
	w, err := New(filepath.Join(t.TempDir(), "state"), []string{first, second}, false)
	if err != nil {
		t.Fatal(err)
	}
	oak := filepath.Join(t.TempDir(), "oak")
	s, err := shelf.Create(t.Context(), oak, store.New{Name: "Oak"})
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
	if err := w.OpenShelf(t.Context(), oak); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.Shelf.Close)
	disks := w.Bench.List()
	for _, d := range disks {
		w.Bench.Probe(context.Background(), d)
	}
	p, err := w.PlanCapture(t.Context(), "Purser's laptop", disks, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	r, twin := w.StartCapture(context.Background(), p, nil)
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	return w, twin()
}

// TestTogether: of two disks that are restored together, each names the other by the identity that it will have.
func TestTogether(t *testing.T) {
	w, twin := twoDisks(t)
	for _, fresh := range [][2]bool{{true, true}, {false, true}, {true, false}, {false, false}} {
		var pairs []*Pair
		for i := range 2 {
			img := testkit.Image(t, "target.img", 44*units.MiB)
			d := (&bench.Bench{Images: []string{img}}).List()[0]
			w.Bench.Probe(context.Background(), d)
			p, err := w.PlanRestore(t.Context(), Origin{Twin: twin, Disk: i}, d,
				plan.Wish{Wish: fit.Wish{Keep: true}, Fresh: fresh[i]}, nil)
			if err != nil {
				t.Fatal(err)
			}
			pairs = append(pairs, p)
		}
		pairs, err := w.Together(t.Context(), pairs)
		if err != nil {
			t.Fatal(err)
		}
		r, proof := w.StartRestore(context.Background(), pairs)
		if err := r.Wait(); err != nil || !proof().Holds() {
			t.Fatalf("%v: %v %+v", fresh, err, proof())
		}
		var fstab, ids [2]string
		var tab [2]*table.Table
		for i, p := range pairs {
			fs := testkit.Extract(t, p.Target.Path, units.MiB, 30*units.MiB)
			testkit.Do(t, "e2fsck", "-fn", fs)
			fstab[i] = testkit.Do(t, "debugfs", "-R", "cat /etc/fstab", fs)
			id, _ := testkit.Try("blkid", "-p", "-o", "value", "-s", "UUID", fs)
			ids[i] = strings.TrimSpace(id)
			d, err := disk.Open(p.Target.Path, disk.Identity{})
			if err != nil {
				t.Fatal(err)
			}
			if tab[i], err = table.Read(d, d.Size(), 512); err != nil {
				t.Fatal(err)
			}
			d.Close()
		}
		if (ids[0] != systemUUID) != fresh[0] || (ids[1] != recordUUID) != fresh[1] {
			t.Errorf("%v: they are %v", fresh, ids)
		}
		for i, want := range [][]string{{"UUID=" + ids[0] + " / ", "UUID=" + ids[1] + " /records",
			"PARTUUID=" + tab[1].ID + "-01 /again"}, {"UUID=" + ids[0] + " / "}} {
			for _, line := range want {
				if !strings.Contains(fstab[i], line) {
					t.Errorf("%v: disk %d doesn't say %s:\n%s", fresh, i+1, line, fstab[i])
				}
			}
		}
		for i, p := range pairs { // long afterwards, each by itself
			w.Bench.Probe(context.Background(), p.Target)
			r, proof, err := w.StartProofTarget(context.Background(), Origin{Twin: twin, Disk: i}, p.Target)
			if err != nil {
				t.Fatalf("%v: disk %d: %v", fresh, i+1, err)
			}
			if err := r.Wait(); err != nil || !proof().Holds() {
				t.Errorf("%v: disk %d: %v %+v", fresh, i+1, err, proof())
			}
		}
	}
}
