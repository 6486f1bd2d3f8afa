package apfs_test

import (
	"fmt"
	"strings"
	"testing"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/apfs"
	"twinshelf/internal/fsys/fsystest"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// TestGrows: a container that the driver filled has all of its files on a larger part, by little and by much, and the
// checker finds nothing wrong.
func TestGrows(t *testing.T) {
	testkit.Need(t, "apfsck")
	img, all := container(t, "ferry")
	for _, c := range []struct {
		size, again int64
		kept        bool
	}{{imageSize + 300*4096, 0, true}, {900 * units.MiB, 5*units.GiB + 4096 + 512, false}, {700 * units.GiB, 0,
		false}} {
		t.Run(units.Bytes(c.size), func(t *testing.T) {
			larger, change := fsystest.Resized(t, img, fsys.Bounds{Size: c.size, Sector: 512})
			if change.Size != c.size/4096*4096 {
				t.Fatalf("it becomes %d: %q", change.Size, change.Notes)
			}
			testkit.Do(t, "apfsck", larger)
			if c.again > 0 {
				larger, change = fsystest.Resized(t, larger, fsys.Bounds{Size: c.again, Sector: 512})
				if change.Size != c.again/4096*4096 {
					t.Fatalf("it becomes %d: %q", change.Size, change.Notes)
				}
				testkit.Do(t, "apfsck", larger)
			}
			if c.kept {
				larger = fsystest.Kept(t, larger, 512)
			}
			look(t, larger, all, nil)
		})
	}
}

// TestGrowsWithSnapshot: snapshots go along.
func TestGrowsWithSnapshot(t *testing.T) {
	_, before := container(t, "ferry")
	img, now := container(t, "noon")
	larger, _ := fsystest.Resized(t, img, fsys.Bounds{Size: 20 * units.GiB, Sector: 512})
	look(t, larger, now, before)
	if c, _ := fsystest.Examined(t, larger, 512); !c.Sound || c.Info.Size != 20*units.GiB {
		t.Errorf("%+v, %s", c.Info, c.Why)
	}
}

// TestGrowsFresh: so do empty containers of many sizes; the largest become as large as is known.
func TestGrowsFresh(t *testing.T) {
	testkit.Need(t, "mkapfs", "apfsck")
	const most = 10836 * 32768 * 4096
	for _, c := range []struct{ size, to, want int64 }{
		{128 * units.MiB * 5, 128 * units.MiB * 126, 0}, {128 * units.MiB * 126, 128*units.MiB*126 + 40*units.MiB, 0},
		{250 * units.GB, 1000 * units.GB, 0}, {400 * units.GB, 4 * units.TB, most}, {16 * units.GiB, 16*units.GiB +
			100*4096, 16 * units.GiB},
	} {
		t.Run(fmt.Sprint(c.size, c.to), func(t *testing.T) {
			img := testkit.Image(t, "fresh.img", c.size/4096*4096)
			testkit.Do(t, "mkapfs", "-L", volumeName, img)
			larger, change := fsystest.Resized(t, img, fsys.Bounds{Size: c.to, Sector: 512})
			want := c.want
			if want == 0 {
				want = c.to / 4096 * 4096
			}
			if change.Size != want || (c.want != 0) != (len(change.Notes) > 0) {
				t.Fatalf("it becomes %d, not %d: %q", change.Size, want, change.Notes)
			}
			if c.want == c.size && len(change.Patches) > 0 {
				t.Error("it keeps its size, and something is written")
			}
			testkit.Do(t, "apfsck", larger)
		})
	}
}

// TestDoesntShrink: that is a Mac's business, and it is said.
func TestDoesntShrink(t *testing.T) {
	img, _ := container(t, "ferry")
	c, _ := fsystest.Examined(t, img, 512)
	_, err := c.Volume.(*apfs.Container).Resize(fsys.Bounds{Size: imageSize - 4096, Sector: 512})
	if err == nil || !strings.Contains(err.Error(), "can't be made smaller") {
		t.Error(err)
	}
}
