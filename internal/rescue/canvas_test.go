package rescue

import (
	"bytes"
	"context"
	"iter"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
	"twinshelf/internal/units"
)

// onShelf is a canvas on a new shelf, with its session.
func onShelf(t *testing.T, size int64) *canvas {
	t.Helper()
	s, err := shelf.Create(t.Context(), filepath.Join(t.TempDir(), "oak"), store.New{Name: "Oak", BlockSize: 64 << 10})
	if err != nil {
		t.Fatal(err)
	}
	session, err := s.Begin(t.Context(), "Crane")
	if err != nil {
		t.Fatal(err)
	}
	c := newCanvas(s, session, nil)
	t.Cleanup(func() {
		c.drop()
		session.Abort(context.Background())
		s.Close()
	})
	c.begin(size)
	return c
}

// TestCanvas: whatever is written where and in which order is read back, also after blocks and nodes went to the shelf,
// and after the disk was divided otherwise.
func TestCanvas(t *testing.T) {
	const size = 24*units.MiB + 512
	for seed := range uint64(6) {
		r := rand.New(rand.NewPCG(seed, 2))
		c, model := onShelf(t, size), make([]byte, size)
		var had span.Set
		for step := range 900 {
			off := r.Int64N(size)
			n := min(size-off, 1+r.Int64N(1<<(6+r.IntN(12))))
			sp := span.At(off, n)
			switch {
			case step%300 == 299:
				divide(t, r, &c, size, had)
			case step%200 == 199:
				if err := c.flush(t.Context()); err != nil {
					t.Fatal(err)
				}
			case r.IntN(8) == 0: // a hole is where nothing was got
				if had.Overlaps(sp) {
					continue
				}
				if err := c.blank(t.Context(), sp); err != nil {
					t.Fatal(err)
				}
				had.Add(sp)
			case r.IntN(2) == 0:
				b := make([]byte, n)
				for i := range b {
					b[i] = byte(r.Uint32())
				}
				copy(model[off:], b)
				had.Add(sp)
				if err := c.write(t.Context(), b, off); err != nil {
					t.Fatal(err)
				}
			default:
				b := make([]byte, n)
				if err := c.read(t.Context(), b, off); err != nil || !bytes.Equal(b, model[off:off+n]) {
					t.Fatalf("seed %d, step %d: %v of the canvas differs (%v)", seed, step, sp, err)
				}
			}
		}
		onTwin(t, c, model, had)
	}
}

// divide arranges the canvas by parts at random places.
func divide(t *testing.T, r *rand.Rand, c **canvas, size int64, had span.Set) {
	t.Helper()
	cuts := []int64{0, size}
	for range r.IntN(5) {
		cuts = append(cuts, r.Int64N(size)/512*512)
	}
	slices.Sort(cuts)
	var areas []span.Span
	for i, at := range slices.Compact(cuts)[1:] {
		areas = append(areas, span.Span{Start: slices.Compact(cuts)[i], End: at})
	}
	n, err := (*c).arranged(t.Context(), areas, iter.Seq[span.Span](had.All()))
	if err != nil {
		t.Fatal(err)
	}
	*c = n
}

// onTwin lets a twin appear with what is on the canvas, and reads it from there.
func onTwin(t *testing.T, c *canvas, model []byte, had span.Set) {
	t.Helper()
	if err := c.flush(t.Context()); err != nil {
		t.Fatal(err)
	}
	size := int64(len(model))
	d := shelf.TwinDisk{Identity: disk.Identity{Model: "Petrel", Size: size, Sector: 512},
		Missing: had.Complement(span.Span{End: size})}
	for _, r := range c.regions {
		r.Captured = true
		d.Regions = append(d.Regions, r)
	}
	twin := &shelf.Twin{ID: shelf.NewTwinID(testTime), Machine: "Crane", Taken: testTime, Disks: []shelf.TwinDisk{d}}
	if err := c.session.Checkpoint(t.Context(), twin); err != nil {
		t.Fatal(err)
	}
	got, err := c.shelf.OpenDisk(t.Context(), twin, 0)
	if err != nil {
		t.Fatal(err)
	}
	b := make([]byte, size)
	if err := disk.ReadFull(got, b, 0); err != nil || !bytes.Equal(b, model) {
		t.Fatalf("the twin differs from what was written (%v)", err)
	}
	at := int64(0)
	for p, err := range got.Pieces() {
		if err != nil || p.Start != at {
			t.Fatalf("a piece begins at %d, want %d (%v)", p.Start, at, err)
		}
		if at = p.End; p.Kind == disk.Undefined {
			t.Fatalf("%v is missing or was got, and is undefined", p.Span)
		}
	}
	if at != size {
		t.Fatalf("the pieces end at %d of %d", at, size)
	}
}

// TestJoined: of many stretches so many are left, none is lost, and what lies far apart isn't joined.
func TestJoined(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	var all []span.Span
	at := int64(0)
	for range 10_000 {
		at += 512 * (1 + r.Int64N(100))
		all = append(all, span.At(at, 512))
		at += 512
	}
	all = append(all, span.At(at+1<<40, 512))
	for _, most := range []int{1, 7, 1000, 20_000} {
		got := joined(slices.Values(all), most)
		if got.Count() > 2*most {
			t.Errorf("%d stretches are left of %d, want %d", got.Count(), len(all), most)
		}
		for _, sp := range all {
			if !got.Covers(sp) {
				t.Fatalf("%v is lost", sp)
			}
		}
		if most == 20_000 && got.Total() != span.Of(all...).Total() || most == 1000 && got.Total() > 1<<40 {
			t.Errorf("of at the most %d: %d bytes", most, got.Total())
		}
	}
}
