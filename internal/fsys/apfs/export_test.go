package apfs

import (
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"

	"github.com/klauspost/compress/zstd"

	"twinshelf/internal/disk"
	"twinshelf/internal/testkit"
)

// Unpacked is a file of testdata.
func Unpacked(t testing.TB, name string) []byte {
	t.Helper()
	b, err := os.ReadFile(filepath.Join("testdata", name))
	if err != nil {
		t.Fatal(err)
	}
	z, err := zstd.NewReader(nil)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	if b, err = z.DecodeAll(b, nil); err != nil {
		t.Fatal(err)
	}
	return b
}

// Image is a container of testdata, with holes where it has zeros.
func Image(t testing.TB, name string) string {
	t.Helper()
	b := Unpacked(t, name+".img.zst")
	img := testkit.Image(t, name+".img", int64(len(b)))
	const step = 64 << 10
	zeros := make([]byte, step)
	var patches []disk.Patch
	for at := 0; at < len(b); at += step {
		if p := b[at:min(len(b), at+step)]; !bytes.Equal(p, zeros[:len(p)]) {
			patches = append(patches, disk.Patch{Off: int64(at), Data: p})
		}
	}
	testkit.Write(t, img, patches)
	return img
}

// Sum is the checksum of an object.
func Sum(b []byte) uint64 { return sum(b) }

// ObjectsOf are the blocks of a container that are objects, of each kind a few.
func ObjectsOf(t testing.TB, d disk.Device) (out []int64) {
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
