package xpress_test

import (
	"bytes"
	"encoding/hex"
	"strings"
	"testing"

	"twinshelf/internal/xpress"
)

// packed is a piece: bytes of the table of lengths by their place, and what follows it.
func packed(t testing.TB, table map[int]string, rest string) []byte {
	t.Helper()
	out := make([]byte, 256)
	for at, s := range table {
		b, err := hex.DecodeString(s)
		if err != nil {
			t.Fatal(err)
		}
		copy(out[at:], b)
	}
	b, err := hex.DecodeString(rest)
	if err != nil {
		t.Fatal(err)
	}
	return append(out, b...)
}

// TestPublished: the examples of [MS-XCA] section 3.2.
func TestPublished(t *testing.T) {
	for want, src := range map[string][]byte{
		"abcdefghijklmnopqrstuvwxyz": packed(t, map[int]string{48: "5055555555555555555555454404", 128: "04"},
			"d8523ed794115be9195ff9d67cdf8d0400000000"),
		strings.Repeat("abc", 100): packed(t, map[int]string{48: "3023", 128: "02", 143: "20"}, "a8dc0000ff2601"),
	} {
		got := make([]byte, len(want))
		if err := xpress.Decode(got, src); err != nil || string(got) != want {
			t.Errorf("%q, %v", got, err)
		}
	}
}

// TestDamaged: what is damaged is said.
func TestDamaged(t *testing.T) {
	sound := packed(t, map[int]string{48: "3023", 128: "02", 143: "20"}, "a8dc0000ff2601")
	for name, change := range map[string]func(b []byte) []byte{
		"cut":            func(b []byte) []byte { return b[:200] },
		"too many codes": func(b []byte) []byte { b[0] = 0x11; return b },
		"too few codes":  func(b []byte) []byte { b[128] = 0; return b },
		"back too far":   func(b []byte) []byte { b[143], b[200] = 0, 0x02; return b },
		"a length cut":   func(b []byte) []byte { return b[:260] },
	} {
		if err := xpress.Decode(make([]byte, 300), change(bytes.Clone(sound))); err == nil {
			t.Errorf("%s: nothing is wrong with it", name)
		}
	}
}

// FuzzDecode: nothing panics, and all ends.
func FuzzDecode(f *testing.F) {
	f.Add(packed(f, map[int]string{48: "3023", 128: "02", 143: "20"}, "a8dc0000ff2601"), uint16(300))
	f.Fuzz(func(_ *testing.T, src []byte, n uint16) {
		_ = xpress.Decode(make([]byte, n), src)
	})
}
