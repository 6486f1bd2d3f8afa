package apfs

import (
	"bytes"
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
