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
