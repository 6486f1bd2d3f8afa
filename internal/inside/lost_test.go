package inside_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/inside"
	"twinshelf/internal/testkit"
)

// TestLostTable: of a disk whose table is lost the file systems at usual places can be looked into.
func TestLostTable(t *testing.T) {
	testkit.Need(t, "mkfs.ext4", "mkfs.fat", "mcopy")
	note := filepath.Join(t.TempDir(), "note.txt")
	if err := os.WriteFile(note, []byte("high water at 9"), 0o600); err != nil {
		t.Fatal(err)
	}
	ext := testkit.Image(t, "ext", 40<<20)
	testkit.Do(t, "mkfs.ext4", "-q", "-L", "pier", "-d", filepath.Dir(note), ext)
	fat := testkit.Image(t, "fat", 40<<20)
	testkit.Do(t, "mkfs.fat", "-F", "32", "-s", "1", "-n", "TIDES", fat)
	testkit.Do(t, "mcopy", "-i", fat, note, "::note.txt")
	img := testkit.Image(t, "disk.img", 1200<<20)
	testkit.Place(t, ext, img, 1<<20)
	testkit.Place(t, fat, img, 1<<30)
	d, err := disk.Open(img, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	parts, err := inside.Parts(t.Context(), d, 0)
	if err != nil || len(parts) != 2 {
		t.Fatalf("%d parts, %v", len(parts), err)
	}
	for i, want := range []string{"ext4 “pier” begins at 1 MiB", "FAT32 “TIDES” begins at 1 GiB"} {
		if !strings.Contains(parts[i].Title, want) || parts[i].Number != i+1 {
			t.Errorf("part %d is %s", parts[i].Number, parts[i].Title)
		}
		tree, err := parts[i].Tree(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if b, err := fs.ReadFile(fsys.FS(tree), "note.txt"); err != nil || string(b) != "high water at 9" {
			t.Errorf("%q %v", b, err)
		}
	}
}
