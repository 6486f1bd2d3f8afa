package ntfs_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/fsys"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// TestWeigh: what the records of a volume say of its folders is what going through them finds: nested ones, packed
// files and such with holes, in many pieces, with streams, and with several names, which count once.
func TestWeigh(t *testing.T) {
	testkit.Need(t, "mkntfs", "ntfs-3g")
	testkit.Root(t)
	img := testkit.Image(t, "desk.img", 60*units.MiB)
	testkit.Do(t, "mkntfs", "-Q", "-F", "-q", img)
	testkit.Mounted(t, []string{"ntfs-3g", "-o", "streams_interface=windows", img}, func(dir string) {
		put := func(name string, n int) {
			p := filepath.Join(dir, name)
			if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(p, testkit.Noise(uint64(n), n), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		for i := range 200 {
			put(fmt.Sprintf("Users/Ines/Letters/%d/letter %d.odt", i%7, i), 100+i*171)
		}
		put("Users/Ines/Photos/ferry.jpg", 3<<20)
		put("Users/Ines/Photos/ferry.jpg:note", 70_000)
		put("Users/Tom/ledger.ods", 900_000)
		put("Shared/rota.ods", 500_000)
		tom := filepath.Join(dir, "Users/Tom")
		if err := os.Link(filepath.Join(tom, "ledger.ods"), filepath.Join(tom, "again.ods")); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, "Users/Tom/holes"), []byte("x"), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := os.Truncate(filepath.Join(dir, "Users/Tom/holes"), 7<<20); err != nil {
			t.Fatal(err)
		}
		a, err := os.Create(filepath.Join(dir, "Users/Tom/pieces"))
		if err != nil {
			t.Fatal(err)
		}
		defer a.Close()
		for i := range 400 { // in turns with others, so that its description needs several records
			if _, err := a.Write(testkit.Noise(uint64(i), 4096)); err != nil {
				t.Fatal(err)
			}
			put(fmt.Sprintf("Shared/%d", i), 4096)
		}
	})
	tree, err := fsys.TreeOf(volume(t, img))
	if err != nil {
		t.Fatal(err)
	}
	names := []string{"Users", "Users/Tom", "Users/Ines/Letters/3", "Shared"}
	var folders []fsys.Item
	for _, name := range names {
		it, err := fsys.Find(tree, name)
		if err != nil {
			t.Fatal(err)
		}
		folders = append(folders, it)
	}
	for i, name := range names[1:] { // each by itself, since one is in another
		got, err := tree.(fsys.Weigher).Weigh(t.Context(), folders[i+1:i+2])
		if err != nil {
			t.Fatal(err)
		}
		if want := weighed(t, tree, folders[i+1]); got[0] != want {
			t.Errorf("%s: %d bytes, and going through it finds %d", name, got[0], want)
		}
	}
	got, err := tree.(fsys.Weigher).Weigh(t.Context(), folders[1:])
	if err != nil || len(got) != 3 || got[2] != weighed(t, tree, folders[3]) {
		t.Errorf("together: %v %v", got, err)
	}
	if _, err := tree.(fsys.Weigher).Weigh(t.Context(), []fsys.Item{{Name: "elsewhere"}}); err == nil {
		t.Error("a folder of no volume is weighed")
	}
}

// weighed adds up the files below a folder.
func weighed(t *testing.T, tree fsys.Tree, folder fsys.Item) (n int64) {
	t.Helper()
	seen := map[uint64]bool{}
	err := fsys.Walk(tree, folder, ".", func(_ string, _ fsys.Item, entries []fsys.Entry, err error) error {
		for _, e := range entries {
			if !e.Item.IsDir() && !seen[e.Item.ID] {
				seen[e.Item.ID] = true
				n += e.Item.Size
			}
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return n
}
