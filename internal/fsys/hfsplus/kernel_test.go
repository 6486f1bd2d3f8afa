package hfsplus_test

import (
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/fsys/fsystest"
	"twinshelf/internal/fsys/hfsplus"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// formatted is an image with a new volume on it, over junk.
func formatted(t testing.TB, size int64, f fsys.Form) string {
	t.Helper()
	m, err := families.All().MakerOf("HFS+")
	if err != nil {
		t.Fatal(err)
	}
	img := testkit.Image(t, "part.img", size)
	junk := testkit.Noise(9, 1<<20)
	for at := int64(0); at < size; at += 1 << 20 {
		testkit.Write(t, img, []disk.Patch{{Off: at, Data: junk[:min(1<<20, size-at)]}})
	}
	f.Size, f.ID, f.Now = size, [16]byte{7, 31, 4, 1, 5, 9, 2, 6}, time.Now()
	if f.Sector == 0 {
		f.Sector = 512
	}
	patches, err := m.Format(f)
	if err != nil {
		t.Fatal(err)
	}
	testkit.Write(t, img, patches)
	return img
}

// driver is the kernel's: it composes names, writes "osx." before attributes that have no class, and keeps the numbers
// of devices as the kernel has them.
var driver = testkit.Driver{OtherDevices: true, Name: func(name string) string {
	return string(utf16.Decode(hfsplus.Decomposed(name)))
}, Attr: func(name string) string { return strings.TrimPrefix(name, "osx.") }}

// TestKernelFilled: a volume that we format is filled by the kernel's driver; our reader sees in it what that driver
// does, its maps agree with its records, and what isn't kept may be lost.
func TestKernelFilled(t *testing.T) {
	img := formatted(t, 96*units.MiB, fsys.Form{Label: "Harbour Wälder"})
	all := testkit.FilledByKernel(t, img, "hfsplus", "force", 700, "nls_utf8", "hfsplus")
	same := func(img string) {
		t.Helper()
		c, _ := fsystest.Examined(t, img, 512)
		tree, err := fsys.TreeOf(c.Volume)
		if err != nil {
			t.Fatal(err)
		}
		testkit.SameAsSeen(t, tree, all, driver)
	}
	same(img)
	same(fsystest.Kept(t, img, 512))
	larger, change := fsystest.Resized(t, img, fsys.Bounds{Size: 700 * units.MiB, Sector: 512})
	if change.Size != 700*units.MiB {
		t.Errorf("it becomes %d bytes, %q", change.Size, change.Notes)
	}
	same(larger)
	// The driver fills the new room, and sees the rest as it was.
	now := testkit.FilledByKernel(t, larger, "hfsplus", "force", 150, "nls_utf8", "hfsplus")
	if len(now) <= len(all) {
		t.Errorf("it has %d files and folders after it had %d", len(now), len(all))
	}
	all = now
	same(larger)
}

// TestKernelFilledShrinks: a volume whose files the kernel's driver could only put into its second half becomes
// smaller, with free room in small pieces; that driver then sees in it what it saw before, and fills it again.
func TestKernelFilledShrinks(t *testing.T) {
	const size, half = 480 * units.MiB, 350 * units.MiB / 4096
	img := formatted(t, size, fsys.Form{Label: "Pier"})
	c, _ := fsystest.Examined(t, img, 512)
	testkit.Write(t, img, hfsplus.Marking(t, c.Volume, half, true, nil))
	all := testkit.FilledByKernel(t, img, "hfsplus", "force", 700, "nls_utf8", "hfsplus")
	c, _ = fsystest.Examined(t, img, 512)
	named := hfsplus.Named(t, c.Volume)
	testkit.Write(t, img, hfsplus.Marking(t, c.Volume, half, false, func(block int64) bool {
		return named.Covers(span.At(block, 1)) || block/17%2 == 0
	}))
	c, _ = fsystest.Examined(t, img, 512)
	least, why, err := c.Volume.(fsys.Shrinker).Least()
	if err != nil || least >= size/4*3 {
		t.Fatalf("least %d (%s): %v", least, why, err)
	}
	t.Logf("%d MiB used, %d named, least %d MiB: "+
		"%s", c.Used/units.MiB, named.Total()*4096/units.MiB, least/units.MiB, why)
	for _, to := range []int64{least, (least+size)/2 + 1536} {
		smaller, change := fsystest.Resized(t, img, fsys.Bounds{Size: to, Sector: 512})
		t.Logf("%d: %q, %d moves, %d patches", to, change.Notes, len(change.Moves), len(change.Patches))
		now, _ := fsystest.Examined(t, smaller, 512)
		tree, err := fsys.TreeOf(now.Volume)
		if err != nil || !now.Sound || now.Info.Size != to/4096*4096 {
			t.Fatalf("%+v, %s, %v", now.Info, now.Why, err)
		}
		testkit.SameAsSeen(t, tree, all, driver)
		if to != least {
			continue
		}
		again := testkit.WorkedOnByKernel(t, smaller, "hfsplus", "force", "rm -rf /mnt/grown*", "nls_utf8", "hfsplus")
		if len(again) >= len(all) {
			t.Errorf("it has %d files and folders after it had %d", len(again), len(all))
		}
		now, _ = fsystest.Examined(t, smaller, 512)
		if tree, err = fsys.TreeOf(now.Volume); err != nil || !now.Sound {
			t.Fatalf("%s, %v", now.Why, err)
		}
		testkit.SameAsSeen(t, tree, again, driver)
	}
}
