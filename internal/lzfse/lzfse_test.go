package lzfse_test

import (
	"bytes"
	"errors"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/lzfse"
	"twinshelf/internal/lzfse/lzfsetest"
)

// samples are contents of several kinds.
func samples() map[string][]byte {
	r := rand.New(rand.NewPCG(3, 8))
	noise := make([]byte, 9000)
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	mixed := append(bytes.Repeat([]byte("fare 12, pier 4\n"), 900), noise[:700]...)
	return map[string][]byte{
		"nothing": nil, "one": {7}, "text": []byte(strings.Repeat("crossing at noon, wind from west\n", 400)),
		"zeros": make([]byte, 65536), "noise": noise, "mixed": append(mixed, mixed[3000:9000]...),
	}
}

// TestUnpack: what was packed comes back, and into less room nothing is unpacked.
func TestUnpack(t *testing.T) {
	for name, want := range samples() {
		got, err := lzfse.LZVN(lzfsetest.PackLZVN(want), len(want))
		if err != nil || !bytes.Equal(got, want) {
			t.Errorf("LZVN, %s: %d bytes of %d, %v", name, len(got), len(want), err)
		}
		got, err = lzfse.Decode(lzfsetest.Pack(want), len(want))
		if err != nil || !bytes.Equal(got, want) {
			t.Errorf("LZFSE, %s: %d bytes of %d, %v", name, len(got), len(want), err)
		}
		if len(want) == 0 {
			continue
		}
		if _, err := lzfse.Decode(lzfsetest.Pack(want), len(want)-1); !errors.Is(err, lzfse.ErrHurt) {
			t.Errorf("LZFSE, %s, into less room: %v", name, err)
		}
		if _, err := lzfse.LZVN(lzfsetest.PackLZVN(want), len(want)-1); !errors.Is(err, lzfse.ErrHurt) {
			t.Errorf("LZVN, %s, into less room: %v", name, err)
		}
		whole := lzfsetest.Pack(want)
		for _, n := range []int{0, 3, len(whole) / 2, len(whole) - 1} {
			if _, err := lzfse.Decode(whole[:n], len(want)); !errors.Is(err, lzfse.ErrHurt) {
				t.Errorf("%s, cut off after %d bytes: %v", name, n, err)
			}
		}
	}
}

// FuzzUnpack: whatever is packed, nothing panics, and no more comes out than there is room for.
func FuzzUnpack(f *testing.F) {
	for _, b := range samples() {
		f.Add(lzfsetest.Pack(b), true)
		f.Add(lzfsetest.PackLZVN(b), false)
	}
	f.Fuzz(func(t *testing.T, b []byte, all bool) {
		const room = 70_000
		unpack := lzfse.LZVN
		if all {
			unpack = lzfse.Decode
		}
		if out, err := unpack(b, room); len(out) > room || err != nil && out != nil {
			t.Errorf("%d bytes, %v", len(out), err)
		}
	})
}

// TestReference: what the published reference implementation packed comes back.
func TestReference(t *testing.T) {
	for name, want := range samples() {
		for ext, unpack := range map[string]func([]byte, int) ([]byte, error){"lzfse": lzfse.Decode,
			"lzvn": lzfse.LZVN} {
			b, err := os.ReadFile(filepath.Join("testdata", name+"."+ext))
			if errors.Is(err, fs.ErrNotExist) && len(want) == 0 {
				continue // it doesn't pack that
			} else if err != nil {
				t.Fatal(err)
			}
			if got, err := unpack(b, len(want)); err != nil || !bytes.Equal(got, want) {
				t.Errorf("%s.%s: %d bytes of %d, %v", name, ext, len(got), len(want), err)
			}
		}
	}
}
