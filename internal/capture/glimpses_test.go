package capture

import (
	"bytes"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
)

// TestGlimpses: what was read of a disk to find out what it holds can be read of its twin without any block of the
// shelf, and is what the shelf says; anything else can't, and ends the looking.
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
	ctx, end := shelf.OnlyGlimpses(t.Context(), p.Glimpses)
	defer end()
	fast, err := p.Shelf.OpenDisk(ctx, tw, 0)
	if err != nil {
		t.Fatal(err)
	}
	whole, err := p.Shelf.OpenDisk(t.Context(), tw, 0)
	if err != nil {
		t.Fatal(err)
	}
	a := p.Sources[0].Survey.Parts()[0]
	if a.Touched().Total() < 60<<10 {
		t.Errorf("%d bytes were read", a.Touched().Total())
	}
	for sp := range a.Touched().All() {
		for part := range disk.Chunks(sp.Shift(a.Span.Start), 4096) {
			got, want := make([]byte, part.Len()), make([]byte, part.Len())
			if _, err := whole.ReadAt(want, part.Start); err != nil {
				t.Fatal(err)
			}
			if _, err := fast.ReadAt(got, part.Start); err != nil || !bytes.Equal(got, want) {
				t.Fatalf("%v: %v, or another content", part, err)
			}
		}
	}
	if p.Glimpses.Missed() || ctx.Err() != nil {
		t.Error("something is missing")
	}
	lost := 0
	for at := int64(0); at < dev.Size(); at += 1 << 20 {
		if _, err := fast.ReadAt(make([]byte, 1<<20), at); err != nil {
			lost++
		}
	}
	if lost < 20 || !p.Glimpses.Missed() || ctx.Err() == nil {
		t.Errorf("only %d blocks can't be read whole, and it goes on: %v", lost, ctx.Err())
	}
}
