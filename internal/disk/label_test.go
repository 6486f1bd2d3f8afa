package disk

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
)

// TestUnreadableStandIn: a stand-in whose label names places that can't be read fails there like a drive, and nowhere
// else.
func TestUnreadableStandIn(t *testing.T) {
	img := filepath.Join(t.TempDir(), "petrel.img")
	if err := os.WriteFile(img, make([]byte, 1<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	label := `{"model": "Petrel", "serial": "P-1", "unreadable": [[4096, 8192], [65536, 66048]]}`
	if err := os.WriteFile(LabelPath(img), []byte(label), 0o600); err != nil {
		t.Fatal(err)
	}
	d, err := Open(img, Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	b := make([]byte, 4096)
	for off, bad := range map[int64]bool{0: false, 4096: true, 8192: false, 2048: true, 61440: false, 65536: true,
		66048: false} {
		_, err := d.ReadAt(b, off)
		if errors.Is(err, ErrMedium) != bad || err != nil && !bad {
			t.Errorf("byte %d: %v", off, err)
		}
	}
	if err := os.WriteFile(LabelPath(img), []byte(`{"unreadable": [[9, 3]]}`), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := ReadLabel(img); err == nil {
		t.Error("a label with a place that ends before it begins is taken")
	}
}
