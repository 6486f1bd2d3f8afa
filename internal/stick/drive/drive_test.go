package drive

import (
	"bytes"
	"encoding/binary"
	"errors"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys/fsystest"
	"twinshelf/internal/ready"
	"twinshelf/internal/stick/base"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// system is one whose pieces can be told from each other.
func system(version string) *System {
	core := bytes.Repeat([]byte("core"), 4096)
	return &System{Manifest: &base.Manifest{Kernel: version}, Kernel: []byte("kernel " + version),
		Ramdisk: testkit.Noise(7, 3<<20), Shim: []byte("shim"), ShimKeys: []byte("keys"), Loader: []byte("loader"),
		BootCode: bytes.Repeat([]byte("B"), 512), Core: core}
}

// surveyed looks at a drive.
func surveyed(t *testing.T, d disk.Device) *survey.Survey {
	t.Helper()
	s, err := survey.Of(t.Context(), d, nil)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// planned is the drive as it would be by a draft.
func planned(t *testing.T, d *ready.Draft, on disk.Device) disk.Device {
	t.Helper()
	p, err := d.Plan(t.Context(), on, disk.Target{})
	if err != nil {
		t.Fatal(err)
	}
	return p.Planned()
}

// TestStick: a drive that is laid out as a stick has all that machines start from, where they look for it; one that is
// made again has the new system, and everything beside it.
func TestStick(t *testing.T) {
	img := testkit.Image(t, "stick.img", 1200*units.MiB)
	dev, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer dev.Close()
	s := system("6.1")
	d := ready.Anew(surveyed(t, dev), 0, table.GPT)
	if err := s.Lay(d, Data{"ext4", "oak"}); err != nil {
		t.Fatal(err)
	}
	made := planned(t, d, dev)
	checkStick(t, made, s)
	again := system("6.2")
	change, err := ready.Change(surveyed(t, made), 0)
	if err != nil || !Is(change) {
		t.Fatalf("it isn't known again: %v", err)
	}
	if err := again.Renew(change); err != nil {
		t.Fatal(err)
	}
	p, err := change.Plan(t.Context(), made, disk.Target{})
	if err != nil {
		t.Fatal(err)
	}
	checkStick(t, p.Planned(), again)
	if len(p.Goes) != 2 || len(p.Stays) != 1 || !strings.Contains(p.Goes[0], "written anew") ||
		!strings.Contains(p.Stays[0], "oak") {
		t.Errorf("it says that these go: %q, and that these stay: %q", p.Goes, p.Stays)
	}
	if lost := change.Lost(); len(lost) != 2 || change.Parts[0].Fate() != ready.Formatted {
		t.Errorf("%d parts are lost, the first one %s", len(lost), change.Parts[0].Fate())
	}
	shelves := change.Parts[2].Span
	for _, step := range p.Steps {
		for _, q := range step.Patches {
			if q.Span().Overlaps(shelves) {
				t.Errorf("%s writes to the part for shelves", step.Title)
			}
		}
	}
	if err := s.Renew(ready.Anew(surveyed(t, dev), 0, table.GPT)); err == nil {
		t.Error("a drive that is no stick is renewed")
	}
}

func checkStick(t *testing.T, d disk.Device, s *System) {
	t.Helper()
	for name, want := range map[string]string{"EFI/BOOT/BOOTX64.EFI": "shim", "EFI/BOOT/GRUBX64.EFI": "loader",
		"EFI/BOOT/MMX64.EFI": "keys", "EFI/DEBIAN/GRUB.CFG": menu, "VMLINUZ": string(s.Kernel),
		"INITRD.IMG": string(s.Ramdisk)} {
		if got, _ := fsystest.FileOf(t, d, 2, name); got != want {
			t.Errorf("%s has %d bytes, want %d", name, len(got), len(want))
		}
	}
	tb, err := table.Read(d, d.Size(), d.SectorSize())
	if err != nil || len(tb.Parts) != 3 || tb.Worst() == table.Damage {
		t.Fatalf("%+v, %v", tb, err)
	}
	at := tb.Parts[0].Span.Start
	b := make([]byte, 512)
	if err := disk.ReadFull(d, b, 0); err != nil || binary.LittleEndian.Uint64(b[bootNext:]) != uint64(at/512) {
		t.Errorf("the first stage leads to sector %d, %v", binary.LittleEndian.Uint64(b[bootNext:]), err)
	}
	if err := disk.ReadFull(d, b, at); err != nil || binary.LittleEndian.Uint64(b[coreNext:]) != uint64(at/512+1) {
		t.Errorf("the second stage goes on at sector %d, %v", binary.LittleEndian.Uint64(b[coreNext:]), err)
	}
}

// TestSticksThatCantBe says what a drive or a base lacks.
func TestSticksThatCantBe(t *testing.T) {
	small := disk.NewMemory(64<<20, 512)
	if err := system("6.1").Lay(ready.Anew(surveyed(t, small), 0, table.GPT), Data{}); !errors.Is(err, ErrSmall) {
		t.Errorf("a small drive: %v", err)
	}
	img := testkit.Image(t, "stick.img", 700*units.MiB)
	dev, err := disk.Open(img, disk.Identity{Sector: 4096})
	if err != nil {
		t.Fatal(err)
	}
	defer dev.Close()
	d := ready.Anew(surveyed(t, dev), 0, table.GPT)
	if err := system("6.1").Lay(d, Data{}); err != nil || len(d.Notes) != 1 || d.Code != nil {
		t.Errorf("large sectors: %v, %q", err, d.Notes)
	}
	s := system("6.1")
	s.Core = []byte("short")
	var hurt *base.Hurt
	d = ready.Anew(surveyed(t, disk.NewMemory(700<<20, 512)), 0, table.GPT)
	if err := s.Lay(d, Data{}); !errors.As(err, &hurt) {
		t.Errorf("a base without a second stage: %v", err)
	}
}
