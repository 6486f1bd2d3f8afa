package fsys_test

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"twinshelf/internal/fsys"
	"twinshelf/internal/testkit"
)

var odd = []string{"Überfahrt — Fahrplan", "日程表 2026", "name with  spaces ", "emoji 🛳 boat", "combining e\u0301",
	strings.Repeat("long name ", 24), "a'b\"c", "#tilde~", "UPPER.TXT", "lower.txt", ".hidden"}

// fill makes files of many kinds below point: n small ones in one folder, odd names, deep folders, large and fragmented
// ones.
func fill(t *testing.T, point string, n int, names []string) {
	t.Helper()
	put := func(name string, b []byte) {
		p := filepath.Join(point, name)
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, b, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	r := rand.New(rand.NewPCG(11, 29))
	for i := range n {
		put(fmt.Sprintf("tickets/%02d/ticket %06d.txt", i%max(1, n/4000), i),
			bytes.Repeat([]byte{byte(i), byte(i >> 8), 'x'}, r.IntN(120)))
	}
	for i, name := range names {
		put("odd/"+name, []byte(name))
		put(fmt.Sprintf("deep/%s/at depth", strings.Repeat(fmt.Sprintf("level %d/", i), i+4)), []byte{byte(i)})
	}
	big := testkit.Noise(11, 9_000_001)
	put("large.bin", big)
	put("empty", nil)
	if err := os.MkdirAll(filepath.Join(point, "no files"), 0o755); err != nil {
		t.Fatal(err)
	}
	// Files that grow by turns lie in many pieces.
	var logs [3]*os.File
	for i := range logs {
		f, err := os.Create(filepath.Join(point, fmt.Sprintf("log %d", i)))
		if err != nil {
			t.Fatal(err)
		}
		logs[i] = f
	}
	for range 40 {
		for _, f := range logs {
			_, _ = f.Write(big[:4096])
			_ = f.Sync()
		}
	}
	for _, f := range logs {
		f.Close()
	}
	gone, err := filepath.Glob(filepath.Join(point, "tickets/*/*7.txt"))
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range gone {
		os.Remove(p)
	}
	if len(gone) > 0 {
		os.Rename(filepath.Join(point, "tickets"), filepath.Join(point, "tickets of May"))
	}
}

// sparse makes a file with data here and there.
func sparse(t *testing.T, path string, size int64) {
	t.Helper()
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for _, at := range []int64{0, size / 3, size / 2, size - 9} {
		if _, err := f.WriteAt([]byte("a place"), at); err != nil {
			t.Fatal(err)
		}
	}
	if err := f.Truncate(size); err != nil {
		t.Fatal(err)
	}
}

// TestFilesExt compares with what the kernel reads.
func TestFilesExt(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "mount")
	testkit.Root(t)
	for i, options := range []string{"-t ext4 -b 4096", "-t ext4 -b 1024 -O inline_data,ea_inode -I 256",
		"-t ext3 -b 1024", "-t ext2 -b 2048 -I 128", "-t ext4 -N 4000 -O bigalloc,^metadata_csum"} {
		t.Run(options, func(t *testing.T) {
			img := testkit.Image(t, "e.img", 256<<20)
			testkit.Do(t, "mkfs.ext4", append(strings.Fields("-q -F -N 30000 "+options), img)...)
			n := 300
			if i == 0 {
				n = 10_000
			}
			testkit.Mounted(t, []string{"mount", "-o", "loop,user_xattr,acl", img}, func(point string) {
				fill(t, point, n, odd)
				unixThings(t, point, strings.Contains(options, "ea_inode"))
			})
			testkit.LoopGone(t, img)
			testkit.Mounted(t, []string{"mount", "-o", "loop,ro,noatime", img}, func(point string) {
				s := shape{unix: true, xattrs: true, fine: 1, holes: true}
				if got := sameFiles(t, img, point, s); got < n*9/10 {
					t.Errorf("only %d files", got)
				}
			})
			testkit.LoopGone(t, img)
		})
	}
}

// TestFilesExtFolded: where a folder folds case, so do we.
func TestFilesExtFolded(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "debugfs")
	dir, img := t.TempDir(), testkit.Image(t, "e.img", 16<<20)
	for _, folder := range []string{"folds", "ODD"} {
		if err := os.MkdirAll(filepath.Join(dir, folder, "Straße É"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	testkit.Do(t, "mkfs.ext4", "-q", "-F", "-O", "casefold", "-d", dir, img)
	testkit.Do(t, "debugfs", "-w", "-R", "set_inode_field /folds flags 0x40080000", img)
	c, _ := examine(t, img)
	tr, err := fsys.TreeOf(c.Volume)
	if err != nil {
		t.Fatal(err)
	}
	if it, err := fsys.Find(tr, "folds/STRASSE e\u0301"); err != nil || it.Name != "Straße É" {
		t.Errorf("%q, %v", it.Name, err)
	}
	for _, name := range []string{"ODD/STRASSE e\u0301", "Folds", "folds/STRASSE"} {
		if _, err := fsys.Find(tr, name); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%s is found: %v", name, err)
		}
	}
}

// unixThings are links, devices, attributes, owners, and times before 1970 and after 2038.
func unixThings(t *testing.T, point string, largeValues bool) {
	t.Helper()
	at := func(name string) string { return filepath.Join(point, name) }
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(os.Symlink("large.bin", at("short link")))
	must(os.Symlink("/"+strings.Repeat("far/", 200), at("long link")))
	must(os.Link(at("large.bin"), at("second name")))
	must(unix.Mkfifo(at("pipe"), 0o640))
	must(unix.Mknod(at("device"), unix.S_IFCHR|0o600, int(unix.Mkdev(300, 70_000))))
	must(unix.Mknod(at("old device"), unix.S_IFBLK|0o600, int(unix.Mkdev(8, 1))))
	must(unix.Mknod(at("socket"), unix.S_IFSOCK|0o755, 0))
	for i, mode := range []fs.FileMode{0o000, 0o777, fs.ModeSetuid | 0o755, fs.ModeSetgid | 0o711,
		fs.ModeSticky | 0o644} {
		p := at(fmt.Sprintf("mode %d", i))
		must(os.WriteFile(p, []byte("m"), 0o600))
		must(os.Chmod(p, mode))
		must(os.Lchown(p, 70_000+i, 1_000_000))
		if i > 0 {
			must(unix.Setxattr(p, "user.colour", []byte("sea green"), 0))
			must(unix.Setxattr(p, "security.note", bytes.Repeat([]byte("n"), 300), 0))
			must(unix.Setxattr(p, "trusted.key", nil, 0))
		}
	}
	if largeValues {
		must(unix.Setxattr(at("mode 4"), "user.large", bytes.Repeat([]byte("large"), 5000), 0))
	}
	// An access list: version 2, then tag, permissions and name of each entry.
	acl := []byte{2, 0, 0, 0}
	for _, e := range [][3]uint32{{1, 6, 0xFFFFFFFF}, {2, 4, 70_001}, {4, 4, 0xFFFFFFFF}, {8, 6, 1_000_000},
		{16, 6, 0xFFFFFFFF}, {32, 0, 0xFFFFFFFF}} {
		acl = append(acl, byte(e[0]), 0, byte(e[1]), 0, byte(e[2]), byte(e[2]>>8), byte(e[2]>>16), byte(e[2]>>24))
	}
	must(unix.Setxattr(at("mode 1"), "system.posix_acl_access", acl, 0))
	for i, when := range []time.Time{time.Date(1935, 4, 1, 2, 3, 4, 0, time.UTC),
		time.Date(2026, 11, 25, 8, 15, 30, 123_456_789, time.UTC), time.Date(2037, 2, 3, 4, 5, 6, 7, time.UTC)} {
		p := at(fmt.Sprintf("of another time %d", i))
		must(os.WriteFile(p, bytes.Repeat([]byte("t"), i*70), 0o644))
		must(os.Chtimes(p, when, when))
	}
	sparse(t, at("sparse"), 60<<20)
	f, err := os.Create(at("reserved, sparse"))
	must(err)
	_ = unix.Fallocate(int(f.Fd()), 0, 0, 2<<20) // reserved and not written: reads as zeros
	_, err = f.WriteAt([]byte("only here"), 1<<20)
	must(err)
	must(f.Close())
}

// TestFilesNTFS compares with what the FUSE driver reads.
func TestFilesNTFS(t *testing.T) {
	testkit.Need(t, "mkntfs", "ntfs-3g")
	testkit.Root(t)
	for i, c := range []struct{ options, mount string }{{"-c 4096", "special_files=wsl"},
		{"-c 512", "special_files=interix"}, {"-c 65536", ""}} {
		t.Run(c.options, func(t *testing.T) {
			img := testkit.Image(t, "n.img", 200<<20)
			testkit.Do(t, "mkntfs", append(strings.Fields("-Q -F -q "+c.options), img)...)
			n := 200
			if i == 0 {
				n = 5000
			}
			more := ",compression"
			if c.mount != "" {
				more += "," + c.mount
			}
			packed := 0
			onLoop(t, []string{"ntfs-3g", "-o", "streams_interface=windows,noatime" + more}, img, 512,
				func(point string) {
					fill(t, point, n, slices.DeleteFunc(slices.Clone(odd), func(s string) bool {
						return strings.ContainsAny(s, "\"")
					}))
					packed = ntfsThings(t, point)
				})
			onLoop(t, []string{"ntfs-3g", "-o", "ro,streams_interface=xattr,noatime" + more}, img, 512,
				func(point string) {
					if got := sameFiles(t, img, point, shape{xattrs: true, stream: true, fine: 1, holes: true}); got <
						n*9/10 {
						t.Errorf("only %d files", got)
					}
				})
			ntfsAttributes(t, img, packed)
		})
	}
}

// ntfsThings are streams, hard links, links, packed and sparse files; it says how many packed ones there are.
func ntfsThings(t *testing.T, point string) int {
	t.Helper()
	at := func(name string) string { return filepath.Join(point, name) }
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	const attributes = "system.ntfs_attrib_be"
	for _, stream := range []string{"large.bin:Zone.Identifier", "odd:of a folder", "empty:largish"} {
		must(os.WriteFile(at(stream),
			bytes.Repeat([]byte("stream "), len(stream)*400-3*400*len("odd:of a folder")/4), 0o644))
	}
	must(os.Link(at("large.bin"), at("odd/second name")))
	must(os.Symlink("../large.bin", at("odd/link")))
	must(os.Mkdir(at("packed"), 0o755))
	must(unix.Setxattr(at("packed"), attributes, []byte{0, 0, 8, 0x10}, 0))
	r := rand.New(rand.NewPCG(3, 4))
	n := 0
	for i := range 40 {
		b := make([]byte, r.IntN(400_000))
		for j := range b {
			switch i % 4 {
			case 0:
				b[j] = byte("ferry "[j%6])
			case 1:
				b[j] = byte(r.IntN(4)) + 'a'
			case 2:
				b[j] = byte(r.Uint32()) // can't be packed
			case 3:
				if j/70_000%2 == 0 {
					b[j] = byte(r.IntN(256) & r.IntN(256) & r.IntN(256))
				}
			}
		}
		must(os.WriteFile(at(fmt.Sprintf("packed/%d", i)), b, 0o644))
		n++
	}
	must(os.WriteFile(at("sparse"), nil, 0o644))
	_ = unix.Setxattr(at("sparse"), attributes, []byte{0, 0, 2, 0x20}, 0)
	sparse(t, at("sparse"), 40<<20)
	must(os.WriteFile(at("many pieces"), nil, 0o644))
	_ = unix.Setxattr(at("many pieces"), attributes, []byte{0, 0, 2, 0x20}, 0)
	f, err := os.OpenFile(at("many pieces"), os.O_RDWR, 0)
	must(err)
	for i := range int64(600) { // more than one record can say the places of
		_, err := f.WriteAt([]byte("piece"), i*70_000)
		must(err)
	}
	must(f.Close())
	for name, flags := range map[string]byte{"hidden thing": 2, "system thing": 4, "read only": 1} {
		must(os.WriteFile(at(name), []byte(name), 0o644))
		must(unix.Setxattr(at(name), attributes, []byte{0, 0, 0, flags}, 0))
	}
	return n
}

// ntfsAttributes looks at what the driver doesn't hand out: properties, identities, pieces and packed files.
func ntfsAttributes(t *testing.T, img string, packed int) {
	t.Helper()
	c, _ := examine(t, img)
	tr, err := fsys.TreeOf(c.Volume)
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]fsys.Attr{"hidden thing": fsys.Hidden, "system thing": fsys.System,
		"read only": fsys.ReadOnly, "large.bin": 0, "HIDDEN THING": fsys.Hidden} {
		if it, err := fsys.Find(tr, name); err != nil || it.Attr&(fsys.Hidden|fsys.System|fsys.ReadOnly) != want {
			t.Errorf("%s: %v %v", name, it.Attr, err)
		}
	}
	one, _ := fsys.Find(tr, "large.bin")
	two, err := fsys.Find(tr, "odd/second name")
	if err != nil || one.ID != two.ID || one.Links < 2 {
		t.Errorf("two names of one file: %x and %x, %d links", one.ID, two.ID, one.Links)
	}
	pieces, _ := fsys.Find(tr, "many pieces")
	if f, err := tr.Open(pieces, ""); err != nil || f.Data().Count() < 300 && c.Info.Unit <= 4096 {
		t.Errorf("the file of many pieces lies in %v, %v", f.Data().Count(), err)
	}
	folder, _ := fsys.Find(tr, "packed")
	entries, err := fsys.Entries(tr, folder)
	if err != nil || len(entries) != packed {
		t.Errorf("%d packed files of %d, %v", len(entries), packed, err)
	}
	smaller := 0
	for _, e := range entries {
		if f, err := tr.Open(e.Item, ""); err == nil {
			total := int64(0)
			for _, sp := range f.Spans() {
				total += sp.Len()
			}
			if e.Attr&fsys.Compressed != 0 && total < e.Size {
				smaller++
			}
		}
	}
	if c.Info.Unit <= 4096 && smaller < packed/4 {
		t.Errorf("only %d of %d files are packed", smaller, packed)
	}
}

// TestFilesExFAT compares with what the FUSE driver reads.
func TestFilesExFAT(t *testing.T) {
	testkit.Need(t, "mkfs.exfat", "mount.exfat-fuse")
	testkit.Root(t)
	for i, cluster := range []string{"4K", "512", "128K"} {
		t.Run(cluster, func(t *testing.T) {
			img := testkit.Image(t, "x.img", 400<<20)
			testkit.Do(t, "mkfs.exfat", "-c", cluster, img)
			n := 150
			if i == 0 {
				n = 2000
			}
			onLoop(t, []string{"mount.exfat-fuse", "-o", "noatime"}, img, 512, func(point string) {
				fill(t, point, n, slices.DeleteFunc(slices.Clone(odd), func(s string) bool {
					return strings.ContainsAny(s, "\"")
				}))
			})
			onLoop(t, []string{"mount.exfat-fuse", "-o", "ro,noatime"}, img, 512, func(point string) {
				if got := sameFiles(t, img, point, shape{fine: time.Second}); got < n*9/10 {
					t.Errorf("only %d files", got)
				}
			})
		})
	}
}

// TestFilesFAT compares with what mtools take out.
func TestFilesFAT(t *testing.T) {
	testkit.Need(t, "mkfs.fat", "mcopy", "mdel", "mattrib")
	dir := t.TempDir()
	fill(t, dir, 400, slices.DeleteFunc(slices.Clone(odd), func(s string) bool {
		return strings.ContainsAny(s, "\"🛳程\u0301—") || strings.HasSuffix(s, " ")
	}))
	for _, c := range fats {
		img := testkit.Image(t, "f.img", max(c.size, 64<<20))
		if c.bits == "12" {
			img = testkit.Image(t, "f.img", c.size)
			os.Remove(filepath.Join(dir, "log 2"))
		}
		testkit.Do(t, "mkfs.fat", append(append([]string{"-F", c.bits}, c.more...), img)...)
		entries, _ := os.ReadDir(dir)
		for _, e := range entries {
			testkit.Do(t, "mcopy", "-s", "-m", "-i", img, filepath.Join(dir, e.Name()), "::")
		}
		testkit.Do(t, "mdel", "-i", img, "::tickets of May/00/ticket 00003*.txt")
		from := filepath.Join(t.TempDir(), "in pieces")
		os.WriteFile(from, bytes.Repeat([]byte("pieces"), 50_000), 0o644)
		testkit.Do(t, "mcopy", "-i", img, from, "::")
		testkit.Do(t, "mattrib", "-i", img, "+h", "::empty")
		out := t.TempDir()
		testkit.Do(t, "mcopy", "-s", "-n", "-p", "-m", "-i", img, "::*", out)
		if got := sameFiles(t, img, out, shape{fine: 2 * time.Second}); got < 300 {
			t.Errorf("FAT%s: only %d files", c.bits, got)
		}
		got, _ := examine(t, img)
		tr, _ := fsys.TreeOf(got.Volume)
		if it, err := fsys.Find(tr, "EMPTY"); err != nil || it.Name != "empty" || it.Attr&fsys.Hidden == 0 {
			t.Errorf("FAT%s: %+v %v", c.bits, it, err)
		}
	}
}
