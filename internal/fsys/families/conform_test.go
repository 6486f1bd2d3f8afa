package families_test

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys/fsystest"
	"twinshelf/internal/testkit"
)

// shelfOf is a folder with files in folders: empty ones, small ones, one of many blocks, long names.
func shelfOf(t testing.TB, n int) string {
	t.Helper()
	dir := t.TempDir()
	for i := range n {
		name := fmt.Sprintf("pier %d/crossing %d, a name that takes more than one entry.log", i%5, i)
		size := 1 + i*937%20_000
		switch i {
		case 0:
			name, size = "a", 0
		case 1:
			name, size = "fares", 700_000
		}
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), testkit.Noise(uint64(i), size), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// kind is a kind of volume: how the system's tools make it, fill it, judge it and mount it.
type kind struct {
	name  string
	size  int64 // bytes
	make  []string
	check []string
	mount []string
	fill  func(t testing.TB, k kind, img, dir string)
}

func kindsOf() []kind {
	ext := func(name string, size int64, args ...string) kind {
		return kind{name: name, size: size, make: append([]string{"mkfs.ext4", "-q", "-F"}, args...),
			check: []string{"e2fsck", "-fn"}, mount: []string{"mount", "-o", "loop"}, fill: copied}
	}
	fat := func(name string, size int64, args ...string) kind {
		return kind{name: name, size: size, make: append([]string{"mkfs.fat"}, args...),
			check: []string{"fsck.fat", "-n"},
			fill:  mcopied}
	}
	return []kind{
		ext("ext4", 40*miB), ext("ext3", 24*miB, "-t", "ext3", "-b", "1024", "-J", "size=1"),
		ext("ext2", 20*miB, "-t", "ext2", "-b", "1024"),
		ext("ext4, 1 KiB, inline", 24*miB, "-b", "1024", "-I", "256", "-O", "inline_data", "-J", "size=1"),
		{"NTFS", 24 * miB, []string{"mkntfs", "-Q", "-F", "-q"}, []string{"ntfsfix", "-n"}, []string{"ntfs-3g"},
			copied},
		{"exFAT", 24 * miB, []string{"mkfs.exfat"}, []string{"fsck.exfat", "-n"}, []string{"mount.exfat-fuse"}, copied},
		fat("FAT12", 6*miB, "-F", "12", "-s", "8"), fat("FAT16", 20*miB, "-F", "16", "-s", "4"),
		fat("FAT32", 40*miB, "-F", "32", "-s", "1"),
	}
}

// copied fills a volume through a mount.
func copied(t testing.TB, k kind, img, dir string) {
	t.Helper()
	mounted(t, k, img, func(point string) { testkit.Do(t, "cp", "-r", dir+"/.", point) })
}

func mcopied(t testing.TB, _ kind, img, dir string) {
	t.Helper()
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		testkit.Do(t, "mcopy", "-s", "-i", img, filepath.Join(dir, e.Name()), "::")
	}
}

func mounted(t testing.TB, k kind, img string, work func(point string)) {
	t.Helper()
	if k.mount[0] == "mount" {
		testkit.Mounted(t, append(append([]string{}, k.mount...), img), work)
		testkit.LoopGone(t, img)
		return
	}
	dev := testkit.Loop(t, img, 512)
	testkit.Mounted(t, append(append([]string{}, k.mount...), dev), work)
	testkit.Detach(dev)
	testkit.LoopGone(t, img)
}

// volumeOf makes a volume of a kind with files in it.
func volumeOf(t testing.TB, k kind, n int) fsystest.Volume {
	t.Helper()
	testkit.Need(t, k.make[0], k.check[0])
	testkit.Root(t)
	dir := shelfOf(t, n)
	img := testkit.Image(t, "part.img", k.size)
	testkit.Do(t, k.make[0], append(append([]string{}, k.make[1:]...), img)...)
	k.fill(t, k, img, dir)
	v := fsystest.Volume{Image: img, Sector: 512, Files: fsystest.SumsOf(t, dir),
		Check: func(t testing.TB, img string) {
			t.Helper()
			testkit.Do(t, k.check[0], append(append([]string{}, k.check[1:]...), img)...)
		}}
	if k.mount != nil {
		v.Mounted = func(t testing.TB, img string, work func(point string)) { mounted(t, k, img, work) }
	}
	return v
}

// TestVolumesConform holds every kind of volume to the suite, containers among them.
func TestVolumesConform(t *testing.T) {
	for _, k := range kindsOf() {
		t.Run(k.name, func(t *testing.T) { fsystest.Conform(t, volumeOf(t, k, 80)) })
	}
	t.Run("swap", func(t *testing.T) {
		img := testkit.Image(t, "swap.img", 8*miB)
		testkit.Do(t, "mkswap", img)
		fsystest.Conform(t, fsystest.Volume{Image: img, Sector: 512, Check: func(t testing.TB, img string) {
			t.Helper()
			if out := testkit.Do(t, "blkid", "-p", img); !strings.Contains(out, `TYPE="swap"`) {
				t.Errorf("the system takes it for %s", out)
			}
		}})
	})
	t.Run("volume group", func(t *testing.T) { fsystest.Conform(t, groupVolume(t)) })
}

// groupVolume is a volume group as a volume of its part.
func groupVolume(t testing.TB) fsystest.Volume {
	t.Helper()
	pv, by := desk(t)
	files := map[string][32]byte{}
	for name, sums := range by {
		for file, sum := range sums {
			files[name+"/"+file] = sum
		}
	}
	return fsystest.Volume{Image: pv, Sector: 512, Files: files, Check: func(t testing.TB, img string) {
		t.Helper()
		testkit.LVM(t, []string{img}, "vgck", "desk")
		for name := range by {
			out := filepath.Join(t.TempDir(), "volume")
			if err := os.WriteFile(out, testkit.LogicalBytes(t, "desk/"+name, []string{img}), 0o600); err != nil {
				t.Fatal(err)
			}
			testkit.Do(t, "e2fsck", "-fn", out)
		}
	}}
}

// FuzzVolume overwrites bytes of volumes of every family: whatever they say, nothing panics, all ends, and nothing is
// read or would be written outside of the part.
func FuzzVolume(f *testing.F) {
	var seeds [][]byte
	small := map[string]int64{"ext4": 9 * miB, "ext3": 9 * miB, "ext2": 2 * miB, "ext4, 1 KiB, inline": 3 * miB,
		"NTFS": 5 * miB, "exFAT": 4 * miB, "FAT12": miB, "FAT16": 12 * miB, "FAT32": 36 * miB}
	seen := map[[32]byte]bool{}
	for _, k := range kindsOf() {
		k.size = small[k.name]
		v := volumeOf(f, k, 8)
		b, err := os.ReadFile(v.Image)
		if err != nil {
			f.Fatal(err)
		}
		if sum := sha256.Sum256(b); seen[sum] {
			f.Fatalf("%s is there twice", k.name)
		} else {
			seen[sum] = true
		}
		if n := fsystest.Endure(f, &disk.Memory{Bytes: b, Sector: 512}); n < 8 {
			f.Fatalf("%s: only %d items", k.name, n)
		}
		seeds = append(seeds, b)
	}
	for i := range seeds {
		for _, at := range []uint32{0, 1024 + 0x18, 1024 + 0xCE, 4096, 40 << 10, 300_000} {
			f.Add(uint8(i), at, []byte{0xFF, 0xFF, 0xFF, 0xFF}, at+8, []byte{0, 0, 0, 0})
		}
	}
	f.Fuzz(func(t *testing.T, which uint8, at uint32, patch []byte, at2 uint32, patch2 []byte) {
		seed := seeds[int(which)%len(seeds)]
		size := int64(len(seed))
		lower := []disk.Patch{{Off: int64(at) % (size - 4096), Data: patch[:min(len(patch), 4096)]}}
		upper := []disk.Patch{{Off: int64(at2) % (size - 4096), Data: patch2[:min(len(patch2), 4096)]}}
		o, err := disk.NewOverlay(&disk.Memory{Bytes: seed, Sector: 512}, disk.Over(upper, lower), size)
		if err != nil {
			return
		}
		fsystest.Endure(t, o)
	})
}
