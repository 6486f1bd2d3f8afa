package fsystest

import (
	"errors"
	"io/fs"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/inside"
)

// FileOf gives the contents of a file in a part of a disk, counted from 1; there is false where there is none.
func FileOf(t testing.TB, d disk.Device, part int, name string) (contents string, there bool) {
	t.Helper()
	parts, err := inside.Parts(t.Context(), d, 0)
	if err != nil {
		t.Fatal(err)
	}
	tree, err := parts[part-1].Tree(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	it, err := fsys.Find(tree, name)
	if errors.Is(err, fs.ErrNotExist) {
		return "", false
	}
	if err != nil {
		t.Fatal(err)
	}
	c, err := tree.Open(it, "")
	if err != nil {
		t.Fatal(err)
	}
	b := make([]byte, c.Size())
	if err := disk.ReadFull(c, b, 0); err != nil {
		t.Fatal(err)
	}
	return string(b), true
}
