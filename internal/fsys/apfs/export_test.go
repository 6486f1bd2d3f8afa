package apfs

import (
	"bytes"
	"encoding/binary"
	"io"
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

// Image is a container of testdata, with holes where it has zeros. It is never in memory as a whole.
func Image(t testing.TB, name string) string {
	t.Helper()
	packed, err := os.Open(filepath.Join("testdata", name+".img.zst"))
	if err != nil {
		t.Fatal(err)
	}
	defer packed.Close()
	z, err := zstd.NewReader(packed, zstd.WithDecoderConcurrency(1))
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	img := testkit.Image(t, name+".img", 0)
	out, err := os.OpenFile(img, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	const step = 64 << 10
	b, zeros := make([]byte, step), make([]byte, step)
	size := int64(0)
	for {
		n, err := io.ReadFull(z, b)
		if !bytes.Equal(b[:n], zeros[:n]) {
			if _, err := out.WriteAt(b[:n], size); err != nil {
				t.Fatal(err)
			}
		}
		if size += int64(n); err == nil {
			continue
		}
		if err != io.EOF && err != io.ErrUnexpectedEOF {
			t.Fatal(err)
		}
		break
	}
	if err := out.Truncate(size); err != nil {
		t.Fatal(err)
	}
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
