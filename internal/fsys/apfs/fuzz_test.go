package apfs

import (
	"encoding/binary"
	"io"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

// FuzzAPFS overwrites bytes of a container's objects and makes their checksums right again: nothing panics, and all
// ends.
func FuzzAPFS(f *testing.F) {
	d, err := disk.Open(Image(f, "noon"), disk.Identity{})
	if err != nil {
		f.Fatal(err)
	}
	f.Cleanup(func() { d.Close() })
	objects := objectsOf(f, d)
	for i := range objects {
		for _, at := range []uint16{32, 34, 36, 40, 42, 56, 60, 4056, 4060} {
			if i%9 == int(at)%9 {
				f.Add(uint16(i), at, []byte{0xFF, 0xFF, 0xFF, 0xFF})
			}
		}
	}
	f.Fuzz(func(t *testing.T, which, at uint16, patch []byte) {
		const unit = minBlock
		block := objects[int(which)%len(objects)]
		b := make([]byte, unit)
		if err := disk.ReadFull(d, b, block*unit); err != nil {
			t.Fatal(err)
		}
		copy(b[int(at)%unit:], patch)
		binary.LittleEndian.PutUint64(b, sum(b))
		o, err := disk.NewOverlay(d, []disk.Patch{{Off: block * unit, Data: b}}, d.Size())
		if err != nil {
			t.Fatal(err)
		}
		endure(t, o)
	})
}

// objectsOf are the blocks of a container that are objects, of each kind a few.
func objectsOf(t testing.TB, d disk.Device) (out []int64) {
	t.Helper()
	const most = 12
	v, err := Probe(d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	n := map[uint32]int{}
	b := make([]byte, minBlock)
	for sp, err := range v.Used() {
		if err != nil {
			t.Fatal(err)
		}
		for at := sp.Start; at < sp.End; at += minBlock {
			if err := disk.ReadFull(d, b, at); err != nil {
				t.Fatal(err)
			}
			kind := kindOf(b)<<16 | binary.LittleEndian.Uint32(b[objSubtype:])&typeMask
			if sound(b) && n[kind] < most {
				n[kind]++
				out = append(out, at/minBlock)
			}
		}
	}
	return out
}

// endure has everything done to a container that can be.
func endure(t *testing.T, d disk.Device) {
	t.Helper()
	p, err := Probe(d, d.Size(), 512)
	if err != nil || p == nil {
		return
	}
	if _, err := fsys.Judge(t.Context(), p, d.Size()); err != nil {
		t.Error(err)
	}
	tree, err := fsys.TreeOf(p)
	if err != nil {
		return
	}
	root, err := tree.Root()
	if err != nil {
		return
	}
	const most = 300
	n := 0
	_ = fsys.Walk(tree, root, ".", func(_ string, _ fsys.Item, all []fsys.Entry, _ error) error {
		for _, e := range all {
			if n++; n > most {
				return io.EOF
			}
			if e.Err == nil {
				try(tree, e.Item)
			}
		}
		return nil
	})
}

func try(tree fsys.Tree, it fsys.Item) {
	_, _ = tree.More(it)
	for _, stream := range []string{"", resourceStream} {
		if c, err := tree.Open(it, stream); err == nil {
			_, _ = c.ReadAt(make([]byte, 70_000), max(0, c.Size()-70_000))
			c.Spans()
		}
	}
}
