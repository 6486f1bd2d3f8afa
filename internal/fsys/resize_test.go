package fsys_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/fsystest"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// onPart is a volume of which the system's tools judge an image and mount it.
func onPart(files map[string][32]byte, check []string, mount func(t testing.TB, img string,
	work func(point string))) fsystest.Volume {
	return fsystest.Volume{Sector: 512, Files: files, Mounted: mount, Check: func(t testing.TB, img string) {
		t.Helper()
		testkit.Do(t, check[0], append(append([]string{}, check[1:]...), img)...)
	}}
}

// byKernel mounts an image by the kernel's own driver.
func byKernel(t testing.TB, img string, work func(point string)) {
	t.Helper()
	testkit.Mounted(t, []string{"mount", "-o", "loop", img}, work)
	testkit.LoopGone(t, img)
}

// byNTFS and byExFAT mount it by drivers outside of the kernel.
func byNTFS(t testing.TB, img string, work func(point string)) {
	t.Helper()
	testkit.Mounted(t, []string{"ntfs-3g", img}, work)
}

func byExFAT(t testing.TB, img string, work func(point string)) {
	t.Helper()
	onLoop(t, []string{"mount.exfat-fuse"}, img, 512, work)
}

// TestWhatDoesNotGrow: a volume that can't be made larger stays as it is, and it is said why.
func TestWhatDoesNotGrow(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "e2fsck")
	img := testkit.Image(t, "ext.img", 300*units.MiB)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-O", "bigalloc", "-C", "65536", img)
	path, c := fsystest.Resized(t, img, fsys.Bounds{Size: units.GiB, Sector: 512})
	if c.Size != 300*units.MiB || len(c.Patches) != 0 || len(c.Notes) != 1 {
		t.Errorf("%+v", c)
	}
	testkit.Do(t, "e2fsck", "-fn", path)
}

// TestExtGrows grows ext volumes of every make and has them checked and filled by the operating system.
func TestExtGrows(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "e2fsck", "mount")
	testkit.Root(t)
	dir := crowd(t, 300)
	want := fsystest.SumsOf(t, dir)
	const m = units.MiB
	for i, c := range []struct {
		args      []string
		size, to  int64
		mountable bool
	}{
		{[]string{"-t", "ext4"}, 100 * m, 130 * m, true},
		{[]string{"-t", "ext4"}, 100 * m, 420 * m, true},
		{[]string{"-t", "ext4"}, 600 * m, 1200 * m, true},
		{[]string{"-t", "ext4", "-b", "4096"}, 100 * m, units.TiB, false},
		{[]string{"-t", "ext4"}, 101*m + 4096, 101*m + 300*1024, true},
		{[]string{"-t", "ext2"}, 60 * m, 200 * m, true},
		{[]string{"-t", "ext2", "-r", "0"}, 60 * m, 200 * m, false},
		{[]string{"-t", "ext3"}, 60 * m, 400 * m, true},
		{[]string{"-t", "ext3", "-b", "4096"}, 60 * m, 400 * m, true},
		{[]string{"-t", "ext4", "-O", "^metadata_csum,uninit_bg"}, 100 * m, 420 * m, true},
		{[]string{"-t", "ext4", "-O", "^metadata_csum,uninit_bg,^64bit"}, 100 * m, 420 * m, true},
		{[]string{"-t", "ext4", "-O", "^flex_bg"}, 100 * m, 300 * m, true},
		{[]string{"-t", "ext4", "-O", "^resize_inode"}, 100 * m, 420 * m, true},
		{[]string{"-t", "ext4", "-O", "^resize_inode", "-b", "1024"}, 100 * m, 500 * m, true},
		{[]string{"-t", "ext4", "-O", "meta_bg,^resize_inode"}, 100 * m, 420 * m, true},
		{[]string{"-t", "ext4", "-O", "meta_bg,^resize_inode", "-b", "1024"}, 100 * m, 420 * m, true},
		{[]string{"-t", "ext4", "-E", "resize=2000000", "-b", "1024"}, 100 * m, 2300 * m, true},
		{[]string{"-t", "ext4", "-O", "sparse_super2,^resize_inode"}, 300 * m, 420 * m, true},
		{[]string{"-t", "ext4", "-O", "bigalloc,^resize_inode", "-C", "65536"}, 300 * m, 2300 * m, true},
		{[]string{"-t", "ext4", "-O", "metadata_csum_seed"}, 100 * m, 500 * m, true},
		{[]string{"-t", "ext4", "-g", "4096", "-b", "4096"}, 100 * m, 420 * m, true},
		{[]string{"-t", "ext4", "-I", "128", "-O", "^huge_file"}, 100 * m, 420 * m, true},
		{[]string{"-t", "ext2", "-O", "^sparse_super,^resize_inode"}, 100 * m, 300 * m, true},
	} {
		t.Run(fmt.Sprintf("%d", i), func(t *testing.T) {
			img := testkit.Image(t, "ext.img", c.size)
			testkit.Do(t, "mkfs.ext4", append(append([]string{"-q", "-F", "-d", dir}, c.args...), img)...)
			path, change := fsystest.Resized(t, img, fsys.Bounds{Size: c.to, Sector: 512})
			if change.Size < c.to-c.to/50-200*m && len(change.Notes) == 0 || change.Size <= c.size {
				t.Errorf("%v: it became %s of %s", c.args, units.Bytes(change.Size), units.Bytes(c.to))
			}
			v := onPart(want, []string{"e2fsck", "-fn"}, byKernel)
			if !c.mountable {
				v.Mounted = nil
			}
			fsystest.Lives(t, v, path, change, min(120*m, (change.Size-c.size)*8/10), nil)
		})
	}
}

// TestNTFSGrows grows NTFS volumes; the operating system's tools judge them, and a mount fills them.
func TestNTFSGrows(t *testing.T) {
	testkit.Need(t, "mkntfs", "ntfsfix", "ntfs-3g", "ntfsinfo")
	testkit.Root(t)
	dir := crowd(t, 300)
	want := fsystest.SumsOf(t, dir)
	const m = units.MiB
	for i, c := range []struct {
		args     []string
		size, to int64
	}{
		{nil, 60 * m, 61 * m},
		{nil, 60 * m, 200 * m},
		{nil, 60*m + 3*512, 300*m + 7*512},
		{[]string{"-c", "512"}, 60 * m, 300 * m},
		{[]string{"-c", "65536"}, 90 * m, 600 * m},
		{nil, 60 * m, 3 * units.TiB},
	} {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			img := testkit.Image(t, "ntfs.img", c.size)
			testkit.Do(t, "mkntfs",
				append(append([]string{"-q", "-F", "-f", "-p", "2048", "-H", "255", "-S", "63"}, c.args...), img)...)
			testkit.Mounted(t, []string{"ntfs-3g", img}, func(point string) {
				testkit.Do(t, "cp", "-r", dir+"/.", point)
			})
			path, change := fsystest.Resized(t, img,
				fsys.Bounds{Was: 2048 * 512, Start: 4096 * 512, Size: c.to, Sector: 512})
			if change.Size != c.to-512 || len(change.Notes) > 0 {
				t.Errorf("it became %d of %d: %q", change.Size, c.to, change.Notes)
			}
			info := testkit.Do(t, "ntfsinfo", "-m", path)
			unit, _ := examine(t, img)
			if n := field(t, info, `Volume Size in Clusters: (\d+)`); n != change.Size/unit.Info.Unit {
				t.Errorf("%d clusters\n%s", n, info)
			}
			boot := make([]byte, 512)
			f, err := os.Open(path)
			if err != nil {
				t.Fatal(err)
			}
			defer f.Close()
			for _, at := range []int64{0, c.to - 512} {
				if _, err := f.ReadAt(boot, at); err != nil || string(boot[3:7]) != "NTFS" ||
					boot[29] != 0x10 /* sector 4096 */ {
					t.Errorf("boot sector at %d: %v %x", at, err, boot[28:32])
				}
			}
			fsystest.Lives(t, onPart(want, []string{"ntfsfix", "-n"}, byNTFS), path, change,
				min(120*m, (change.Size-c.size)*9/10), nil)
		})
	}
}

// TestFATGrows grows FAT volumes; fsck.fat judges them, and the operating system's tools read and fill them.
func TestFATGrows(t *testing.T) {
	testkit.Need(t, "mkfs.fat", "fsck.fat", "mcopy")
	dir := crowd(t, 200)
	want := fsystest.SumsOf(t, dir)
	const m = units.MiB
	for i, c := range []struct {
		args     []string
		size, to int64
		least    int64 // what it must become at least
	}{
		{[]string{"-F", "32"}, 100 * m, 101 * m, 100*m + 512},
		{[]string{"-F", "32"}, 100 * m, 1000 * m, 999 * m},
		{[]string{"-F", "32", "-s", "1"}, 100 * m, 900 * m, 899 * m},
		{[]string{"-F", "32", "-s", "8"}, 400*m + 1536, 32 * units.GiB, 31 * units.GiB},
		{[]string{"-F", "32", "-S", "4096"}, 300 * m, 900 * m, 899 * m},
		{[]string{"-F", "32", "-f", "1"}, 100 * m, 300 * m, 299 * m},
		{[]string{"-F", "16", "-s", "8"}, 60 * m, 200 * m, 199 * m},
		{[]string{"-F", "16", "-s", "4"}, 30 * m, 900 * m, 120 * m},
		{[]string{"-F", "12", "-s", "8"}, 5 * m, 9 * m, 8 * m},
		{[]string{"-F", "12", "-s", "8"}, 4*m + 4096, 60 * m, 15 * m},
	} {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			img := testkit.Image(t, "fat.img", c.size)
			testkit.Do(t, "mkfs.fat", append(c.args, img)...)
			testkit.Do(t, "mcopy", "-s", "-i", img, filepath.Join(dir, "pier 1"), filepath.Join(dir, "pier 2"), "::")
			sector := 512
			if c.args[2%len(c.args)] == "-S" {
				sector = 4096
			}
			path, change := fsystest.Resized(t, img,
				fsys.Bounds{Start: 4096 * int64(sector), Size: c.to, Sector: sector})
			if change.Size < c.least || change.Size > c.to || change.Size < c.to-m && len(change.Notes) != 1 {
				t.Errorf("it became %d of %d: %q", change.Size, c.to, change.Notes)
			}
			v := onPart(nil, []string{"fsck.fat", "-n"}, nil)
			v.Sector = sector
			fsystest.Lives(t, v, path, change, 0, nil)
			out := t.TempDir()
			testkit.Do(t, "mcopy", "-s", "-i", path, "::pier 1", "::pier 2", out)
			have := fsystest.SumsOf(t, out)
			for name, sum := range want {
				if (name[:6] == "pier 1" || name[:6] == "pier 2") && have[name] != sum {
					t.Fatalf("%s differs or is missing", name)
				}
			}
			big := filepath.Join(t.TempDir(), "new room")
			if err := os.WriteFile(big, bytes.Repeat([]byte("tide"), int(min(120*m, (change.Size-c.size)*8/10)/4)),
				0o644); err != nil {
				t.Fatal(err)
			}
			testkit.Do(t, "mcopy", "-i", path, big, "::ROOM")
			testkit.Do(t, "fsck.fat", "-n", path)
		})
	}
}

// TestHiddenSectors: only a place that was true before is made true again.
func TestHiddenSectors(t *testing.T) {
	p := fsys.Bounds{Was: 1 << 20, Start: 9 << 20, Sector: 512}
	for _, c := range [][2]uint64{{2048, 18432}, {63, 63}, {0, 0}} {
		if got := p.Hidden(c[0]); got != c[1] {
			t.Errorf("%d becomes %d, want %d", c[0], got, c[1])
		}
	}
}

// TestExFATGrows grows exFAT volumes and gives them other places; fsck.exfat judges them, and a mount fills them.
func TestExFATGrows(t *testing.T) {
	testkit.Need(t, "mkfs.exfat", "fsck.exfat", "mount.exfat-fuse")
	testkit.Root(t)
	dir := crowd(t, 150)
	want := fsystest.SumsOf(t, dir)
	const m = units.MiB
	for i, c := range []struct {
		args     []string
		size, to int64
	}{
		{nil, 64 * m, 80 * m},
		{nil, 64 * m, 700 * m},
		{[]string{"-c", "4K"}, 64 * m, 900 * m},
		{[]string{"-c", "512"}, 64*m + 512, 300*m + 3*512},
		{[]string{"-c", "128K", "-b", "1M"}, 300 * m, 3000 * m},
		{[]string{"-c", "32K"}, 64 * m, 2 * units.TiB},
	} {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			img := testkit.Image(t, "exfat.img", c.size)
			testkit.Do(t, "mkfs.exfat", append(c.args, img)...)
			onLoop(t, []string{"mount.exfat-fuse"}, img, 512, func(point string) {
				testkit.Do(t, "cp", "-r", dir+"/.", point)
			})
			path, change := fsystest.Resized(t, img, fsys.Bounds{Was: 0, Start: 9 * m, Size: c.to, Sector: 512})
			if change.Size < c.to-512 || len(change.Notes) > 0 {
				t.Errorf("it became %d of %d: %q", change.Size, c.to, change.Notes)
			}
			b := make([]byte, 72)
			f, err := os.Open(path)
			if err != nil {
				t.Fatal(err)
			}
			defer f.Close()
			for _, at := range []int64{0, 12 * 512} {
				if _, err := f.ReadAt(b, at); err != nil || b[65] != 9*8 {
					t.Errorf("the place at byte %d: %x %v", at, b[64:], err)
				}
			}
			fsystest.Lives(t, onPart(want, []string{"fsck.exfat", "-n"}, byExFAT), path, change,
				min(40*m, (change.Size-c.size)*9/10), nil)
		})
	}
}
