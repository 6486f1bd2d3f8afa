package ntfs

import (
	"bytes"
	"strings"
	"testing"
)

func TestUnpack(t *testing.T) {
	for _, c := range []struct {
		name   string
		packed []byte
		want   string
		bad    bool
	}{
		{"bytes", []byte{0x03, 0xB0, 0x00, 't', 'e', 'a', 0, 0}, "tea", false},
		{"as it is", append([]byte{0x02, 0x30}, "tea\x00\x00"...), "tea", false},
		{"over itself", []byte{0x03, 0xB0, 0x02, 'a', 0x06, 0x00, 0, 0}, strings.Repeat("a", 10), false},
		{"before the beginning", []byte{0x03, 0xB0, 0x02, 'a', 0x06, 0x20, 0, 0}, "", true},
		{"a match first", []byte{0x02, 0xB0, 0x01, 0x06, 0x00, 0, 0}, "", true},
		{"cut short", []byte{0x10, 0xB0, 0x00, 't'}, "", true},
		{"nothing", nil, "", false},
	} {
		got := make([]byte, 64)
		err := unpack(got, c.packed)
		want := make([]byte, 64)
		copy(want, c.want)
		if (err != nil) != c.bad || err == nil && !bytes.Equal(got, want) {
			t.Errorf("%s: %q, %v", c.name, got, err)
		}
	}
}

// FuzzUnpack unpacks whatever comes.
func FuzzUnpack(f *testing.F) {
	f.Add([]byte{0x03, 0xB0, 0x02, 'a', 0x06, 0x00, 0, 0})
	f.Add([]byte{0xFF, 0xBF, 0xFF, 0xFF})
	f.Fuzz(func(t *testing.T, b []byte) {
		dst := make([]byte, 65536)
		_ = unpack(dst, b)
	})
}
