package fsystest

import (
	"io/fs"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
)

// maxSeen is how many items of a hurt volume are looked at.
const maxSeen = 300

// Endure does everything to a volume of which nobody knows what it holds: it is examined, its files are read, it
// becomes larger, smaller, and gets another identity. Whatever its bytes say, all of that ends, nothing is read outside
// of it, and what would be written stays within its part. It says how many items were seen.
func Endure(t testing.TB, d disk.Device) (seen int) {
	t.Helper()
	v, err := families.Identify(t.Context(), d, d.Size(), 512)
	if err != nil || v == nil {
		return 0
	}
	c, err := families.Examine(t.Context(), d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	at := int64(0)
	for sp, err := range c.Spans() {
		if err != nil {
			break
		}
		if sp.Start < at || sp.End > d.Size() {
			t.Fatalf("%v counts as used, behind %d of %d bytes", sp, at, d.Size())
		}
		at = sp.End
	}
	seen = roam(t, d, v)
	resize(t, d, v)
	if able, ok := v.(fsys.Reidentifier); ok {
		if patches, err := able.Reidentify([16]byte{7, 7}); err == nil {
			within(t, d, patches, nil, d.Size(), 0)
		}
	}
	return seen
}

// roam looks at everything in a volume, and says how many items it saw.
func roam(t testing.TB, d disk.Device, v fsys.Volume) (seen int) {
	t.Helper()
	tree, err := fsys.TreeOf(v)
	if err != nil {
		return 0
	}
	root, err := tree.Root()
	if err != nil {
		return 0
	}
	_ = fsys.Walk(tree, root, ".", func(at string, folder fsys.Item, entries []fsys.Entry, _ error) error {
		for _, e := range entries {
			if seen++; seen > maxSeen {
				return fs.SkipAll
			}
			if strings.ContainsAny(e.Name, "/\x00") || e.Name == "" || e.Name == "." || e.Name == ".." {
				t.Fatalf("an item in %s is called %q", at, e.Name)
			}
			if e.Err == nil {
				_, _ = tree.Lookup(folder, e.Name)
				open(t, d, tree, e.Item)
			}
		}
		return nil
	})
	return seen
}

// open reads an item with its streams.
func open(t testing.TB, d disk.Device, tree fsys.Tree, it fsys.Item) {
	t.Helper()
	b := make([]byte, 64<<10)
	more, _ := tree.More(it)
	for _, stream := range append(more.Streams, fsys.Stream{}) {
		c, err := tree.Open(it, stream.Name)
		if err != nil {
			continue
		}
		if c.Data().Bounds().End > c.Size() {
			t.Fatalf("%s has data beyond its end", it.Name)
		}
		for _, sp := range c.Spans() {
			if sp.Start < 0 || sp.End > d.Size() {
				t.Fatalf("%s lies at %v of %d bytes", it.Name, sp, d.Size())
			}
		}
		_, _ = c.ReadAt(b, 0)
		_, _ = c.ReadAt(b, c.Size()-5)
	}
}

// resize makes it larger, a little smaller, and as small as it says that it gets.
func resize(t testing.TB, d disk.Device, v fsys.Volume) {
	t.Helper()
	able, ok := v.(fsys.Resizer)
	if !ok {
		return
	}
	sizes := []int64{d.Size() * 5 / 4 / 512 * 512, 20 * d.Size()}
	if s, ok := v.(fsys.Shrinker); ok {
		sizes = append(sizes, d.Size()*9/10/512*512)
		if least, _, err := s.Least(); err == nil && least > 0 && least <= d.Size() {
			sizes = append(sizes, least)
		}
	}
	for _, size := range sizes {
		c, err := able.Resize(fsys.Bounds{Start: 5 << 20, Size: size, Sector: 512})
		if err == nil {
			within(t, d, c.Patches, c.Moves, max(size, 0), c.Size)
		}
	}
}

// within holds patches and moves to a part of so many bytes.
func within(t testing.TB, d disk.Device, patches []disk.Patch, moves []disk.Move, part, volume int64) {
	t.Helper()
	if _, err := disk.SortPatches(patches, part); err != nil {
		t.Fatal(err)
	}
	if _, err := disk.Arrange(d, max(part, d.Size()), moves); err != nil {
		t.Fatal(err)
	}
	if volume > max(part, d.Size()) {
		t.Fatalf("it became %d bytes on a part of %d", volume, part)
	}
}
