package fsys_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/testkit"
)

// FuzzFiles overwrites bytes of filled volumes of every family: whatever they say, every walk ends, and nothing is read
// from outside of the volume.
func FuzzFiles(f *testing.F) {
	testkit.Need(f, "mkfs.ext4", "mkfs.fat", "mcopy", "mkntfs", "ntfs-3g", "mkfs.exfat", "mount.exfat-fuse")
	testkit.Root(f)
	dir := f.TempDir()
	for _, name := range []string{"a/b/c/deep", "a/second",
		"some name that is long enough for more than one entry.txt"} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			f.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(strings.Repeat(name, 500)), 0o644); err != nil {
			f.Fatal(err)
		}
	}
	if err := os.Symlink(strings.Repeat("far/", 40), filepath.Join(dir, "link")); err != nil {
		f.Fatal(err)
	}
	image := func(name string, size int64, tool string, args ...string) string {
		img := filepath.Join(f.TempDir(), name)
		testkit.Sparse(f, img, size)
		testkit.Do(f, tool, append(args, img)...)
		return img
	}
	plain := []string{filepath.Join(dir, "a"),
		filepath.Join(dir, "some name that is long enough for more than one entry.txt")}
	imgs := []string{
		image("ext4", 2<<20, "mkfs.ext4", "-q", "-F", "-b", "1024", "-O", "^has_journal", "-d", dir),
		image("ext2", 1<<20, "mkfs.ext4", "-t", "ext2", "-q", "-F", "-b", "1024", "-d", dir),
		image("inline", 2<<20, "mkfs.ext4", "-q", "-F", "-b", "1024", "-I", "256", "-O", "inline_data,^has_journal",
			"-d", dir),
		image("fat12", 1<<20, "mkfs.fat", "-F", "12"), image("fat32", 40<<20, "mkfs.fat", "-F", "32", "-s", "1"),
		image("ntfs", 4<<20, "mkntfs", "-Q", "-F", "-q", "-c", "512"), image("exfat", 4<<20, "mkfs.exfat", "-c", "512"),
	}
	for _, img := range imgs {
		switch filepath.Base(img) {
		case "fat12", "fat32":
			testkit.Do(f, "mcopy", append(append([]string{"-s", "-i", img}, plain...), "::")...)
		case "ntfs":
			dev := testkit.Loop(f, img, 512)
			testkit.Mounted(f, []string{"ntfs-3g", "-o", "streams_interface=windows,compression", dev},
				func(point string) {
					testkit.Do(f, "cp", append(append([]string{"-r"}, plain...), point)...)
					_ = os.Symlink("a/second", filepath.Join(point, "link"))
					_ = os.WriteFile(filepath.Join(point, "a/second:stream"), []byte("beside"), 0o644)
				})
			testkit.Detach(dev)
			testkit.LoopGone(f, img)
		case "exfat":
			dev := testkit.Loop(f, img, 512)
			testkit.Mounted(f, []string{"mount.exfat-fuse", dev}, func(point string) {
				testkit.Do(f, "cp", append(append([]string{"-r"}, plain...), point)...)
			})
			testkit.Detach(dev)
			testkit.LoopGone(f, img)
		}
	}
	var seeds [][]byte
	for i, img := range imgs {
		b, err := os.ReadFile(img)
		if err != nil {
			f.Fatal(err)
		}
		seeds = append(seeds, b)
		m := disk.NewMemory(int64(len(b)), 512)
		copy(m.Bytes, b)
		if n := roam(f, m); n < 5 {
			f.Fatalf("%s: only %d items", img, n)
		}
		for _, at := range []uint32{1080, 4096, 40 << 10, uint32(len(b) / 2)} {
			f.Add(byte(i), at, []byte{0xFF, 0xFF, 0xFF, 0xFF}, at+8, []byte{0, 0, 0, 0})
		}
	}
	f.Fuzz(func(t *testing.T, which byte, at uint32, patch []byte, at2 uint32, patch2 []byte) {
		seed := seeds[int(which)%len(seeds)]
		m := disk.NewMemory(int64(len(seed)), 512)
		copy(m.Bytes, seed)
		copy(m.Bytes[int(at)%len(seed):], patch)
		copy(m.Bytes[int(at2)%len(seed):], patch2)
		roam(t, m)
	})
}

// roam looks at everything in a volume, and says how many items it saw.
func roam(t testing.TB, m *disk.Memory) (seen int) {
	v, err := families.Identify(m, m.Size(), 512)
	if err != nil || v == nil {
		return 0
	}
	tr, err := fsys.TreeOf(v)
	if err != nil {
		return 0
	}
	root, err := tr.Root()
	if err != nil {
		return 0
	}
	b := make([]byte, 64<<10)
	_ = fsys.Walk(tr, root, ".", func(at string, folder fsys.Item, entries []fsys.Entry, _ error) error {
		for _, e := range entries {
			if seen++; seen > 300 {
				return fs.SkipAll
			}
			if strings.ContainsAny(e.Name, "/\x00") || e.Name == "" || e.Name == "." || e.Name == ".." {
				t.Fatalf("an item in %s is called %q", at, e.Name)
			}
			if e.Err != nil {
				continue
			}
			_, _ = tr.Lookup(folder, e.Name)
			more, _ := tr.More(e.Item)
			for _, stream := range append(more.Streams, fsys.Stream{}) {
				c, err := tr.Open(e.Item, stream.Name)
				if err != nil {
					continue
				}
				if c.Data().Bounds().End > c.Size() {
					t.Fatalf("%s has data beyond its end", e.Name)
				}
				for _, sp := range c.Spans() {
					if sp.Start < 0 || sp.End > m.Size() {
						t.Fatalf("%s lies at %v of %d bytes", e.Name, sp, m.Size())
					}
				}
				_, _ = c.ReadAt(b, 0)
				_, _ = c.ReadAt(b, c.Size()-5)
			}
		}
		return nil
	})
	return seen
}
