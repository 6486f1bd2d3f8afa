package apfs

import (
	"bytes"
	"encoding/binary"
	"io"
	"os"
	"path/filepath"
	"sync"
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

// containers are those of testdata as images, unpacked once: with the race detector that takes long.
var containers = map[string]func() (string, error){"ferry": sync.OnceValues(func() (string, error) {
	return unpack("ferry")
}), "noon": sync.OnceValues(func() (string, error) { return unpack("noon") })}

// unpackedIn is the folder that has them.
var unpackedIn = sync.OnceValues(func() (string, error) { return os.MkdirTemp("", "apfs") })

// TestMain takes the folder away.
func TestMain(m *testing.M) {
	code := m.Run()
	if dir, err := unpackedIn(); err == nil {
		os.RemoveAll(dir)
	}
	os.Exit(code)
}

// Image is a container of testdata, with holes where it has zeros: a copy that the test may write to.
func Image(t testing.TB, name string) string {
	t.Helper()
	from, err := containers[name]()
	if err != nil {
		t.Fatal(err)
	}
	img := filepath.Join(t.TempDir(), name+".img")
	testkit.Do(t, "cp", "--sparse=always", from, img)
	return img
}

// unpack unpacks a container, which is never in memory as a whole.
func unpack(name string) (string, error) {
	dir, err := unpackedIn()
	if err != nil {
		return "", err
	}
	packed, err := os.Open(filepath.Join("testdata", name+".img.zst"))
	if err != nil {
		return "", err
	}
	defer packed.Close()
	z, err := zstd.NewReader(packed, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return "", err
	}
	defer z.Close()
	out, err := os.Create(filepath.Join(dir, name+".img"))
	if err != nil {
		return "", err
	}
	defer out.Close()
	const step = 64 << 10
	b, zeros := make([]byte, step), make([]byte, step)
	for size := int64(0); ; size += step {
		n, err := io.ReadFull(z, b)
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			return "", err
		}
		if !bytes.Equal(b[:n], zeros[:n]) {
			if _, err := out.WriteAt(b[:n], size); err != nil {
				return "", err
			}
		}
		if err != nil {
			return out.Name(), out.Truncate(size + int64(n))
		}
	}
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
