package survey

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

const (
	guidA = "7A5E0F10-3B1C-4D5A-9C00-00000000D101"
	guidB = "7A5E0F10-3B1C-4D5A-9C00-00000000D102"
	guidD = "7A5E0F10-3B1C-4D5A-9C00-00000000D001"
)

func looked(t *testing.T, path string, inUse map[int]string) *Survey {
	t.Helper()
	d, err := disk.Open(path, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	s, err := Of(context.Background(), d, inUse)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// covered checks that the areas cover the disk, ascending and without a gap.
func covered(t *testing.T, s *Survey) {
	t.Helper()
	at := int64(0)
	for _, a := range s.Areas {
		if a.Span.Start != at || a.Span.Empty() {
			t.Errorf("area %s begins at %d", a.Span, at)
		}
		if a.Content.Used > a.Span.Len() || a.ToRead > a.Content.Used || a.Content.Used < 0 {
			t.Errorf("area %s: %d used, %d to read", a.Span, a.Content.Used, a.ToRead)
		}
		at = a.Span.End
	}
	if at != s.Device.Size() {
		t.Errorf("covered to %d of %d", at, s.Device.Size())
	}
}

// kiosk is a disk with a start-up part, a system part, swap, and room after them.
func kiosk(t *testing.T) string {
	t.Helper()
	testkit.Need(t, "mkfs.ext4", "mkfs.fat", "mkswap")
	img := testkit.Image(t, "kiosk.img", 300*units.MiB)
	testkit.WriteTable(t, img, table.Layout{Kind: table.GPT, Sector: 512, ID: guidD, Parts: []table.Part{
		{Number: 1, Span: span.At(units.MiB, 40*units.MiB), Type: table.TypeESP, GUID: guidA, Name: "start"},
		{Number: 2, Span: span.At(41*units.MiB, 200*units.MiB), Type: table.TypeLinuxData, GUID: guidB},
		{Number: 3, Span: span.At(241*units.MiB, 20*units.MiB), Type: table.TypeLinuxSwap,
			GUID: "7A5E0F10-3B1C-4D5A-9C00-00000000D103"},
	}}, 300*units.MiB)
	for _, p := range []struct {
		size, at int64
		make     []string
	}{
		{40, 1, []string{"mkfs.fat", "-F", "32", "-n", "START"}},
		{200, 41, []string{"mkfs.ext4", "-q", "-L", "kiosk"}},
		{20, 241, []string{"mkswap", "-L", "spill"}},
	} {
		f := testkit.Image(t, "part", p.size*units.MiB)
		testkit.Do(t, p.make[0], append(p.make[1:], f)...)
		testkit.Place(t, f, img, p.at*units.MiB)
	}
	return img
}

func TestWhatADiskHolds(t *testing.T) {
	s := looked(t, kiosk(t), nil)
	covered(t, s)
	var got []string
	for _, a := range s.Areas {
		got = append(got, strings.Join([]string{a.Title(), a.Holds(), string(a.Role)}, "/"))
	}
	want := "between the parts/no part/ START/FAT32/start-up kiosk/ext4/system spill/swap/swap between the parts/no " +
		"part/"
	if strings.Join(got, " ") != want {
		t.Errorf("%q\nwant %q", strings.Join(got, " "), want)
	}
	if s.Blank() || s.Whole || len(s.Warnings()) != 0 || len(s.Parts()) != 3 || s.Areas[0].Number() != 0 ||
		s.Areas[2].Number() != 2 {
		t.Errorf("%+v", s)
	}
	if used := s.Used(); used < 5*units.MiB || used > 120*units.MiB {
		t.Errorf("%d bytes used", used)
	}
}

func TestPartsInUseAreNotTrusted(t *testing.T) {
	img := kiosk(t)
	s := looked(t, img, map[int]string{2: "it is in use now: mounted at /srv"})
	covered(t, s)
	p := s.Parts()
	if p[1].Content.Maps || p[1].Content.Info.Unclean == "" || !p[0].Content.Maps {
		t.Errorf("%+v", p[1].Content)
	}
	if w := s.Warnings(); len(w) != 1 || !strings.Contains(w[0], "part 2 (kiosk)") ||
		!strings.Contains(w[0], "for ever") {
		t.Errorf("%q", w)
	}
	if all := looked(t, img, map[int]string{0: "somebody writes to the disk"}); all.Parts()[0].Content.Maps ||
		all.Parts()[2].Content.Maps {
		t.Error("a disk in use is trusted")
	}
}

func TestDisksWithoutATable(t *testing.T) {
	testkit.Need(t, "mkfs.ext4")
	img := testkit.Image(t, "new.img", 64*units.MiB)
	if s := looked(t, img, nil); !s.Blank() || s.Used() != 0 {
		t.Errorf("a new disk: blank %v, %d used", s.Blank(), s.Used())
	}
	f, err := os.OpenFile(img, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	f.WriteAt([]byte("tickets"), 32*units.MiB) // where no sample of a full disk need be
	f.WriteAt([]byte("tickets"), 32*units.MiB+512*1024)
	if s := looked(t, img, nil); s.Blank() || len(s.Parts()) != 0 {
		t.Error("a disk with something on it is blank")
	}
	f.Close()
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-L", "oak", img)
	s := looked(t, img, nil)
	covered(t, s)
	if !s.Whole || s.Blank() || len(s.Parts()) != 1 || s.Areas[0].Title() != "oak" ||
		s.Areas[0].Role != table.RoleData {
		t.Errorf("%+v", s.Areas)
	}
}

func TestTableThatDoesNotAddUp(t *testing.T) {
	img := kiosk(t)
	f, err := os.OpenFile(img, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	// An MBR whose two parts overlap, in place of the GPT.
	f.WriteAt(make([]byte, 40*512), 0)
	f.WriteAt(make([]byte, 40*512), 300*units.MiB-40*512)
	b := make([]byte, 512)
	copy(b[446:], []byte{0, 0, 0, 0, 0x83, 0, 0, 0, 0, 8, 0, 0, 0, 0, 4, 0})
	copy(b[462:], []byte{0, 0, 0, 0, 0x83, 0, 0, 0, 0, 16, 0, 0, 0, 0, 4, 0})
	b[510], b[511] = 0x55, 0xAA
	f.WriteAt(b, 0)
	f.Close()
	s := looked(t, img, nil)
	covered(t, s)
	if len(s.Parts()) != 0 || len(s.Notes) != 1 || !strings.Contains(s.Notes[0], "doesn't add up") {
		t.Errorf("%d parts, %q", len(s.Parts()), s.Notes)
	}
	if s.Used() == 0 {
		t.Error("nothing of it would be captured")
	}
}

// TestHolesNeedNoReading: what a sparse image doesn't hold counts as used and not as to be read.
func TestHolesNeedNoReading(t *testing.T) {
	s := looked(t, kiosk(t), nil)
	for _, a := range s.Parts() {
		if a.Content.Info.Kind == "ext4" && a.ToRead >= a.Content.Used {
			t.Errorf("%d of %d bytes are to be read", a.ToRead, a.Content.Used)
		}
	}
	m := disk.NewMemory(10*units.MiB, 512) // knows no holes
	m.Bytes[5*units.MiB] = 1
	full, err := Of(context.Background(), m, nil)
	if err != nil || full.Areas[0].ToRead != m.Size() {
		t.Errorf("%v %d", err, full.Areas[0].ToRead)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := Of(ctx, s.Device, nil); err == nil {
		t.Error("a cancelled look went on")
	}
}

// TestSystemIsWhereItIs: the part with the files of a system is the system, though another one is larger; without any
// the largest is taken for it.
func TestSystemIsWhereItIs(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "mkfs.exfat")
	for _, c := range []struct {
		file string
		want int
	}{{"etc/fstab", 1}, {"Windows/System32/config/SYSTEM", 1}, {"srv/fares.csv", 2}} {
		dir := t.TempDir()
		if err := os.MkdirAll(filepath.Join(dir, filepath.Dir(c.file)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, c.file), []byte("x"), 0o644); err != nil {
			t.Fatal(err)
		}
		small, large := testkit.Image(t, "small", 20*units.MiB), testkit.Image(t, "large", 40*units.MiB)
		testkit.Do(t, "mkfs.ext4", "-q", "-d", dir, small)
		testkit.Do(t, "mkfs.exfat", large)
		img := testkit.Image(t, "till.img", 64*units.MiB)
		testkit.WriteTable(t, img, table.Layout{Kind: table.MBR, Sector: 512, ID: "00b21d9e", Parts: []table.Part{
			{Number: 1, Span: span.At(units.MiB, 20*units.MiB), Type: "0x83", Active: true},
			{Number: 2, Span: span.At(22*units.MiB, 40*units.MiB), Type: "0x07"}}}, 64*units.MiB)
		testkit.Place(t, small, img, units.MiB)
		testkit.Place(t, large, img, 22*units.MiB)
		for _, a := range looked(t, img, nil).Parts() {
			if system := a.Role == table.RoleSystem; system != (a.Number() == c.want) {
				t.Errorf("%s: part %d is %s", c.file, a.Number(), a.Role)
			}
		}
	}
}
