package fsys_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// made formats an image file of size bytes that was full of something else (when
// it is small enough to fill) and returns its path and the bytes written.
func made(t testing.TB, f fsys.Form) (path string, written int64) {
	t.Helper()
	m, err := families.MakerOf(f.Kind)
	if err != nil {
		t.Fatal(err)
	}
	if f.Sector == 0 {
		f.Sector = 512
	}
	f.Now = time.Date(2026, 11, 24, 9, 30, 0, 0, time.UTC)
	copy(f.ID[:], "0123456789abcdef")
	patches, err := m.Format(f)
	if err != nil {
		t.Fatalf("%+v: %v", f, err)
	}
	path = testkit.Image(t, "new.img", f.Size)
	file, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	dirty := f.Size <= 300*units.MiB
	if dirty {
		junk := bytes.Repeat([]byte{0xE5, 0x5A, 0x01, 0x99}, 1<<18)
		for at := int64(0); at < f.Size; at += int64(len(junk)) {
			file.WriteAt(junk[:min(int64(len(junk)), f.Size-at)], at)
		}
	}
	for _, p := range patches {
		written += p.Span().Len()
		data := p.Data
		if data == nil && !dirty { // holes are zeros
			continue
		}
		if data == nil {
			data = make([]byte, p.Zeros)
		}
		if _, err := file.WriteAt(data, p.Off); err != nil {
			t.Fatal(err)
		}
	}
	return path, written
}

// crowd makes a folder of many files to fill a new file system with.
func crowd(t testing.TB, n int) string {
	t.Helper()
	dir := t.TempDir()
	for i := range n {
		p := filepath.Join(dir, fmt.Sprintf("pier %d", i%7),
			fmt.Sprintf("a rather long name for cargo list %04d.txt", i))
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, bytes.Repeat([]byte{byte(i)}, i%3000), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// recognised checks with our own reader and with blkid.
func recognised(t *testing.T, img string, f fsys.Form) {
	t.Helper()
	c, _ := examine(t, img)
	if c.Info.Kind != f.Kind || c.Info.Label != f.Label || !c.Maps {
		t.Errorf("our own reader sees %+v: %s", c.Info, c.Why)
	}
	if f.Unit != 0 && c.Info.Unit != f.Unit {
		t.Errorf("unit %d instead of %d", c.Info.Unit, f.Unit)
	}
	tag := func(name string) string {
		return strings.TrimSpace(testkit.Do(t, "blkid", "-p", "-o", "value", "-s", name, img))
	}
	kind := map[string]string{"exFAT": "exfat", "NTFS": "ntfs", "ext4": "ext4"}[f.Kind]
	if kind == "" {
		kind = "vfat"
	}
	if tag("TYPE") != kind || f.Label != "" && tag("LABEL") != f.Label || !strings.EqualFold(tag("UUID"), c.Info.ID) {
		t.Errorf("blkid sees %s, %q, %s; wanted %s, %q, %s", tag("TYPE"), tag("LABEL"), tag("UUID"), kind, f.Label,
			c.Info.ID)
	}
}

func TestFormatFAT(t *testing.T) {
	testkit.Need(t, "fsck.fat", "mcopy", "blkid")
	dir := crowd(t, 1000)
	for _, f := range []fsys.Form{
		{Kind: "FAT12", Size: 64 * units.KiB, Label: "DECK"},
		{Kind: "FAT12", Size: 10*units.MiB + 512, Label: "DECK"},
		{Kind: "FAT16", Size: 3*units.MiB + 3*512},
		{Kind: "FAT16", Size: 300 * units.MiB, Label: "PIER 2", Start: 63 * 512},
		{Kind: "FAT16", Size: 200 * units.MiB, Sector: 4096, Label: "PIER"},
		{Kind: "FAT16", Size: 2 * units.GiB, Unit: 64 * units.KiB},
		{Kind: "FAT32", Size: 36 * units.MiB, Label: "START"},
		{Kind: "FAT32", Size: 100*units.MiB - 5*512, Start: units.MiB, Label: "EFI"},
		{Kind: "FAT32", Size: 290 * units.MiB, Sector: 4096, Label: "EFI"},
		{Kind: "FAT32", Size: 32*units.GiB + 17*512, Label: "SHARED"},
		{Kind: "FAT32", Size: 1 * units.TB, Label: "BIG"},
		{Kind: "FAT32", Size: 2*units.TiB - 512, Unit: 64 * units.KiB},
	} {
		t.Run(fmt.Sprintf("%s %s %d", f.Kind, units.Bytes(f.Size), f.Sector), func(t *testing.T) {
			img, _ := made(t, f)
			check := func() {
				if out, err := testkit.Try("fsck.fat", "-n", "-v", img); err != nil ||
					strings.Contains(out, "differences") {
					t.Errorf("fsck.fat: %v\n%s", err, out)
				}
			}
			check()
			recognised(t, img, f)
			if f.Size < 20*units.MiB {
				return
			}
			testkit.Do(t, "mcopy", "-s", "-i", img, filepath.Join(dir, "pier 1"), filepath.Join(dir, "pier 2"), "::")
			if f.Size < units.TB {
				testkit.Do(t, "mcopy", "-s", "-i", img, filepath.Join(dir, "pier 3"), filepath.Join(dir, "pier 4"),
					filepath.Join(dir, "pier 5"), "::")
			}
			check()
			out := t.TempDir()
			testkit.Do(t, "mcopy", "-s", "-n", "-i", img, "::pier 2", out)
			if got := testkit.Do(t, "diff", "-r", filepath.Join(dir, "pier 2"),
				filepath.Join(out, "pier 2")); got != "" {
				t.Errorf("files differ: %s", got)
			}
		})
	}
}

// inUse lets the operating system fill a mounted volume on a block device, and
// take some of it away again.
func inUse(t *testing.T, mount []string, img string, sector int, dir string) {
	t.Helper()
	onLoop(t, mount, img, sector, func(m string) {
		testkit.Do(t, "cp", "-r", dir+"/.", m)
		testkit.Do(t, "rm", "-r", filepath.Join(m, "pier 4"))
		if got, err := testkit.Try("diff", "-r", filepath.Join(dir, "pier 5"), filepath.Join(m, "pier 5")); err != nil {
			t.Errorf("files differ: %s", got)
		}
	})
}

// onLoop mounts an image through a loop device, works on it, and lets go of both.
func onLoop(t testing.TB, mount []string, img string, sector int, work func(point string)) {
	t.Helper()
	dev := testkit.Loop(t, img, sector)
	testkit.Mounted(t, append(mount, dev), work)
	// A FUSE driver may write its last blocks after umount has returned.
	for range 100 {
		if _, err := testkit.Try("pgrep", "-f", dev+" "); err != nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	testkit.Detach(dev)
	testkit.LoopGone(t, img)
}

func TestFormatExFAT(t *testing.T) {
	testkit.Need(t, "fsck.exfat", "mount.exfat-fuse", "blkid")
	testkit.Root(t)
	dir := crowd(t, 1000)
	for _, f := range []fsys.Form{
		{Kind: "exFAT", Size: units.MiB, Label: "Kiosk"},
		{Kind: "exFAT", Size: 7*units.MiB + 3*512},
		{Kind: "exFAT", Size: 300*units.MiB - 512, Label: "Shared drive", Start: units.MiB},
		{Kind: "exFAT", Size: 200 * units.MiB, Sector: 4096, Label: "4K"},
		{Kind: "exFAT", Size: 200 * units.MiB, Unit: 512, Label: "fine"},
		{Kind: "exFAT", Size: 40 * units.GiB, Unit: 32 * units.MiB, Label: "coarse"},
		{Kind: "exFAT", Size: units.TB, Label: "Ölhafen"},
		{Kind: "exFAT", Size: 15 * units.TB, Label: "16"},
	} {
		if len([]rune(f.Label)) > 11 {
			f.Label = "Shared"
		}
		t.Run(fmt.Sprintf("%s %d %d", units.Bytes(f.Size), f.Sector, f.Unit), func(t *testing.T) {
			img, _ := made(t, f)
			check := func() {
				if out, err := testkit.Try("fsck.exfat", "-n", img); err != nil {
					t.Errorf("fsck.exfat: %v\n%s", err, out)
				}
			}
			check()
			recognised(t, img, f)
			if f.Size < 100*units.MiB || f.Unit > units.MiB { // no room for so many files
				return
			}
			inUse(t, []string{"mount.exfat-fuse"}, img, max(512, f.Sector), dir)
			check()
			if c, _ := examine(t, img); !c.Maps {
				t.Errorf("after use: %s", c.Why)
			}
		})
	}
}

// TestFormsThatCantBe: each with a reason.
func TestFormsThatCantBe(t *testing.T) {
	for _, c := range []struct {
		f    fsys.Form
		word string
	}{
		{fsys.Form{Kind: "FAT32", Size: 10 * units.MiB}, "too small"},
		{fsys.Form{Kind: "FAT32", Size: 3 * units.TiB}, "too large"},
		{fsys.Form{Kind: "FAT16", Size: 5 * units.GiB}, "too large"},
		{fsys.Form{Kind: "FAT32", Size: units.GiB, Label: "TOO LONG A LABEL"}, "takes up to 11"},
		{fsys.Form{Kind: "FAT32", Size: units.GiB, Label: "A/B"}, "doesn't allow"},
		{fsys.Form{Kind: "FAT32", Size: units.GiB, Label: "Ölhafen"}, "doesn't allow"},
		{fsys.Form{Kind: "FAT32", Size: units.GiB, Unit: 3000}, "can't have allocation units"},
		{fsys.Form{Kind: "FAT32", Size: units.GiB, Unit: 64 * units.KiB}, "can't have allocation units"},
		{fsys.Form{Kind: "FAT32", Size: units.GiB, Sector: 520}, "sectors of 520"},
		{fsys.Form{Kind: "exFAT", Size: 1000}, "too small"},
		{fsys.Form{Kind: "exFAT", Size: units.GiB, Label: "a:b"}, "doesn't allow"},
		{fsys.Form{Kind: "exFAT", Size: units.GiB, Label: "a\nb"}, "can't be shown"},
		{fsys.Form{Kind: "tape", Size: units.GiB}, "choose "},
	} {
		if c.f.Sector == 0 {
			c.f.Sector = 512
		}
		m, err := families.MakerOf(c.f.Kind)
		if err == nil {
			_, err = m.Format(c.f)
		}
		if err == nil || !strings.Contains(err.Error(), c.word) {
			t.Errorf("%+v: %v", c.f, err)
		}
	}
}

// TestDefaultsArePossible: in every kind and size, the unit taken by default is among
// the choices, and nothing lies outside the part or overlaps.
func TestDefaultsArePossible(t *testing.T) {
	for _, m := range families.Makers() {
		for _, sector := range []int{512, 4096} {
			for size := m.Min(sector); size <= min(m.Max(sector), 16*units.TB); size = size*7/4 + 512*7 {
				choice, byDefault := m.Units(size, sector)
				if !slices.Contains(choice, byDefault) {
					t.Errorf("%s %s, sectors of %d: %v doesn't hold %d", m.Kind, units.Bytes(size), sector, choice,
						byDefault)
					continue
				}
				f := fsys.Form{Kind: m.Kind, Size: size / int64(sector) * int64(sector), Sector: sector, Label: "DECK"}
				if f.Size < m.Min(sector) {
					continue
				}
				if _, err := m.Format(f); err != nil {
					t.Errorf("%s %d, sectors of %d: %v", m.Kind, size, sector, err)
				}
			}
		}
	}
}

func TestFormatExt4(t *testing.T) {
	testkit.Need(t, "e2fsck", "dumpe2fs", "blkid")
	testkit.Root(t)
	dir := crowd(t, 1200)
	for _, f := range []fsys.Form{
		{Kind: "ext4", Size: units.MiB, Label: "oak"},
		{Kind: "ext4", Size: 3*units.MiB + 5*512, Label: "oak"},
		{Kind: "ext4", Size: 20 * units.MiB, Unit: 4096},
		{Kind: "ext4", Size: 130*units.MiB - 512, Label: "kiosk-root"},
		{Kind: "ext4", Size: 200 * units.MiB, Unit: 2048, Label: "two"},
		{Kind: "ext4", Size: 290 * units.MiB, Sector: 4096, Label: "four"},
		{Kind: "ext4", Size: 700 * units.MiB, Unit: 1024, Label: "one"},
		{Kind: "ext4", Size: 8*units.GiB + 3*4096, Label: "Ölhafen"},
		{Kind: "ext4", Size: 128*units.MiB*16 + 4096*40, Label: "tail"}, // a last group too short for anything
		{Kind: "ext4", Size: 500 * units.GB, Unit: 1024},
		{Kind: "ext4", Size: units.TB, Label: "Oak"},
		{Kind: "ext4", Size: 4 * units.TB, Sector: 4096, Label: "Elm"},
		{Kind: "ext4", Size: 15_900_000_000_000, Label: "16 TB"},
	} {
		t.Run(fmt.Sprintf("%s %d %d", units.Bytes(f.Size), f.Sector, f.Unit), func(t *testing.T) {
			img, written := made(t, f)
			check := func() {
				t.Helper()
				if out, err := testkit.Try("e2fsck", "-fn", img); err != nil {
					t.Fatalf("e2fsck: %v\n%.3000s", err, out)
				}
			}
			check()
			recognised(t, img, f)
			if f.Size == units.TB && written > 64*units.MiB {
				t.Errorf("%s written", units.Bytes(written))
			}
			if f.Size < 100*units.MiB {
				return
			}
			inUse(t, []string{"mount"}, img, max(512, f.Sector), dir)
			check()
			if c, _ := examine(t, img); !c.Maps {
				t.Errorf("after use: %s", c.Why)
			}
		})
	}
}

// TestExt4CanGrow: the room kept for more descriptors is where the system's own tool expects it.
func TestExt4CanGrow(t *testing.T) {
	testkit.Need(t, "resize2fs", "e2fsck")
	img, _ := made(t, fsys.Form{Kind: "ext4", Size: 300 * units.MiB, Label: "oak", Unit: 4096})
	testkit.Sparse(t, img, 20*units.GiB)
	testkit.Do(t, "e2fsck", "-fn", img)
	testkit.Do(t, "resize2fs", "-f", img)
	testkit.Do(t, "e2fsck", "-fn", img)
	if c, _ := examine(t, img); !c.Maps || c.Info.Size != 20*units.GiB {
		t.Errorf("%+v %s", c.Info, c.Why)
	}
}

func TestFormatNTFS(t *testing.T) {
	testkit.Need(t, "ntfsfix", "ntfsinfo", "ntfs-3g", "blkid")
	testkit.Root(t)
	dir := crowd(t, 3000)
	for _, f := range []fsys.Form{
		{Kind: "NTFS", Size: 4 * units.MiB, Label: "Desk"},
		{Kind: "NTFS", Size: 9*units.MiB + 3*512},
		{Kind: "NTFS", Size: 130*units.MiB - 512, Label: "Ticket desk", Unit: 512, Start: units.MiB},
		{Kind: "NTFS", Size: 200 * units.MiB, Sector: 4096, Label: "4K"},
		{Kind: "NTFS", Size: 290 * units.MiB, Unit: 64 * units.KiB, Label: "coarse"},
		{Kind: "NTFS", Size: 7*units.GiB + 5*512, Label: "Ölhafen ☂"},
		{Kind: "NTFS", Size: units.TB, Label: "Shared"},
		{Kind: "NTFS", Size: 15_900_000_000_000, Label: "16 TB"},
	} {
		t.Run(fmt.Sprintf("%s %d %d", units.Bytes(f.Size), f.Sector, f.Unit), func(t *testing.T) {
			img, written := made(t, f)
			check := func() {
				t.Helper()
				if out, err := testkit.Try("ntfsfix", "-n", img); err != nil || strings.Contains(out, "FAILED") {
					t.Errorf("ntfsfix: %v\n%s", err, out)
				}
				if out, err := testkit.Try("ntfsinfo", "-m", img); err != nil {
					t.Errorf("ntfsinfo: %v\n%s", err, out)
				}
			}
			check()
			recognised(t, img, f)
			if f.Size == units.TB && written > 64*units.MiB {
				t.Errorf("%s written", units.Bytes(written))
			}
			if out, err := testkit.Try("ntfssecaudit", "-a", img); err != nil ||
				!strings.Contains(out, "No errors were found") {
				t.Errorf("ntfssecaudit: %v\n%s", err, out)
			}
			if f.Size < 100*units.MiB {
				return
			}
			inUse(t, []string{"ntfs-3g"}, img, max(512, f.Sector), dir)
			check()
			if c, _ := examine(t, img); !c.Maps {
				t.Errorf("after use: %s", c.Why)
			}
		})
	}
}

// TestEverySizeBetweenTheLimits: what a maker says it can, it can.
func TestEverySizeBetweenTheLimits(t *testing.T) {
	for _, m := range families.Makers() {
		for _, sector := range []int{512, 4096} {
			low, high := m.Min(sector), min(m.Max(sector), 200*units.GB)
			for _, size := range []int64{low, low + 4096*3, (low + high) / 2, high - 4096, high} {
				f := fsys.Form{Kind: m.Kind, Size: size / 4096 * 4096, Sector: sector}
				if size == low {
					f.Size = (size + 4095) / 4096 * 4096
				}
				if f.Size > m.Max(sector) {
					continue
				}
				if _, err := m.Format(f); err != nil {
					t.Errorf("%s of %d bytes, sectors of %d: %v", m.Kind, f.Size, sector, err)
				}
				if choice, usual := m.Units(f.Size, sector); !slices.Contains(choice, usual) {
					t.Errorf("%s of %d bytes: the unit taken without a choice, %d, isn't one of %v", m.Kind, f.Size,
						usual, choice)
				}
			}
		}
	}
}
