package fusion_test

import (
	"bytes"
	"encoding/binary"
	"strings"
	"testing"

	"twinshelf/internal/container"
	"twinshelf/internal/container/fusion"
	"twinshelf/internal/span"
)

const (
	quickBlocks = 40
	largeBlocks = 100
	unit        = 4096
)

// halves are the first blocks of a container on two devices, with as many further ones as they have.
func halves() (quick, large []byte) {
	le := binary.LittleEndian
	quick, large = make([]byte, quickBlocks*unit+512), make([]byte, largeBlocks*unit)
	copy(quick[32:], "NXSB")
	le.PutUint32(quick[36:], unit)
	le.PutUint64(quick[40:], quickBlocks)
	le.PutUint64(quick[64:], 0x102)
	copy(quick[72:], "sixteen bytes id")
	le.PutUint64(quick[112:], 5)
	copy(large, quick[:unit])
	le.PutUint32(quick[6*unit+24:], 0x4000000C)
	return quick, large
}

func member(b []byte) container.Member {
	return container.Member{R: bytes.NewReader(b), Size: int64(len(b))}
}

// TestOpen: the device is the blocks of the quick half and then those of the large one, whichever is looked at, and
// what belongs to no block is the half's own.
func TestOpen(t *testing.T) {
	for _, claims := range []uint64{quickBlocks, quickBlocks + largeBlocks} {
		a, b := halves()
		binary.LittleEndian.PutUint64(a[40:], claims)
		for _, turn := range [][2][]byte{{a, b}, {b, a}} {
			f, members, err := fusion.Open(member(turn[0]), member([]byte("something else")), member(turn[1]))
			if err != nil || len(members) != 2 {
				t.Fatal(members, err)
			}
			d := f.Devices()[0]
			got := make([]byte, d.Size)
			if _, err := container.Open(d, members, 512).ReadAt(got, 0); err != nil {
				t.Fatal(err)
			}
			if want := append(a[:quickBlocks*unit:quickBlocks*unit], b...); !bytes.Equal(got, want) {
				t.Error("the device isn't both halves")
			}
			for i := range members {
				want := span.Set{}
				if len(turn[i]) == len(a) {
					want = span.Of(span.At(quickBlocks*unit, 512))
				}
				if own := f.Own(i); !own.Equal(want) {
					t.Errorf("half %d keeps %v for itself", i, own)
				}
			}
		}
	}
}

// TestNotOpened: what doesn't belong together isn't joined.
func TestNotOpened(t *testing.T) {
	le := binary.LittleEndian
	for name, c := range map[string]struct {
		change func(quick, large []byte)
		why    string
	}{
		"other container": {func(_, large []byte) { large[72]++ }, "other half isn't on this disk"},
		"other blocks":    {func(_, large []byte) { le.PutUint32(large[36:], 8192) }, "of 4096 and of 8192 bytes"},
		"absurd blocks": {func(_, large []byte) { le.PutUint32(large[36:], 4097) }, "other half isn't on " +
			"this disk"},
		"too many":             {func(quick, _ []byte) { le.PutUint64(quick[40:], 1<<63) }, "it claims"},
		"none":                 {func(quick, _ []byte) { le.PutUint64(quick[40:], 0) }, "it claims"},
		"a single device":      {func(quick, _ []byte) { le.PutUint64(quick[64:], 2) }, "no half"},
		"both without a start": {func(quick, _ []byte) { clear(quick[unit:]) }, "several disks could"},
	} {
		quick, large := halves()
		c.change(quick, large)
		if _, _, err := fusion.Open(member(quick), member(large)); err == nil || !strings.Contains(err.Error(), c.why) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// FuzzOpen: no bytes make it fail badly, and what it joins can be read.
func FuzzOpen(f *testing.F) {
	quick, large := halves()
	f.Add(quick[:8*unit], large[:2*unit])
	f.Fuzz(func(t *testing.T, quick, large []byte) {
		c, members, err := fusion.Open(member(quick), member(large))
		if err != nil {
			return
		}
		d := c.Devices()[0]
		if _, err := container.Open(d, members, 512).ReadAt(make([]byte, d.Size), 0); err != nil {
			t.Fatal(err)
		}
	})
}
