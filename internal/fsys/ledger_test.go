package fsys

import (
	"context"
	"errors"
	"iter"
	"math/rand/v2"
	"strings"
	"testing"

	"twinshelf/internal/span"
)

// holding is a volume of which some stretches are named, and some kept.
type holding struct {
	grid  Grid
	named []span.Span
	fail  error
}

func (h holding) Info() Info {
	return Info{Kind: "held", Size: h.grid.Start + h.grid.Count*h.grid.Unit}
}

func (h holding) Used() iter.Seq2[span.Span, error] { return nil }

func (h holding) Grid() Grid { return h.grid }

func (h holding) Account(_ context.Context, l *Ledger) error {
	for i, sp := range h.named {
		if err := l.Own(sp, Owner{"file", int64(i)}); err != nil {
			return err
		}
	}
	return h.fail
}

func each(spans ...span.Span) iter.Seq2[span.Span, error] {
	return func(yield func(span.Span, error) bool) {
		for _, sp := range spans {
			if !yield(sp, nil) {
				return
			}
		}
	}
}

func TestCheckKept(t *testing.T) {
	g := Grid{Start: 1000, Unit: 512, Count: 100}
	at := func(unit, n int64) span.Span { return span.At(1000+unit*512, n*512) }
	torn := errors.New("torn")
	for _, c := range []struct {
		name  string
		v     holding
		kept  []span.Span
		says  string // "" for nothing wrong
		owner int64
	}{
		{"all kept", holding{grid: g, named: []span.Span{at(0, 3), at(50, 50)}},
			[]span.Span{at(0, 3), at(40, 60)}, "", 0},
		{"in one piece with what stands before", holding{grid: g, named: []span.Span{at(0, 3)}},
			[]span.Span{{End: 1000 + 3*512}}, "", 0},
		{"one unit short", holding{grid: g, named: []span.Span{at(7, 1), at(0, 3)}}, []span.Span{at(0, 2), at(7, 1)},
			"calls free", 1},
		{"nothing kept", holding{grid: g, named: []span.Span{at(99, 1)}}, nil, "calls free", 0},
		{"only a part of a unit", holding{grid: g, named: []span.Span{at(5, 1)}},
			[]span.Span{{Start: at(5, 1).Start, End: at(5, 1).End - 1}}, "calls free", 0},
		{"named twice", holding{grid: g, named: []span.Span{at(0, 3), at(2, 1)}}, []span.Span{at(0, 100)},
			"something else names too", 0},
		{"beyond the end", holding{grid: g, named: []span.Span{at(99, 2)}}, []span.Span{at(0, 100)},
			"beyond the end", 0},
		{"before the grid", holding{grid: g, named: []span.Span{{End: 900}}}, nil, "", 0},
		{"records that can't be read", holding{grid: g, fail: torn}, nil, "torn", 0},
	} {
		err := CheckKept(context.Background(), c.v, each(c.kept...))
		if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", c.name, err)
		}
		var lost *NotKept
		if c.says == "calls free" && (!errors.As(err, &lost) || lost.Owner.Number != c.owner) {
			t.Errorf("%s: owner %+v", c.name, lost)
		}
	}
}

// TestWindows: a volume of more units than one window has is gone through in several, and a place in any of them is
// found.
func TestWindows(t *testing.T) {
	g := Grid{Unit: 1, Count: 2*ledgerWindow + 1000}
	for _, unit := range []int64{5, ledgerWindow - 1, ledgerWindow, 2*ledgerWindow + 999} {
		v := holding{grid: g, named: []span.Span{span.At(0, 3), span.At(unit, 1)}}
		if err := CheckKept(context.Background(), v, each(span.Span{End: g.Count})); err != nil {
			t.Errorf("unit %d, all kept: %v", unit, err)
		}
		kept := []span.Span{{End: unit}, {Start: unit + 1, End: g.Count}}
		if kept[1].Empty() {
			kept = kept[:1]
		}
		var lost *NotKept
		if err := CheckKept(context.Background(), v, each(kept...)); !errors.As(err, &lost) || lost.At != unit {
			t.Errorf("unit %d: %v", unit, err)
		}
	}
}

// TestUnitSet compares the set with a plain one.
func TestUnitSet(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	const n = 3 * pageUnits
	for range 20 {
		s := make(unitSet, 3)
		plain := make([]bool, n)
		for range 40 {
			sp := span.At(r.Int64N(n-300), r.Int64N(300))
			s.add(sp)
			for u := sp.Start; u < sp.End; u++ {
				plain[u] = true
			}
		}
		for range 200 {
			sp := span.At(r.Int64N(n-5000), r.Int64N(5000))
			want, found := int64(0), false
			for u := sp.Start; u < sp.End && !found; u++ {
				want, found = u, plain[u]
			}
			if got, ok := s.first(sp); ok != found || ok && got != want {
				t.Fatalf("%s: %d %v instead of %d %v", sp, got, ok, want, found)
			}
		}
	}
}

// TestBeyond: what is named beside what is kept is what a set of units says, whatever the stretches are.
func TestBeyond(t *testing.T) {
	rng := rand.New(rand.NewPCG(16, 28))
	for range 400 {
		g := Grid{Start: 512 * rng.Int64N(3), Unit: 512, Count: 1 + rng.Int64N(300)}
		end := g.Start + g.Count*g.Unit
		some := func(most int) (out span.Set) {
			for range rng.IntN(most) {
				at := g.Start + rng.Int64N(g.Count)*g.Unit
				out.Add(span.Span{Start: at, End: min(end, at+(1+rng.Int64N(40))*g.Unit)})
			}
			return out
		}
		named, kept := some(12), some(12)
		name := func(l *Ledger) error {
			for sp := range named.All() {
				if err := l.Need(sp, Owner{Kind: "the log"}); err != nil {
					return err
				}
			}
			return nil
		}
		var stretches []span.Span
		for sp := range kept.All() {
			stretches = append(stretches, sp)
		}
		got, err := Beyond(g, name, each(stretches...), 1000)
		if want := named.Subtract(kept); err != nil || !got.Equal(want) {
			t.Fatalf("%+v: named %v, kept %v: %v instead of %v (%v)", g, named, kept, got, want, err)
		}
	}
}

// TestBeyondHasBounds: too many stretches, names beyond the end and what can't be read end it with an error.
func TestBeyondHasBounds(t *testing.T) {
	g := Grid{Unit: 512, Count: 1000}
	scattered := func(l *Ledger) error {
		for i := range int64(100) {
			if err := l.Need(span.At(i*1024, 512), Owner{"file record", i}); err != nil {
				return err
			}
		}
		return nil
	}
	if got, err := Beyond(g, scattered, each(), 100); err != nil || got.Total() != 100*512 {
		t.Errorf("%v (%v)", got, err)
	}
	if _, err := Beyond(g, scattered, each(), 99); err == nil || !strings.Contains(err.Error(), "more than 99") {
		t.Errorf("one too many: %v", err)
	}
	outside := func(l *Ledger) error { return l.Need(span.At(999*512, 1024), Owner{"file record", 7}) }
	if _, err := Beyond(g, outside, each(), 9); err == nil || !strings.Contains(err.Error(), "file record 7") {
		t.Errorf("beyond the end: %v", err)
	}
	torn := errors.New("torn")
	broken := func(yield func(span.Span, error) bool) {
		_ = yield(span.At(0, 512), nil) && yield(span.Span{}, torn)
	}
	if _, err := Beyond(g, scattered, broken, 1000); !errors.Is(err, torn) {
		t.Errorf("what is kept can't be read: %v", err)
	}
}
