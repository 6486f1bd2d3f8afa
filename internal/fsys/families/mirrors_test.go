package families_test

import (
	"bytes"
	"encoding/binary"
	"os"
	"slices"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/span"
)

// TestMirrors: the copies lie where they are said to, for volumes of the system's tools, also when the first MiB of the
// part can't be read.
func TestMirrors(t *testing.T) {
	least := map[string]int{"ext4": 2, "ext3": 2, "NTFS": 2, "exFAT": 1, "FAT12": 1, "FAT16": 1, "FAT32": 2}
	for _, k := range kindsOf() {
		n, known := least[k.name]
		if !known {
			continue
		}
		img := volumeOf(t, k, 2).Image
		b, err := os.ReadFile(img)
		if err != nil {
			t.Fatal(err)
		}
		m := &disk.Memory{Bytes: b, Sector: 512}
		got := families.All().Mirrors(m, m.Size(), 512)
		if len(got) != n {
			t.Errorf("%s: %v", k.name, got)
		}
		for _, x := range got {
			of, at := slices.Clone(b[x.Of.Start:x.Of.End]), slices.Clone(b[x.At.Start:x.At.End])
			if k.name == "exFAT" { // the copy doesn't follow the flags, nor how full it is
				clear(of[106:113])
				clear(at[106:113])
			}
			same := bytes.Equal(of, at)
			if x.Of.Start == 1024 { // a super block says of which group it is
				same = bytes.Equal(of[:0x5A], at[:0x5A]) && binary.LittleEndian.Uint16(at[0x38:]) == 0xEF53
			}
			if !same && k.name != "ext4" && k.name != "ext3" { // descriptors of ext change, their copies don't
				t.Errorf("%s: %v isn't as %v", k.name, x.At, x.Of)
			}
		}
		if k.name == "FAT12" || k.name == "FAT16" {
			continue // without its boot sector nothing tells
		}
		blind := &disk.Faulty{Writable: m, BadRead: span.Of(span.At(0, 2048))}
		if hurt := families.All().Mirrors(blind, m.Size(), 512); len(hurt) != n {
			t.Errorf("%s without its first sectors: %v, want %v", k.name, hurt, got)
		}
	}
}

// FuzzMirrors: whatever stands where volumes begin, what is called a mirror lies on the part.
func FuzzMirrors(f *testing.F) {
	for _, k := range kindsOf() {
		b, err := os.ReadFile(volumeOf(f, k, 1).Image)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(b[:4096])
	}
	f.Fuzz(func(t *testing.T, head []byte) {
		m := disk.NewMemory(64<<10, 512)
		copy(m.Bytes, head)
		for _, x := range families.All().Mirrors(m, m.Size(), 512) {
			whole := span.Span{End: m.Size()}
			if !whole.Covers(x.Of) || !whole.Covers(x.At) || x.Of.Len() != x.At.Len() || x.Of.Empty() {
				t.Fatalf("%v", x)
			}
		}
	})
}
