package disk_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

func mounted(t *testing.T, args ...string) string {
	t.Helper()
	point := t.TempDir()
	testkit.Do(t, "mount", append(args, point)...)
	t.Cleanup(func() { _, _ = testkit.Try("umount", point) })
	return point
}

// refused checks that the guard says no, with a word of the reason.
func refused(t *testing.T, g disk.Guard, path, word string) {
	t.Helper()
	var no *disk.Refusal
	if _, err := g.Open(testkit.Target(t, path)); !errors.As(err, &no) || !strings.Contains(err.Error(), word) {
		t.Errorf("%s: %v; want a refusal with %q", path, err, word)
	}
}

func allowed(t *testing.T, g disk.Guard, path string) {
	t.Helper()
	w, err := g.Open(testkit.Target(t, path))
	if err != nil {
		t.Errorf("%s: %v", path, err)
		return
	}
	w.Close()
}

// TestStackedDevices: whatever way leads to bytes that are in use, they aren't written.
func TestStackedDevices(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "partx", "mkswap")
	testkit.Root(t)
	var none disk.Guard
	ext4 := func(t *testing.T) string {
		img := testkit.Image(t, "till (deleted)", 64*units.MiB)
		testkit.Do(t, "mkfs.ext4", "-q", "-F", img)
		return img
	}
	t.Run("a second loop over a mounted file", func(t *testing.T) {
		img := ext4(t)
		a, b := testkit.LoopOf(t, img), testkit.LoopOf(t, img)
		mounted(t, a)
		refused(t, none, b, "mounted at")
		refused(t, none, img, "mounted at")
	})
	t.Run("an overlapping loop, and one that doesn't overlap", func(t *testing.T) {
		img := testkit.Image(t, "two", 128*units.MiB)
		fs := ext4(t)
		testkit.Place(t, fs, img, 0)
		a := testkit.LoopOf(t, "--sizelimit", fmt.Sprint(64*units.MiB), img)
		mounted(t, a)
		behind := testkit.LoopOf(t, "-o", fmt.Sprint(64*units.MiB), img)
		allowed(t, none, behind)
		refused(t, none, testkit.LoopOf(t, "-o", fmt.Sprint(63*units.MiB), img), "mounted at")
		refused(t, none, behind, "attached as") // the last one reaches into it
	})
	t.Run("a loop on a loop", func(t *testing.T) {
		img := ext4(t)
		a := testkit.LoopOf(t, img)
		b := testkit.LoopOf(t, a)
		mounted(t, b)
		refused(t, none, a, "mounted at")
		refused(t, none, img, "in use")
	})
	t.Run("other names: links, nodes, moved and covered files", func(t *testing.T) {
		img := ext4(t)
		dir := filepath.Dir(img)
		hard, soft := filepath.Join(dir, "hard"), filepath.Join(dir, "soft")
		if err := errors.Join(os.Link(img, hard), os.Symlink(img, soft)); err != nil {
			t.Fatal(err)
		}
		a := testkit.LoopOf(t, img)
		node := filepath.Join(dir, "node")
		var st unix.Stat_t
		if err := errors.Join(unix.Stat(a, &st), unix.Mknod(node, unix.S_IFBLK|0o600, int(st.Rdev))); err != nil {
			t.Fatal(err)
		}
		mounted(t, a)
		for _, name := range []string{hard, soft, node} {
			refused(t, none, name, "mounted at")
		}
		moved := filepath.Join(dir, "moved")
		if err := os.Rename(img, moved); err != nil {
			t.Fatal(err)
		}
		refused(t, none, moved, "mounted at")
		testkit.Sparse(t, img, 64*units.MiB) // another file of the old name is innocent
		allowed(t, none, img)
	})
	t.Run("a partition", func(t *testing.T) {
		img := testkit.Image(t, "disk", 80*units.MiB)
		testkit.WriteTable(t, img,
			table.Layout{Kind: table.MBR, Sector: 512, ID: "0badf00d",
				Parts: []table.Part{{Number: 1, Span: span.At(units.MiB, 64*units.MiB), Type: "0x83"}}}, 80*units.MiB)
		testkit.Place(t, ext4(t), img, units.MiB)
		a := testkit.LoopOf(t, img)
		testkit.Do(t, "partx", "-a", a)
		t.Cleanup(func() { _, _ = testkit.Try("partx", "-d", a) })
		refused(t, none, a+"p1", "it is a partition of")
		mounted(t, a+"p1")
		refused(t, none, a, "mounted at")
		refused(t, none, img, "mounted at")
		refused(t, none, testkit.LoopOf(t, "-o", fmt.Sprint(units.MiB), img), "mounted at")
	})
	t.Run("swap in a file", func(t *testing.T) {
		img := filepath.Join(t.TempDir(), "swap")
		if err := os.WriteFile(img, make([]byte, 4*units.MiB), 0o600); err != nil {
			t.Fatal(err)
		}
		testkit.Do(t, "mkswap", img)
		testkit.Do(t, "swapon", img)
		defer testkit.Do(t, "swapoff", img)
		refused(t, none, img, "swap")
		refused(t, none, testkit.LoopOf(t, img), "swap")
	})
	t.Run("another namespace", func(t *testing.T) {
		img := ext4(t)
		a := testkit.LoopOf(t, img)
		point := t.TempDir()
		cmd := testkit.Background(t, "unshare", "-m", "sh", "-c",
			fmt.Sprintf("mount %s %s && echo ready && sleep 60", a, point))
		cmd.Await(t, "ready")
		refused(t, none, img, "mounted at")
		refused(t, none, a, "mounted at")
	})
}

// TestWhoElseHasIt: a file that another program writes to, has locked or serves a file system from.
func TestWhoElseHasIt(t *testing.T) {
	testkit.Need(t, "mkntfs", "ntfs-3g", "flock")
	testkit.Root(t)
	var none disk.Guard
	img := testkit.Image(t, "weighbridge.img", 32*units.MiB)
	w := testkit.Background(t, "sh", "-c", fmt.Sprintf("exec 3<>%s; echo ready; sleep 60", img))
	w.Await(t, "ready")
	refused(t, none, img, "open for writing")
	w.Stop()
	other := testkit.LoopOf(t, testkit.Image(t, "other", units.MiB))
	busy := testkit.Background(t, "sh", "-c", fmt.Sprintf("exec 3<>%s; echo ready; sleep 60", other))
	busy.Await(t, "ready") // with a device that has nothing to do with it
	allowed(t, none, img)
	busy.Stop()
	l := testkit.Background(t, "flock", "-s", img, "sh", "-c", "echo ready; sleep 60")
	l.Await(t, "ready")
	refused(t, none, img, "locked")
	l.Stop()
	testkit.Do(t, "mkntfs", "-Q", "-F", "-q", img)
	point := t.TempDir()
	testkit.Do(t, "ntfs-3g", "-o", "ro", img, point)
	refused(t, none, img, "")
	testkit.Do(t, "umount", point)
	for range 50 { // the driver ends by itself
		if _, err := none.Open(testkit.Target(t, img)); err == nil {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	t.Error("still refused after the driver has ended")
}

// TestBtrfsMembersAndJournals: a file system's second device is as much in use as the one that was named.
func TestBtrfsMembersAndJournals(t *testing.T) {
	testkit.Need(t, "mkfs.btrfs", "mkfs.ext4", "mke2fs")
	testkit.Root(t)
	var none disk.Guard
	x, y := testkit.Image(t, "x", 256*units.MiB), testkit.Image(t, "y", 256*units.MiB)
	a, b := testkit.LoopOf(t, x), testkit.LoopOf(t, y)
	testkit.Do(t, "mkfs.btrfs", "-q", "-f", a, b)
	testkit.Do(t, "btrfs", "device", "scan", a, b)
	mounted(t, a)
	refused(t, none, y, "mounted at")
	refused(t, none, b, "")
	refused(t, none, testkit.LoopOf(t, y), "mounted at")
	j, fs := testkit.Image(t, "journal", 16*units.MiB), testkit.Image(t, "fs", 64*units.MiB)
	jl := testkit.LoopOf(t, j)
	testkit.Do(t, "mke2fs", "-q", "-F", "-b", "4096", "-O", "journal_dev", jl)
	fl := testkit.LoopOf(t, fs)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-b", "4096", "-J", "device="+jl, fl)
	mounted(t, fl)
	refused(t, none, j, "journal")
	refused(t, none, testkit.LoopOf(t, j), "journal")
}

// TestShelvesSourcesAndOtherTargets: by any name.
func TestShelvesSourcesAndOtherTargets(t *testing.T) {
	testkit.Need(t, "mkfs.ext4")
	testkit.Root(t)
	img := testkit.Image(t, "drive", 64*units.MiB)
	testkit.Do(t, "mkfs.ext4", "-q", "-F", img)
	a := testkit.LoopOf(t, img)
	point := mounted(t, a)
	shelf := filepath.Join(point, "shelf")
	pack := filepath.Join(shelf, "packs", "one.pack")
	if err := errors.Join(os.MkdirAll(filepath.Dir(pack), 0o755),
		os.WriteFile(pack, make([]byte, units.MiB), 0o600)); err != nil {
		t.Fatal(err)
	}
	g := disk.Guard{Shelves: []string{shelf}}
	refused(t, g, testkit.LoopOf(t, img), "open shelf")
	refused(t, g, img, "open shelf")
	hard := filepath.Join(point, "hard")
	if err := os.Link(pack, hard); err != nil {
		t.Fatal(err)
	}
	refused(t, g, hard, "inside the open shelf")
	bind := mounted(t, "--bind", filepath.Dir(pack))
	refused(t, g, filepath.Join(bind, "one.pack"), "inside the open shelf")
	beside := filepath.Join(point, "beside.img")
	testkit.Sparse(t, beside, units.MiB)
	allowed(t, g, beside)

	source := testkit.Image(t, "source", 8*units.MiB)
	b := testkit.LoopOf(t, "-o", "4096", source)
	refused(t, disk.Guard{Sources: []string{source}}, b, "read")
	refused(t, disk.Guard{Others: []string{b}}, source, "")
	allowed(t, disk.Guard{Sources: []string{source}}, testkit.Image(t, "other", 8*units.MiB))
}

// TestNamesThatAreNoDisks: they are refused at once.
func TestNamesThatAreNoDisks(t *testing.T) {
	dir := t.TempDir()
	pipe := filepath.Join(dir, "pipe")
	if err := unix.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{pipe, dir, "/dev/null"} {
		var no *disk.Refusal
		if _, err := new(disk.Guard).Open(disk.Target{Path: name, Fingerprint: "x"}); !errors.As(err, &no) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
