package fsys

import (
	"errors"
	"math/rand/v2"
	"testing"

	"twinshelf/internal/span"
)

// TestTakeNext: what is taken was free and is taken once, all of it can be had, and small pieces come in the order of
// their places while there is enough room.
func TestTakeNext(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 5))
		var f FreeRuns
		var free span.Set
		at := int64(0)
		for range 1 + r.IntN(300) {
			at += 1 + r.Int64N(50)
			sp := span.At(at, 1+r.Int64N(1+r.Int64N(200)))
			at = sp.End
			free.Add(sp)
			f.Add(sp)
		}
		total := free.Total()
		if r.IntN(2) == 0 && total > 10 {
			got, err := f.Take(10)
			if err != nil {
				t.Fatal(err)
			}
			total -= 10
			free = free.Subtract(span.Of(got...))
		}
		last, falls, takes := int64(0), 0, 0
		for total > 0 {
			n := min(total, 1+r.Int64N(1+r.Int64N(40)))
			got, err := f.TakeNext(n)
			if err != nil {
				t.Fatalf("seed %d: %v with %d free", seed, err, total)
			}
			sum := int64(0)
			for _, sp := range got {
				if !free.Covers(sp) {
					t.Fatalf("seed %d: %v isn't free", seed, sp)
				}
				free = free.Subtract(span.Of(sp))
				sum += sp.Len()
			}
			if sum != n {
				t.Fatalf("seed %d: %d of %d", seed, sum, n)
			}
			if total -= n; total > free.Bounds().End/4 {
				takes++
				if got[0].Start < last {
					falls++
				}
			}
			last = got[0].Start
		}
		if falls > takes/4+1 {
			t.Errorf("seed %d: %d of %d don't follow each other", seed, falls, takes)
		}
		if _, err := f.TakeNext(1); !errors.Is(err, ErrNoRoom) {
			t.Errorf("seed %d: %v", seed, err)
		}
	}
}
