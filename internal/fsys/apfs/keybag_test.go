package apfs

import (
	"bytes"
	"encoding/hex"
	"testing"
)

// TestUnwrap: RFC 3394, section 4.6, and a key that was changed.
func TestUnwrap(t *testing.T) {
	dec := func(s string) []byte {
		b, err := hex.DecodeString(s)
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	by := dec("000102030405060708090A0B0C0D0E0F101112131415161718191A1B1C1D1E1F")
	k := sealedKey{wrapped: dec("28C9F404C4B810F4CBCCB35CFB87F8263F5786E2D80ED326CBC7F0E71A99F43BFB988B9B7A02DD21")}
	want := dec("00112233445566778899AABBCCDDEEFF000102030405060708090A0B0C0D0E0F")
	if got, ok := k.unwrap(by); !ok || !bytes.Equal(got, want) {
		t.Errorf("%x, %v", got, ok)
	}
	k.wrapped[9]++
	if _, ok := k.unwrap(by); ok {
		t.Error("a key that was changed is taken")
	}
	if _, ok := k.unwrap(by[:8]); ok {
		t.Error("a short key unwraps it")
	}
	if _, ok := (sealedKey{half: true, wrapped: k.wrapped[:16]}).unwrap(by); ok {
		t.Error("a short one is unwrapped")
	}
}

// FuzzKey: what stands for a key in a bag is bytes that anybody may have written.
func FuzzKey(f *testing.F) {
	for _, half := range []bool{false, true} {
		s := &Sealed{half: half}
		f.Add(s.blob(noise(3, 16), noise(4, 32), noise(5, 32), noise(6, 16)))
		f.Add(s.blob(noise(3, 16), noise(4, 32), noise(5, 32), nil))
	}
	f.Add([]byte{derSequence, 0x82, 0xFF, 0xFF})
	f.Add([]byte{derSequence, 0x80})
	f.Fuzz(func(t *testing.T, b []byte) {
		k, err := readKey(b)
		if err != nil {
			return
		}
		if k.iterations > mostIterations || len(k.uuid) != 16 {
			t.Errorf("%+v", k)
		}
		k.sectorKey(noise(4, 32))
	})
}
