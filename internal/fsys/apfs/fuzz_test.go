package apfs_test

import (
	"encoding/binary"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys/apfs"
	"twinshelf/internal/fsys/fsystest"
)

// FuzzAPFS overwrites bytes of a container's objects and makes their checksums right again: nothing panics, and all
// ends.
func FuzzAPFS(f *testing.F) {
	d, err := disk.Open(apfs.Image(f, "noon"), disk.Identity{})
	if err != nil {
		f.Fatal(err)
	}
	f.Cleanup(func() { d.Close() })
	objects := apfs.ObjectsOf(f, d)
	for i := range objects {
		for _, at := range []uint16{32, 34, 36, 40, 42, 56, 60, 4056, 4060} {
			if (i+int(at))%31 == 0 { // a few of each
				f.Add(uint16(i), at, []byte{0xFF, 0xFF, 0xFF, 0xFF})
			}
		}
	}
	f.Fuzz(func(t *testing.T, which, at uint16, patch []byte) {
		const unit = 4096
		block := objects[int(which)%len(objects)]
		b := make([]byte, unit)
		if err := disk.ReadFull(d, b, block*unit); err != nil {
			t.Fatal(err)
		}
		copy(b[int(at)%unit:], patch)
		binary.LittleEndian.PutUint64(b, apfs.Sum(b))
		o, err := disk.NewOverlay(d, []disk.Patch{{Off: block * unit, Data: b}}, d.Size())
		if err != nil {
			t.Fatal(err)
		}
		fsystest.Endure(t, o)
	})
}
