package disk

import (
	"io"
	"testing"

	"twinshelf/internal/span"
)

// TestReadsOutsideOfADevice: a read that begins at or past the end is io.EOF, one before the start an error; none
// panics.
func TestReadsOutsideOfADevice(t *testing.T) {
	m := NewMemory(1<<20, 512)
	arranged, err := Arrange(m, 1<<20, []Move{{From: span.Span{End: 1 << 20}}})
	if err != nil {
		t.Fatal(err)
	}
	overlay, err := NewOverlay(m, []Patch{{Off: 1<<20 - 512, Data: make([]byte, 512)}}, 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	for name, d := range map[string]Device{"memory": m, "arranged": arranged, "overlay": overlay} {
		for _, off := range []int64{1 << 20, 1<<20 + 5, 1 << 40} {
			if n, err := d.ReadAt(make([]byte, 512), off); n != 0 || err != io.EOF {
				t.Errorf("%s at byte %d: %d bytes, %v", name, off, n, err)
			}
		}
		if n, err := d.ReadAt(make([]byte, 512), -100); n != 0 || err == nil {
			t.Errorf("%s before the start: %d bytes, %v", name, n, err)
		}
		if n, err := d.ReadAt(make([]byte, 512), 1<<20-100); n != 100 || err != io.EOF {
			t.Errorf("%s over the end: %d bytes, %v", name, n, err)
		}
	}
}
