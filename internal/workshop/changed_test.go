package workshop

import (
	"path/filepath"
	"testing"

	"twinshelf/internal/bench"
	"twinshelf/internal/demotest"
	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
)

// TestChangedSince: disks of the demo that were used after their newest twin are found, on NTFS, ext and FAT alike, and
// nothing is said of those that weren't. A twin of which parts lie elsewhere differs.
func TestChangedSince(t *testing.T) {
	b := demotest.Bench(t)
	w, err := New(t.TempDir(), []string{b.Disks}, false)
	if err != nil {
		t.Fatal(err)
	}
	if err := w.OpenShelf(t.Context(), b.Shelf); err != nil {
		t.Fatal(err)
	}
	defer w.Shelf.Close()
	twins, _ := w.Shelf.Twins(t.Context())
	want := map[string]bool{"ticket-desk.img": true, "harbour-kiosk.img": true, "chart-table.img": true,
		"purser-1.img": false, "purser-2.img": false, "weighbridge.img": false}
	for _, d := range w.Bench.List() {
		changed, asked := want[filepath.Base(d.Path)]
		if !asked {
			continue
		}
		w.Bench.Probe(t.Context(), d)
		twin, i := newestWith(twins, d.Identity)
		if twin == nil || d.Device == nil {
			t.Fatalf("%s: %v", d.Path, d.Problem)
		}
		defer d.Device.Close()
		if got, err := w.ChangedSince(t.Context(), d, twin, i); err != nil || got != changed {
			t.Errorf("%s: changed %v (%v), not %v", d.Path, got, err, changed)
		}
		moved := *twin
		moved.Disks = append([]shelf.TwinDisk{}, twin.Disks...)
		moved.Disks[i].Regions = append([]shelf.Region{}, twin.Disks[i].Regions...)
		for k := range moved.Disks[i].Regions {
			if r := &moved.Disks[i].Regions[k]; r.Part != 0 {
				r.Span = r.Span.Shift(1 << 20)
			}
		}
		if got, err := w.ChangedSince(t.Context(), d, &moved, i); err == nil && !got {
			t.Errorf("%s: parts that lie elsewhere aren't seen", d.Path)
		}
	}
}

func newestWith(twins []*shelf.Twin, id disk.Identity) (best *shelf.Twin, at int) {
	for _, t := range twins {
		for i := range t.Disks {
			if d := t.Disks[i].Identity; d.Serial == id.Serial && (best == nil || t.Taken.After(best.Taken)) {
				best, at = t, i
			}
		}
	}
	return best, at
}

// TestAlike: only disks that nothing on a sticker tells apart are alike, and a world wide name is asked for where
// there is no serial number.
func TestAlike(t *testing.T) {
	of := func(path, serial, wwn string, size int64) *bench.Disk {
		return &bench.Disk{Path: path, Identity: disk.Identity{Model: "Tern T", Serial: serial, WWN: wwn, Size: size}}
	}
	a := of("/dev/sda", "", "", 1000)
	for _, c := range []struct {
		other *bench.Disk
		alike bool
	}{{of("/dev/sdb", "", "", 1000), true}, {of("/dev/sdb", "", "", 1001), false}, {of("/dev/sdb", "T-1", "",
		1000), false},
		{of("/dev/sdb", "", "0x5000c500", 1000), false}, {of("/dev/sda", "", "", 1000), false}} {
		if got := Alike(a, []*bench.Disk{a, c.other}); (got != nil) != c.alike {
			t.Errorf("%+v: %v", c.other.Identity, got)
		}
	}
	if text, what := Confirm(of("", "", "0x5000c500a1b2", 1).Identity); text != "a1b2" || what == "" {
		t.Errorf("%q %q", text, what)
	}
}
