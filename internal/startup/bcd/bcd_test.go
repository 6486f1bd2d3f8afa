package bcd_test

import (
	"bytes"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/hive"
	"twinshelf/internal/hive/hivetest"
	"twinshelf/internal/startup/bcd"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

const (
	disk     = "7A5E0F10-3B1C-4D5A-9C00-000000000001"
	system   = "7A5E0F10-3B1C-4D5A-9C00-000000000003"
	recovery = "7A5E0F10-3B1C-4D5A-9C00-000000000004"
	desk     = "{3f1c0000-0000-4000-8000-0000000000a1}"
	rescue   = "{3f1c0000-0000-4000-8000-0000000000a2}"
	options  = "{3f1c0000-0000-4000-8000-0000000000a3}"
	old      = 0x00C0FFEE
	start    = 105 << 20
)

// store is one of a machine with a Windows on a GPT, a recovery environment, and an older Windows on another disk.
func store(t testing.TB) []byte {
	t.Helper()
	return hivetest.Boot(t,
		hivetest.Object{ID: bcd.ManagerID, Kind: bcd.Manager, Elements: map[uint32]any{bcd.Device: hivetest.FromBoot(),
			bcd.Path: `\EFI\Microsoft\Boot\bootmgfw.efi`, bcd.Default: desk, bcd.Order: []string{desk, rescue}}},
		hivetest.Object{ID: desk, Kind: bcd.Loader, Elements: map[uint32]any{
			bcd.Device: hivetest.OnGPT(t, disk, system), bcd.System: hivetest.OnGPT(t, disk, system),
			bcd.Path: `\Windows\system32\winload.efi`, bcd.Title: "Ticket desk", bcd.Recovery: []string{rescue}}},
		hivetest.Object{ID: rescue, Kind: bcd.Loader, Elements: map[uint32]any{
			bcd.Device: hivetest.InMemory(hivetest.OnGPT(t, disk, recovery), `\Recovery\WindowsRE\Winre.wim`),
			bcd.System: hivetest.ByFile(), bcd.Title: "Recovery"}},
		hivetest.Object{ID: options, Kind: 0x30000000,
			Elements: map[uint32]any{bcd.ImageIn: hivetest.OnMBR(old, start)}})
}

func read(t testing.TB, b []byte) (*bcd.Store, *hive.Hive) {
	t.Helper()
	h, err := hive.Open(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	s, err := bcd.Read(h)
	if err != nil {
		t.Fatal(err)
	}
	return s, h
}

// namedIn are all places that a store names, each once; it is renamed to itself for that.
func namedIn(s *bcd.Store) (out []bcd.Place, err error) {
	_, err = s.Rename(func(_ *bcd.Object, p bcd.Place) bcd.Place {
		if !slices.Contains(out, p) {
			out = append(out, p)
		}
		return p
	})
	return out, err
}

// TestReads: objects, their elements, and what these name, in images too.
func TestReads(t *testing.T) {
	s, _ := read(t, store(t))
	manager := s.Object(strings.ToUpper(bcd.ManagerID))
	if len(s.Objects) != 4 || manager == nil || manager.Text(bcd.Default) != desk ||
		!slices.Equal(manager.List(bcd.Order), []string{desk, rescue}) ||
		manager.Relative(bcd.Device) != bcd.FromBoot || manager.Where(bcd.Device) != nil {
		t.Fatalf("%+v", s.Objects)
	}
	on := bcd.Place{Kind: table.GPT, Disk: disk, Part: system}
	o := s.Object(desk)
	if o.Title() != "Ticket desk" || !slices.Equal(o.Where(bcd.System), []bcd.Place{on}) ||
		o.Text(bcd.Path) != `\Windows\system32\winload.efi` || o.Relative(bcd.System) != "" ||
		!slices.Equal(o.List(bcd.Recovery), []string{rescue}) {
		t.Errorf("%s is at %v", o.Title(), o.Where(bcd.System))
	}
	if o.Image(bcd.System) || !s.Object(rescue).Image(bcd.Device) || s.Object(rescue).Image(bcd.System) {
		t.Error("what is an image can't be told from what isn't")
	}
	image := on
	image.Part = recovery
	if r := s.Object(rescue); !slices.Equal(r.Where(bcd.Device), []bcd.Place{image}) ||
		r.Relative(bcd.System) != bcd.ByFile {
		t.Errorf("%v", r.Where(bcd.Device))
	}
	named, err := namedIn(s)
	if want := []bcd.Place{on, image, {Kind: table.MBR, Disk: "00c0ffee", At: start}}; err != nil ||
		len(named) != 3 || !slices.Contains(named, want[0]) || !slices.Contains(named, want[1]) ||
		!slices.Contains(named, want[2]) {
		t.Errorf("%v, %v", named, err)
	}
}

// TestRenames: parts get other names wherever they are named, and nothing else changes.
func TestRenames(t *testing.T) {
	testkit.Need(t, "reglookup")
	b := store(t)
	s, h := read(t, b)
	other := bcd.Place{Kind: table.MBR, Disk: "deadbeef", At: 3 << 30}
	changed, err := s.Rename(func(_ *bcd.Object, p bcd.Place) bcd.Place {
		switch {
		case p.Part == system:
			p.Part, p.Disk = recovery, system
		case p.Kind == table.MBR:
			return other
		}
		return p
	})
	if err != nil || len(changed) != 2 {
		t.Fatal(changed, err)
	}
	after := bytes.Clone(b)
	for _, p := range h.Patches() {
		copy(after[p.Off:], p.Data)
	}
	dump := func(b []byte) []string {
		path := filepath.Join(t.TempDir(), "BCD")
		if err := os.WriteFile(path, b, 0o600); err != nil {
			t.Fatal(err)
		}
		return strings.Split(testkit.Do(t, "reglookup", path), "\n")
	}
	was, now := dump(b), dump(after)
	var differ []string
	for i := range was {
		if was[i] != now[i] {
			differ = append(differ, strings.Split(now[i], ",")[0])
		}
	}
	slices.Sort(differ)
	want := []string{"/Objects/" + desk + "/Elements/11000001/Element", "/Objects/" + desk +
		"/Elements/21000001/Element", "/Objects/" + options + "/Elements/31000003/Element"}
	if !slices.Equal(differ, want) {
		t.Errorf("%q differ", differ)
	}
	s, _ = read(t, after)
	if got := s.Object(desk).Where(bcd.System); got[0] != (bcd.Place{Kind: table.GPT, Disk: system, Part: recovery}) {
		t.Error(got)
	}
	if got := s.Object(options).Where(bcd.ImageIn); got[0] != other {
		t.Error(got)
	}
	if _, err := s.Rename(func(_ *bcd.Object, p bcd.Place) bcd.Place {
		p.Kind = table.MBR
		return p
	}); err == nil {
		t.Error("a part on a GPT became one on an MBR")
	}
}

// TestNoStore: what isn't one is refused, and what lacks elements isn't followed.
func TestNoStore(t *testing.T) {
	for name, b := range map[string][]byte{
		"empty":           hivetest.Empty(),
		"without manager": hivetest.Boot(t, hivetest.Object{ID: desk, Kind: bcd.Loader}),
	} {
		h, err := hive.Open(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := bcd.Read(h); err == nil {
			t.Errorf("%s: it is taken for a store", name)
		}
	}
	s, _ := read(t, hivetest.Boot(t, hivetest.Object{ID: bcd.ManagerID, Kind: bcd.Manager,
		Elements: map[uint32]any{bcd.Device: []byte("short"), bcd.Default: 7}}))
	m := s.Object(bcd.ManagerID)
	if m.Text(bcd.Default) != "" || m.Where(bcd.Device) != nil || m.Relative(bcd.Device) != "" ||
		m.Title() != bcd.ManagerID {
		t.Errorf("%+v", m)
	}
}

// FuzzStore: no bytes of an element make it fail badly, and places that are renamed to themselves change nothing.
func FuzzStore(f *testing.F) {
	b := store(f)
	at := bytes.Index(b, hivetest.OnGPT(f, disk, system)[16:])
	f.Add(0, []byte{6})
	f.Add(24, []byte{0xFF, 0xFF})
	f.Fuzz(func(t *testing.T, off int, patch []byte) {
		c := bytes.Clone(b)
		copy(c[(at+off%4096+len(c))%len(c):], patch)
		hivetest.Seal(c)
		h, err := hive.Open(bytes.NewReader(c), int64(len(c)))
		if err != nil {
			return
		}
		s, err := bcd.Read(h)
		if err != nil {
			return
		}
		if _, err := namedIn(s); err == nil && h.Patches() != nil {
			t.Fatal("something changed")
		}
	})
}
