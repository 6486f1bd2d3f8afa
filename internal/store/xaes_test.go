package store

import (
	"bytes"
	"crypto/sha3"
	"encoding/hex"
	"testing"
)

// The vectors of the specification.
func TestXAES(t *testing.T) {
	for _, v := range []struct {
		key    byte
		extra  string
		sealed string
	}{
		{1, "", "ce546ef63c9cc60765923609b33a9a1974e96e52daf2fcf7075e2271"},
		{3, "c2sp.org/XAES-256-GCM", "986ec1832593df5443a179437fd083bf3fdb41abd740a21f71eb769d"},
	} {
		a, err := newXAES(bytes.Repeat([]byte{v.key}, 32))
		if err != nil {
			t.Fatal(err)
		}
		nonce, plain := []byte("ABCDEFGHIJKLMNOPQRSTUVWX"), []byte("XAES-256-GCM")
		sealed := a.Seal(nil, nonce, plain, []byte(v.extra))
		if got := hex.EncodeToString(sealed); got != v.sealed {
			t.Errorf("key %d: %s, not %s", v.key, got, v.sealed)
		}
		if back, err := a.Open(nil, nonce, sealed, []byte(v.extra)); err != nil || !bytes.Equal(back, plain) {
			t.Errorf("key %d: %q %v", v.key, back, err)
		}
		for i := range sealed {
			sealed[i] ^= 1
			if _, err := a.Open(nil, nonce, sealed, []byte(v.extra)); err == nil {
				t.Errorf("key %d: byte %d may be changed", v.key, i)
			}
			sealed[i] ^= 1
		}
	}
	if _, err := newXAES(make([]byte, 16)); err == nil {
		t.Error("a key of 16 bytes was taken")
	}
}

// Ten thousand keys, nonces and texts of all lengths, summed up as the specification does: both values of the bit that
// falls out of the subkey are among them.
func TestXAESAccumulated(t *testing.T) {
	in, sum := sha3.NewSHAKE128(), sha3.NewSHAKE128()
	read := func(n int) []byte {
		b := make([]byte, n)
		_, _ = in.Read(b)
		return b
	}
	for range 10_000 {
		key, nonce := read(32), read(24)
		plain := read(int(read(1)[0]))
		extra := read(int(read(1)[0]))
		a, err := newXAES(key)
		if err != nil {
			t.Fatal(err)
		}
		sealed := a.Seal(nil, nonce, plain, extra)
		if back, err := a.Open(nil, nonce, sealed, extra); err != nil || !bytes.Equal(back, plain) {
			t.Fatalf("%x: %v", key, err)
		}
		_, _ = sum.Write(sealed)
	}
	got := make([]byte, 32)
	_, _ = sum.Read(got)
	if want := "e6b9edf2df6cec60c8cbd864e2211b597fb69a529160cd040d56c0c210081939"; hex.EncodeToString(got) != want {
		t.Errorf("%x, not %s", got, want)
	}
}
