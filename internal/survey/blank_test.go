package survey

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// unsparse is a disk that doesn't know its holes, like most real ones.
type unsparse struct{ disk.Device }

// TestWipedAtBothEnds: a disk whose first and last MiB were zeroed isn't blank while a file system lies after them,
// whatever its kind and size; and what begins at 1 MiB is named.
func TestWipedAtBothEnds(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "mkfs.fat", "mkfs.exfat", "mkntfs", "mkfs.xfs", "mkfs.btrfs")
	for _, c := range []struct {
		kind string
		size int64
		make []string
	}{
		{"FAT32", 1000 * units.GiB, []string{"mkfs.fat", "-F", "32", "-s", "64"}},
		{"exFAT", 1000 * units.GiB, []string{"mkfs.exfat"}},
		{"XFS", 1000 * units.GiB, []string{"mkfs.xfs", "-q"}},
		{"btrfs", 1000 * units.GiB, []string{"mkfs.btrfs", "-q"}},
		{"ext4", 64 * units.GiB, []string{"mkfs.ext4", "-q"}},
		{"NTFS", 64 * units.GiB, []string{"mkntfs", "-Q", "-F", "-q"}},
	} {
		t.Run(c.kind, func(t *testing.T) {
			fs := testkit.Image(t, "fs", c.size)
			testkit.Do(t, c.make[0], append(c.make[1:], fs)...)
			img := testkit.Image(t, "wiped.img", c.size+2*units.MiB)
			testkit.Place(t, fs, img, units.MiB)
			d, err := disk.Open(img, disk.Identity{})
			if err != nil {
				t.Fatal(err)
			}
			defer d.Close()
			for _, dev := range []disk.Device{d, unsparse{d}} {
				s, err := Of(context.Background(), dev, nil)
				if err != nil {
					t.Fatal(err)
				}
				if s.Blank() {
					t.Fatal("it is called blank")
				}
				if len(s.Remains) != 1 || s.Remains[0].Kind != c.kind ||
					!strings.HasSuffix(s.Remains[0].Words(), "begins at 1 MiB") {
					t.Errorf("%+v", s.Remains)
				}
			}
		})
	}
}

// TestBlank: a new disk is blank, and one with a few bytes anywhere in its data isn't, sparse or with a super block's
// copy left.
func TestBlank(t *testing.T) {
	img := testkit.Image(t, "new.img", 600*units.MiB)
	for _, at := range []int64{-1, 0, 5 * units.MiB, 63 * 512, 300*units.MiB + 7, 128 * units.MiB, 600*units.MiB - 10} {
		t.Run(fmt.Sprint(at), func(t *testing.T) {
			if at >= 0 {
				f, err := os.OpenFile(img, os.O_RDWR, 0)
				if err != nil {
					t.Fatal(err)
				}
				defer f.Close()
				if _, err := f.WriteAt([]byte("fare"), at); err != nil {
					t.Fatal(err)
				}
				defer f.WriteAt(make([]byte, 4), at)
			}
			if s := looked(t, img, nil); s.Blank() != (at < 0) {
				t.Errorf("blank: %v", s.Blank())
			}
		})
	}
}

// TestRandomDisk: what bears no order at all is said to, and nothing more is claimed.
func TestRandomDisk(t *testing.T) {
	d := disk.NewMemory(8<<20, 512)
	r := rand.New(rand.NewPCG(3, 1))
	for i := range d.Bytes {
		d.Bytes[i] = byte(r.Uint32())
	}
	for _, order := range []bool{false, true} {
		if order {
			copy(d.Bytes[10_000:], bytes.Repeat([]byte("fares "), 8000))
		}
		s, err := Of(t.Context(), d, nil)
		if err != nil {
			t.Fatal(err)
		}
		if said := strings.Contains(strings.Join(s.Unnamed(), ""), "look random"); s.Random() == order ||
			said == order || s.Blank() {
			t.Errorf("random %v: %q", !order, s.Unnamed())
		}
	}
}
