package hfsplus_test

import (
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/fsys/fsystest"
	"twinshelf/internal/fsys/hfsplus"
)

// FuzzHFSPlus overwrites bytes of a volume with everything in it: nothing panics, all ends, and nothing outside of the
// part is read or would be written.
func FuzzHFSPlus(f *testing.F) {
	asItIs, cut, places := hfsplus.Seeds(f)
	for _, base := range places {
		for _, at := range []int64{0, 8, 16, 40, 44, 112, 128, 272, 288} {
			f.Add(at%16 == 0, uint32(base+at), []byte{0xFF, 0xFF, 0xFF, 0xFF}, uint32(base+at+90), []byte{0, 0, 0, 0})
		}
		f.Add(true, uint32(base+24), []byte{0xFF, 0, 0xFF}, uint32(base+32), []byte{1})
	}
	f.Fuzz(func(t *testing.T, isCut bool, at uint32, patch []byte, at2 uint32, patch2 []byte) {
		img := asItIs
		if isCut {
			img = cut
		}
		size := int64(len(img))
		lower := []disk.Patch{{Off: int64(at) % (size - 4096), Data: patch[:min(len(patch), 4096)]}}
		upper := []disk.Patch{{Off: int64(at2) % (size - 4096), Data: patch2[:min(len(patch2), 4096)]}}
		o, err := disk.NewOverlay(&disk.Memory{Bytes: img, Sector: 512}, disk.Over(upper, lower), size)
		if err != nil {
			return
		}
		fsystest.Endure(t, o)
		if c, err := families.Examine(t.Context(), o, size, 512); err == nil {
			_ = c.AsCut(t.Context())
		}
	})
}
