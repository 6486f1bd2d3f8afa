package fsys

import (
	"cmp"
	"errors"
	"math/rand/v2"
	"slices"
	"testing"

	"twinshelf/internal/span"
)

// placed is a piece of a stray at its new place.
type placed struct{ from, to, n int64 }

// place places strays, and checks that everything is placed once, where it was free.
func place(t *testing.T, f *FreeRuns, free span.Set, strays []Stray, long int64) (out []placed) {
	t.Helper()
	total, came, filled := int64(0), map[int64]bool{}, map[int64]bool{}
	for _, s := range strays {
		total += s.Len()
	}
	err := f.Place(strays, long, func(from, to, n int64) error {
		within := func(s Stray) bool { return s.Covers(span.At(from, n)) }
		if !slices.ContainsFunc(strays, within) || !free.Covers(span.At(to, n)) {
			t.Fatalf("%d at %d to %d", n, from, to)
		}
		for i := range n {
			if came[from+i] || filled[to+i] {
				t.Fatalf("%d at %d to %d, twice", n, from, to)
			}
			came[from+i], filled[to+i] = true, true
		}
		total -= n
		out = append(out, placed{from, to, n})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if total != 0 {
		t.Errorf("%d weren't placed", total)
	}
	return out
}

// TestPlaceKeepsOrder: on a volume whose groups have many small holes and a long one each, what moves lies in its order
// afterwards, so that it is read in it, and long files come in one piece.
func TestPlaceKeepsOrder(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 2))
	var f FreeRuns
	var free span.Set
	for g := range int64(40) {
		for i := range int64(300) {
			free.Add(span.At(g*10_000+2*i, 1))
		}
		free.Add(span.At(g*10_000+1000, 3000))
	}
	for sp := range free.All() {
		f.Add(sp)
	}
	var strays []Stray
	for at, left := int64(1_000_000), int64(60_000); left > 0; {
		sp := span.At(at, 1+r.Int64N(8))
		if len(strays) == 5000 {
			sp = span.At(at, 2500)
		}
		strays = append(strays, Stray{Span: sp})
		left -= sp.Len()
		at = sp.End + r.Int64N(3)
	}
	r.Shuffle(len(strays), func(i, j int) { strays[i], strays[j] = strays[j], strays[i] })
	got := place(t, &f, free, strays, 2000)
	if got[0].n != 2500 {
		t.Errorf("the long one is in pieces: %v", got[0])
	}
	slices.SortFunc(got, func(a, b placed) int { return cmp.Compare(a.to, b.to) })
	falls := 0
	for i := range got[1:] {
		if got[i+1].from < got[i].from {
			falls++
		}
	}
	if falls > 5 {
		t.Errorf("%d of %d pieces go back", falls, len(got))
	}
}

// TestPlaceFillsAll: all that is free can be had, the volume's own comes first, and what has no room is refused.
func TestPlaceFillsAll(t *testing.T) {
	var f FreeRuns
	free := span.Of(span.At(0, 5), span.At(10, 1), span.At(20, 7), span.At(30, 2))
	for sp := range free.All() {
		f.Add(sp)
	}
	strays := []Stray{{Span: span.At(100, 6)}, {Span: span.At(110, 2)}, {Span: span.At(120, 7), Own: true}}
	got := place(t, &f, free, strays, 4)
	if got[0] != (placed{120, 20, 7}) || got[1] != (placed{100, 0, 5}) {
		t.Errorf("%v", got)
	}
	err := f.Place([]Stray{{Span: span.At(200, 1)}}, 4, func(int64, int64, int64) error { return nil })
	if cant := (*Cant)(nil); !errors.As(err, &cant) {
		t.Errorf("without room: %v", err)
	}
}
