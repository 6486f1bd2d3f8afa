package capture

import (
	"bytes"
	"context"
	"errors"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
)

// TestGlimpses: what was read of a disk to find out what it holds can be read of its twin without any block of the shelf,
// and is what the shelf says.
func TestGlimpses(t *testing.T) {
	dev, err := disk.Open(filled(t), disk.Identity{Model: "Sandmartin", Serial: "SM-1"})
	if err != nil {
		t.Fatal(err)
	}
	defer dev.Close()
	p := planOf(t, "Kiosk", false, dev)
	p.Glimpses = shelf.NewGlimpses()
	tw, err := carryOut(p)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	fast, err := p.Shelf.OpenDisk(shelf.WithGlimpses(ctx, p.Glimpses), tw, 0)
	if err != nil {
		t.Fatal(err)
	}
	whole, err := p.Shelf.OpenDisk(t.Context(), tw, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := fast.ReadAt(make([]byte, 1), partAt+1<<20); err != nil { // and with it the block map
		t.Fatal(err)
	}
	cancel() // from here on it has no blocks
	a := p.Sources[0].Survey.Parts()[0]
	seen, total := int64(0), a.Touched().Total()
	for sp := range a.Touched().All() {
		for part := range disk.Chunks(sp.Shift(a.Span.Start), 4096) {
			got, want := make([]byte, part.Len()), make([]byte, part.Len())
			if _, err := whole.ReadAt(want, part.Start); err != nil {
				t.Fatal(err)
			}
			if _, err := fast.ReadAt(got, part.Start); errors.Is(err, context.Canceled) {
				continue
			} else if err != nil || !bytes.Equal(got, want) {
				t.Fatalf("%v: %v, or another content", part, err)
			}
			seen += part.Len()
		}
	}
	if total < 60<<10 || seen < total*9/10 {
		t.Errorf("%d of %d bytes", seen, total)
	}
	lost := 0
	for at := int64(0); at < dev.Size(); at += 1 << 20 {
		if _, err := fast.ReadAt(make([]byte, 1<<20), at); errors.Is(err, context.Canceled) {
			lost++
		}
	}
	if lost < 20 {
		t.Errorf("only %d blocks can't be read whole", lost)
	}
}
