package shelf

import (
	"fmt"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/store"
)

func TestNodes(t *testing.T) {
	name := store.Checksum([]byte("x"))
	refs := []BlockRef{{disk.Undefined, store.Name{}}, {disk.Undefined, store.Name{}}, {disk.Data, name},
		{disk.Zero, store.Name{}}, {disk.Data, name}}
	got, err := DecodeNode(EncodeNode(refs), len(refs))
	if err != nil || fmt.Sprint(got) != fmt.Sprint(refs) {
		t.Errorf("%v %v", got, err)
	}
	for _, bad := range [][]byte{nil, {9, 5, 0}, {2, 5, 0, 1}, {0, 0, 0, 0, 5, 0}, {0, 6, 0}, {0, 5, 0, 1}} {
		if _, err := DecodeNode(bad, 5); err == nil {
			t.Errorf("% x was taken", bad)
		}
	}
}

func FuzzDecodeNode(f *testing.F) {
	f.Add(EncodeNode([]BlockRef{{disk.Zero, store.Name{}}, {disk.Data, store.Name{1}}}), 2)
	f.Fuzz(func(t *testing.T, b []byte, n int) {
		n = max(0, min(n, NodeBlocks))
		refs, err := DecodeNode(b, n)
		if err == nil && len(refs) != n {
			t.Fatalf("%d references of %d", len(refs), n)
		}
	})
}
