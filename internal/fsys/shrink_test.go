package fsys_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/fsystest"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// worn fills a mounted volume and deletes most of it again, so that what is left lies everywhere, some of it in many
// pieces.
func worn(t testing.TB, point string, room int64, seed uint64) {
	t.Helper()
	r := rand.New(rand.NewPCG(9, seed))
	write := func(name string, n int) {
		if err := os.WriteFile(filepath.Join(point, name), testkit.Noise(r.Uint64(), n), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for d := range 20 {
		os.Mkdir(filepath.Join(point, fmt.Sprint("pier", d)), 0o755)
	}
	var names []string
	for left, i := room*8/10, 0; left > 0; i++ {
		n := 1000 + r.IntN(1_500_000)
		if i%3 == 0 {
			n = r.IntN(30_000)
		}
		name := fmt.Sprintf("pier%d/crossing %d", r.IntN(20), i)
		write(name, n)
		names = append(names, name)
		left -= int64(n)
	}
	for i, name := range names {
		if i%10 < 6 || i < len(names)*5/10 && i%10 < 9 {
			os.Remove(filepath.Join(point, name))
		}
	}
	f, err := os.Create(filepath.Join(point, "sparse log"))
	if err != nil {
		t.Fatal(err)
	}
	for i := range int64(12) {
		f.WriteAt(bytes.Repeat([]byte("tide"), 9000), i*3_000_000)
	}
	f.Close()
	for i := range 40 { // one file that grew in turns with others
		f, err := os.OpenFile(filepath.Join(point, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		if err != nil {
			t.Fatal(err)
		}
		f.Write(bytes.Repeat([]byte{byte(i)}, 20_000))
		f.Close()
		write(fmt.Sprint("between ", i), 9000)
	}
}

// TestNTFSShrinks makes worn NTFS volumes smaller, down to the least that is possible.
func TestNTFSShrinks(t *testing.T) {
	testkit.Need(t, "mkntfs", "ntfsfix", "ntfs-3g", "ntfsinfo")
	testkit.Root(t)
	const m = units.MiB
	for i, args := range [][]string{nil, {"-c", "512"}, {"-c", "65536"}, {"-c", "1024"}} {
		t.Run(fmt.Sprint(args), func(t *testing.T) {
			img := testkit.Image(t, "ntfs.img", 120*m+5*512)
			testkit.Do(t, "mkntfs",
				append(append([]string{"-q", "-F", "-f", "-p", "2048", "-H", "255", "-S", "63"}, args...), img)...)
			var want map[string][32]byte
			testkit.Mounted(t, []string{"ntfs-3g", img}, func(point string) {
				worn(t, point, 95*m, uint64(i))
				want = fsystest.SumsOf(t, point)
			})
			c, _ := examine(t, img)
			least, why, err := c.Volume.(fsys.Shrinker).Least()
			if err != nil || least >= 120*m || why == "" {
				t.Fatalf("least %d (%s): %v", least, why, err)
			}
			t.Logf("%d MiB used of 120, least %d MiB: %s", c.Used/m, least/m, why)
			for _, to := range []int64{least, (least + 120*m) / 2 / 512 * 512, 119 * m} {
				path, change := fsystest.Resized(t, img,
					fsys.Bounds{Was: 2048 * 512, Start: 2048 * 512, Size: to, Sector: 512})
				if change.Size != to-512 {
					t.Errorf("it became %d of %d", change.Size, to)
				}
				if n := field(t, testkit.Do(t, "ntfsinfo", "-m", path), `Volume Size in Clusters: (\d+)`); n !=
					change.Size/c.Info.Unit {
					t.Errorf("%d clusters", n)
				}
				fsystest.Lives(t, onPart(want, []string{"ntfsfix", "-n"}, byNTFS), path, change, 1*m,
					func(point string) { os.RemoveAll(filepath.Join(point, "pier3")) })
			}
			if _, err := c.Volume.(fsys.Resizer).Resize(fsys.Bounds{Size: c.Used / 2 / 512 * 512,
				Sector: 512}); err == nil {
				t.Error("it becomes smaller than what it holds")
			}
		})
	}
}

// scattered fills a mounted volume so that the table of its files grows into what little room is left at its end, and
// takes most of it away again.
func scattered(t testing.TB, point string) {
	t.Helper()
	const bulk, files = 52 * units.MiB, 9000
	if err := os.WriteFile(filepath.Join(point, "bulk"), testkit.Noise(1, bulk), 0o644); err != nil {
		t.Fatal(err)
	}
	name := func(i int) string { return filepath.Join(point, fmt.Sprintf("deck%d", i%30), fmt.Sprint("ticket ", i)) }
	for i := range files {
		if i < 30 {
			os.Mkdir(filepath.Dir(name(i)), 0o755)
		}
		if err := os.WriteFile(name(i), fmt.Appendf(nil, "ticket %d", i), 0o644); err != nil {
			break // full, as was meant
		}
	}
	os.Remove(filepath.Join(point, "bulk"))
	for i := range files {
		if i%9 > 0 {
			os.Remove(name(i))
		}
	}
}

// tableRun is a run of clusters as ntfsinfo shows it.
var tableRun = regexp.MustCompile(`(?m)^\s+0x[0-9a-f]+\s+(0x[0-9a-f]+)\s+(0x[0-9a-f]+)`)

// TestNTFSTableMoves: a volume the table of whose files lies beyond the new end becomes smaller too, and goes on
// living.
func TestNTFSTableMoves(t *testing.T) {
	testkit.Need(t, "mkntfs", "ntfsfix", "ntfs-3g", "ntfsinfo")
	testkit.Root(t)
	const m = units.MiB
	img := testkit.Image(t, "ntfs.img", 72*m+5*512)
	testkit.Do(t, "mkntfs", "-q", "-F", "-f", "-p", "2048", "-H", "255", "-S", "63", img)
	var want map[string][32]byte
	testkit.Mounted(t, []string{"ntfs-3g", img}, func(point string) {
		scattered(t, point)
		want = fsystest.SumsOf(t, point)
	})
	c, _ := examine(t, img)
	end := int64(0)
	for _, f := range tableRun.FindAllStringSubmatch(testkit.Do(t, "ntfsinfo", "-v", "-i", "0", img), -1) {
		var lcn, n int64
		if _, err := fmt.Sscanf(f[1]+" "+f[2], "%v %v", &lcn, &n); err != nil {
			t.Fatal(err)
		}
		end = max(end, (lcn+n)*c.Info.Unit)
	}
	least, why, err := c.Volume.(fsys.Shrinker).Least()
	if err != nil || least >= end || why == "" {
		t.Fatalf("least %d (%s), and the table ends at %d: %v", least, why, end, err)
	}
	t.Logf("%d MiB used of 72, the table ends at %d MiB, least %d MiB: %s", c.Used/m, end/m, least/m, why)
	path, change := fsystest.Resized(t, img, fsys.Bounds{Was: 2048 * 512, Start: 2048 * 512, Size: least, Sector: 512})
	fsystest.Lives(t, onPart(want, []string{"ntfsfix", "-n"}, byNTFS), path, change, 1*m,
		func(point string) { os.RemoveAll(filepath.Join(point, "deck3")) })
}

// ledgers makes files with room that is kept for them right after their contents, far up on a volume.
func ledgers(t *testing.T, point string, far int64) {
	t.Helper()
	bulk := filepath.Join(point, "bulk")
	if err := os.WriteFile(bulk, make([]byte, far), 0o644); err != nil {
		t.Fatal(err)
	}
	for j := range 60 {
		f, err := os.Create(filepath.Join(point, fmt.Sprint("ledger", j)))
		if err != nil {
			t.Fatal(err)
		}
		f.Write(bytes.Repeat([]byte{byte(j) + 1}, 9*4096))
		f.Sync()
		_ = unix.Fallocate(int(f.Fd()), unix.FALLOC_FL_KEEP_SIZE, 9*4096, 1024) // not all kinds can
		f.Close()
	}
	os.Remove(bulk)
}

// TestExtShrinks makes worn ext volumes smaller: files past the new end are moved, and those whose inodes are there
// get other numbers.
func TestExtShrinks(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "e2fsck", "dumpe2fs")
	testkit.Root(t)
	const m = units.MiB
	for i, c := range []struct {
		args []string
		size int64
	}{
		{nil, 260 * m},
		{[]string{"-b", "1024"}, 150 * m},
		{[]string{"-b", "1024", "-O", "^metadata_csum,uninit_bg,^flex_bg"}, 150 * m},
		{[]string{"-t", "ext3", "-b", "1024"}, 150 * m},
		{[]string{"-t", "ext2", "-b", "2048"}, 200 * m},
		{[]string{"-b", "1024", "-O", "^resize_inode"}, 150 * m},
		{[]string{"-b", "1024", "-O", "meta_bg,^resize_inode"}, 150 * m},
		{[]string{"-b", "1024", "-O", "^64bit,^has_journal", "-I", "128"}, 150 * m},
	} {
		t.Run(fmt.Sprint(c.args), func(t *testing.T) {
			img := testkit.Image(t, "ext.img", c.size)
			testkit.Do(t, "mkfs.ext4", append(append([]string{"-q", "-F"}, c.args...), img)...)
			var want map[string][32]byte
			links := map[string]string{}
			testkit.Mounted(t, []string{"mount", "-o", "loop", img}, func(point string) {
				ledgers(t, point, c.size*6/10)
				worn(t, point, c.size*4/10, uint64(i))
				for j := range 400 { // an indexed folder, hard links, long and short symbolic links, attributes
					os.WriteFile(filepath.Join(point, "pier7",
						fmt.Sprint("a timetable with a rather long name, number ", j)), []byte(fmt.Sprint(j)), 0o644)
				}
				os.Link(filepath.Join(point, "log"), filepath.Join(point, "pier5", "the same log"))
				for name, to := range map[string]string{"short": "log", "long": strings.Repeat("../pier5/", 20) +
					"log"} {
					os.Symlink(to, filepath.Join(point, "pier9", name))
					links["pier9/"+name] = to
				}
				for d := range 20 {
					unix.Setxattr(filepath.Join(point, fmt.Sprint("pier", d)), "user.note",
						bytes.Repeat([]byte{byte(d) + 65}, 300), 0)
				}
				want = fsystest.SumsOf(t, point)
			})
			testkit.LoopGone(t, img)
			v, _ := examine(t, img)
			least, why, err := v.Volume.(fsys.Shrinker).Least()
			if err != nil || least >= c.size*8/10 || why == "" {
				t.Fatalf("least %d (%s): %v", least, why, err)
			}
			t.Logf("%d MiB used of %d, least %d MiB: %s", v.Used/m, c.size/m, least/m, why)
			for _, to := range []int64{least, (least+c.size)/2/4096*4096 - 8192} {
				path, change := fsystest.Resized(t, img, fsys.Bounds{Size: to, Sector: 512})
				t.Logf("to %d MiB: %q", to/m, change.Notes)
				if change.Size > to {
					t.Errorf("it became %d of %d", change.Size, to)
				}
				fsystest.Lives(t, onPart(want, []string{"e2fsck", "-fn"}, byKernel), path, change, 2*m,
					func(point string) {
						for name, to := range links {
							if is, err := os.Readlink(filepath.Join(point, name)); is != to {
								t.Errorf("%s leads to %q: %v", name, is, err)
							}
						}
						for d := range 20 {
							b := make([]byte, 400)
							if n, err := unix.Getxattr(filepath.Join(point, fmt.Sprint("pier", d)), "user.note",
								b); n != 300 || b[0] != byte(d)+65 {
								t.Errorf("the attribute of pier%d: %d bytes, %v", d, n, err)
							}
						}
						os.RemoveAll(filepath.Join(point, "pier3"))
					})
			}
			if _, err := v.Volume.(fsys.Resizer).Resize(fsys.Bounds{Size: v.Used / 3 / 4096 * 4096,
				Sector: 512}); err == nil {
				t.Error("it becomes smaller than what it holds")
			}
		})
	}
}
