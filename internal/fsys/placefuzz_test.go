package fsys_test

import (
	"os"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// FuzzPlace overwrites bytes of new file systems of every family: whatever they say, placing and growing them ends, and
// what would be written stays within the part.
func FuzzPlace(f *testing.F) {
	var seeds [][]byte
	for _, form := range []fsys.Form{{Kind: "ext4", Size: 4 * units.MiB}, {Kind: "NTFS", Size: 8 * units.MiB},
		{Kind: "FAT12", Size: units.MiB},
		{Kind: "FAT16", Size: 6 * units.MiB}, {Kind: "FAT32", Size: 36 * units.MiB},
		{Kind: "exFAT", Size: 4 * units.MiB}} {
		form.Sector = 512
		m, err := families.MakerOf(form.Kind)
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
		v, err := families.Identify(m, m.Size(), 512)
		if err != nil || v == nil {
			return
		}
		placer, ok := v.(fsys.Resizer)
		if !ok {
			return
		}
		size := m.Size() + int64(grow)*units.MiB
		c, err := placer.Resize(fsys.Bounds{Start: 5 * units.MiB, Size: size, Sector: 512})
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

// FuzzShrink overwrites bytes of file systems with files in them and makes them smaller: it ends, and what is moved and
// written stays within the volume.
func FuzzShrink(f *testing.F) {
	testkit.Need(f, "mkfs.ext4", "mkntfs")
	dir := crowd(f, 60)
	var seeds [][]byte
	for _, args := range [][]string{{"-b", "1024", "-g", "1024"}, {"-t", "ext3", "-b", "1024", "-g", "1024"}, nil} {
		img := testkit.Image(f, "seed.img", 9*units.MiB)
		if args == nil {
			testkit.Do(f, "mkntfs", "-q", "-F", "-f", img)
		} else {
			testkit.Do(f, "mkfs.ext4", append(args, "-q", "-F", "-N", "400", "-J", "size=1", "-d", dir, img)...)
		}
		b, err := os.ReadFile(img)
		if err != nil {
			f.Fatal(err)
		}
		seeds = append(seeds, b)
	}
	for i := range seeds {
		for _, at := range []uint32{1024 + 0x18, 1024 + 0xE0, 2048 + 8, 5 * 1024, 70_000, 300_000, 1_100_000} {
			f.Add(uint8(i), at, []byte{1, 0xFF}, uint32(0x28), []byte{}, uint16(3000))
		}
	}
	f.Fuzz(func(t *testing.T, which uint8, at uint32, patch []byte, at2 uint32, patch2 []byte, cut uint16) {
		seed := seeds[int(which)%len(seeds)]
		size := int64(len(seed))
		lower := []disk.Patch{{Off: int64(at) % (size - 4096), Data: patch[:min(len(patch), 4096)]}}
		upper := []disk.Patch{{Off: int64(at2) % (size - 4096), Data: patch2[:min(len(patch2), 4096)]}}
		o, err := disk.NewOverlay(&disk.Memory{Bytes: seed, Sector: 512}, disk.Over(upper, lower), size)
		if err != nil {
			return
		}
		v, err := families.Identify(o, size, 512)
		s, ok := v.(fsys.Shrinker)
		if err != nil || !ok {
			return
		}
		least, _, err := s.Least()
		sizes := []int64{size - int64(cut)*1024}
		if err == nil {
			sizes = append(sizes, least)
		}
		for _, n := range sizes {
			if n <= 0 || n > size {
				continue
			}
			c, err := v.(fsys.Resizer).Resize(fsys.Bounds{Size: n, Sector: 512})
			if err != nil {
				continue
			}
			if _, err := disk.SortPatches(c.Patches, n); err != nil {
				t.Fatal(err)
			}
			if _, err := disk.Arrange(o, n, c.Moves); err != nil {
				t.Fatal(err)
			}
			if c.Size > n {
				t.Fatalf("it became %d bytes on a part of %d", c.Size, n)
			}
		}
	})
}
