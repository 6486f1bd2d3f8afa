package disk

import (
	"testing"

	"twinshelf/internal/span"
)

// TestFingerprintOfAFailingDisk: a disk with a bad sector near its start can be looked at, and planned from.
func TestFingerprintOfAFailingDisk(t *testing.T) {
	m := NewMemory(8<<20, 512)
	sound, err := Fingerprint(m)
	if err != nil {
		t.Fatal(err)
	}
	f := &Faulty{Writable: m, BadRead: span.Of(span.At(5000, 10))}
	a, err := Fingerprint(f)
	if err != nil || a == sound {
		t.Errorf("%s %v", a, err)
	}
	if b, err := Fingerprint(f); err != nil || b != a {
		t.Errorf("%s and then %s: %v", a, b, err)
	}
	f.GoneAfter = 1
	if _, err := Fingerprint(f); !Gone(err) {
		t.Errorf("a disk that has vanished: %v", err)
	}
}
