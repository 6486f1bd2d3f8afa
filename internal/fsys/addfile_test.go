package fsys_test

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/fsys"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// added puts a file into the root folder of an image.
func added(t testing.TB, img, name string, contents []byte) error {
	t.Helper()
	got, _ := examine(t, img)
	w, ok := got.Volume.(fsys.RootWriter)
	if !ok {
		t.Fatalf("a %s takes no file", got.Info.Kind)
	}
	patches, err := w.AddToRoot(name, contents, time.Date(2026, 11, 29, 8, 15, 0, 0, time.UTC))
	if err == nil {
		testkit.Write(t, img, patches)
	}
	return err
}

// TestAddToRoot puts files into root folders until there is no more room for one: the system's checkers find nothing,
// and the system reads what was put in beside what was there.
func TestAddToRoot(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "e2fsck", "mkntfs", "ntfsfix", "ntfs-3g", "mkfs.fat", "fsck.fat")
	testkit.Root(t)
	for _, c := range []struct {
		name  string
		make  []string
		check []string
		by    func(testing.TB, string, func(string))
		many  bool // names in the root folder, so that its index has several blocks
	}{
		{"ext4", []string{"mkfs.ext4", "-q", "-F"}, []string{"e2fsck", "-fn"}, byKernel, false},
		{"ext4 of 1 KiB", []string{"mkfs.ext4", "-q", "-F", "-b", "1024", "-O", "^flex_bg"}, []string{"e2fsck", "-fn"},
			byKernel, false},
		{"ext4 without checksums",
			[]string{"mkfs.ext4", "-q", "-F", "-O", "^metadata_csum,uninit_bg,^64bit", "-I", "128"},
			[]string{"e2fsck", "-fn"}, byKernel, false},
		{"ext3", []string{"mkfs.ext3", "-q", "-F"}, []string{"e2fsck", "-fn"}, byKernel, false},
		{"ext2", []string{"mkfs.ext2", "-q", "-F", "-O", "none"}, []string{"e2fsck", "-fn"}, byKernel, false},
		{"NTFS", []string{"mkntfs", "-Q", "-F", "-q"}, []string{"ntfsfix", "-n"}, byNTFS, false},
		{"NTFS of 64 KiB", []string{"mkntfs", "-Q", "-F", "-q", "-c", "65536"}, []string{"ntfsfix", "-n"}, byNTFS,
			false},
		{"NTFS of 512", []string{"mkntfs", "-Q", "-F", "-q", "-c", "512"}, []string{"ntfsfix", "-n"}, byNTFS, false},
		{"NTFS of many", []string{"mkntfs", "-Q", "-F", "-q"}, []string{"ntfsfix", "-n"}, byNTFS, true},
		{"FAT32", []string{"mkfs.fat", "-F32", "-s1"}, []string{"fsck.fat", "-n"}, nil, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			img := testkit.Image(t, "fs.img", 100*units.MiB)
			testkit.Do(t, c.make[0], append(c.make[1:], img)...)
			if c.by != nil {
				c.by(t, img, func(point string) { crowded(t, point, c.many) })
			}
			n := addMany(t, img)
			t.Logf("%d files were added", n)
			testkit.Do(t, c.check[0], append(c.check[1:], img)...)
			got, _ := examine(t, img)
			if !got.Maps || got.Info.Unclean != "" {
				t.Errorf("afterwards it is taken whole: %s %s", got.Why, got.Info.Unclean)
			}
			if c.by == nil {
				return
			}
			c.by(t, img, func(point string) {
				readAdded(t, point, n)
				if err := os.WriteFile(filepath.Join(point, "later"), make([]byte, 1<<20), 0o644); err != nil {
					t.Error(err)
				}
			})
			testkit.Do(t, c.check[0], append(c.check[1:], img)...)
		})
	}
}

// crowded fills a mounted volume with what a root folder usually has, and leaves inodes and records free.
func crowded(t testing.TB, point string, many bool) {
	for i := 0; many && i < 400; i++ {
		os.WriteFile(filepath.Join(point, fmt.Sprintf("%c timetable %d", 'A'+i%26, i)), []byte("x"), 0o644)
	}
	for _, name := range []string{"Windows", "Users", "Program Files", "boot", "etc", "zz"} {
		if err := os.MkdirAll(filepath.Join(point, name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for i := range 60 {
		p := filepath.Join(point, "Users", fmt.Sprint("fare ", i))
		os.WriteFile(p, bytes.Repeat([]byte("x"), 5000), 0o644)
		if i%2 == 0 {
			os.Remove(p)
		}
	}
}

func contentsOf(i int) []byte { return bytes.Repeat([]byte(fmt.Sprintf("file %d\r\n", i)), 1+i*i*30) }

// addMany adds files until one is refused, and says how many there are.
func addMany(t testing.TB, img string) int {
	t.Helper()
	for i := range 60 {
		err := added(t, img, fmt.Sprintf("MISS%d.TXT", i), contentsOf(min(i, 9)))
		var cant *fsys.Cant
		if errors.As(err, &cant) && i > 3 {
			if strings.TrimSpace(cant.Why) == "" {
				t.Error("it isn't said why")
			}
			return i
		} else if err != nil {
			t.Fatalf("file %d: %v", i, err)
		}
		if err := added(t, img, fmt.Sprintf("MISS%d.TXT", i), nil); !errors.Is(err, fs.ErrExist) {
			t.Fatalf("the same name again: %v", err)
		}
	}
	return 60
}

func readAdded(t testing.TB, point string, n int) {
	t.Helper()
	if got, err := os.ReadDir(filepath.Join(point, "Users")); err != nil || len(got) != 30 {
		t.Errorf("%d of what was there: %v", len(got), err)
	}
	for i := range n {
		b, err := os.ReadFile(filepath.Join(point, fmt.Sprintf("MISS%d.TXT", i)))
		if err != nil || !bytes.Equal(b, contentsOf(min(i, 9))) {
			t.Errorf("file %d: %d bytes, %v", i, len(b), err)
		}
	}
}
