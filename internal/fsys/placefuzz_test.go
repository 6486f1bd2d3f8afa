package fsys_test

import (
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/units"
)

// FuzzPlace overwrites bytes of new file systems of every family: whatever they say, placing and growing them ends, and
// what would be written stays within the part.
func FuzzPlace(f *testing.F) {
	var seeds [][]byte
	for _, form := range []fsys.Form{{Kind: "ext4", Size: 4 * units.MiB}, {Kind: "NTFS", Size: 8 * units.MiB}, {Kind: "FAT12", Size: units.MiB},
		{Kind: "FAT16", Size: 6 * units.MiB}, {Kind: "FAT32", Size: 36 * units.MiB}, {Kind: "exFAT", Size: 4 * units.MiB}} {
		form.Sector = 512
		m, err := fsys.MakerOf(form.Kind)
		if err != nil {
			f.Fatal(err)
		}
		patches, err := m.Format(form)
		if err != nil {
			f.Fatal(err)
		}
		b := make([]byte, form.Size)
		for _, p := range patches {
			copy(b[p.Off:], p.Data)
		}
		seeds = append(seeds, b)
	}
	for i := range seeds {
		f.Add(uint8(i), uint32(1024+0x18), []byte{1}, uint32(0x28), []byte{0x10, 0x20}, uint16(30))
		f.Add(uint8(i), uint32(0), []byte{}, uint32(0), []byte{}, uint16(9))
		f.Add(uint8(i), uint32(1024+0xCE), []byte{0xFF, 0}, uint32(2048), []byte{0xFF, 0xFF}, uint16(60000))
	}
	f.Fuzz(func(t *testing.T, which uint8, at uint32, patch []byte, at2 uint32, patch2 []byte, grow uint16) {
		seed := seeds[int(which)%len(seeds)]
		m := disk.NewMemory(int64(len(seed)), 512)
		copy(m.Bytes, seed)
		copy(m.Bytes[int(at)%len(seed):], patch)
		copy(m.Bytes[int(at2)%len(seed):], patch2)
		v, err := fsys.Identify(m, m.Size(), 512)
		if err != nil || v == nil {
			return
		}
		placer, ok := v.(fsys.Placer)
		if !ok {
			return
		}
		size := m.Size() + int64(grow)*units.MiB
		c, err := placer.Place(fsys.Place{Start: 5 * units.MiB, Size: size, Sector: 512})
		if err != nil {
			return
		}
		if _, err := disk.SortPatches(c.Patches, size); err != nil {
			t.Fatal(err)
		}
		if _, err := disk.Arrange(m, size, c.Moves); err != nil {
			t.Fatal(err)
		}
		if c.Size > size {
			t.Fatalf("it became %d bytes on a part of %d", c.Size, size)
		}
	})
}
