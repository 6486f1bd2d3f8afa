package span

import (
	"encoding/json"
	"math/rand/v2"
	"testing"
)

func TestAddMergesWhatTouches(t *testing.T) {
	for _, c := range []struct {
		name     string
		in, want []Span
	}{
		{"empty", nil, nil},
		{"ascending apart", []Span{{0, 2}, {4, 6}}, []Span{{0, 2}, {4, 6}}},
		{"touching", []Span{{0, 2}, {2, 6}}, []Span{{0, 6}}},
		{"bridge", []Span{{0, 2}, {8, 9}, {1, 8}}, []Span{{0, 9}}},
		{"in front", []Span{{8, 9}, {0, 2}}, []Span{{0, 2}, {8, 9}}},
		{"inside", []Span{{0, 9}, {3, 4}}, []Span{{0, 9}}},
		{"reversed is nothing", []Span{{5, 3}}, nil},
	} {
		if got := Of(c.in...); !got.Equal(Set{spans: c.want}) {
			t.Errorf("%s: %v, want %v", c.name, got.spans, c.want)
		}
	}
}

// model is a set of small numbers, to check the operations against.
type model [64]bool

func random(r *rand.Rand) (Set, model) {
	var s Set
	var m model
	for range r.IntN(8) {
		a, b := r.Int64N(64), r.Int64N(65)
		s.Add(Span{a, b})
		for i := a; i < b; i++ {
			m[i] = true
		}
	}
	return s, m
}

func TestOperationsAgainstModel(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 5000 {
		a, ma := random(r)
		b, mb := random(r)
		lo, hi := r.Int64N(64), r.Int64N(65)
		check := func(name string, got Set, want func(i int64) bool) {
			t.Helper()
			for i := range int64(64) {
				if got.Covers(Span{i, i + 1}) != want(i) {
					t.Fatalf("%s of %v and %v is %v: wrong at %d", name, a.spans, b.spans, got.spans, i)
				}
			}
			for i := 1; i < len(got.spans); i++ {
				if got.spans[i].Start <= got.spans[i-1].End {
					t.Fatalf("%s: %v is not in normal form", name, got.spans)
				}
			}
		}
		check("union", a.Union(b), func(i int64) bool { return ma[i] || mb[i] })
		check("intersection", a.Intersect(b), func(i int64) bool { return ma[i] && mb[i] })
		check("difference", a.Subtract(b), func(i int64) bool { return ma[i] && !mb[i] })
		check("clip", a.Clip(Span{lo, hi}), func(i int64) bool { return ma[i] && i >= lo && i < hi })
		check("complement", a.Complement(Span{0, 64}), func(i int64) bool { return !ma[i] })
		check("shift", a.Shift(100).Shift(-100), func(i int64) bool { return ma[i] })
		if got, want := a.Overlaps(Span{lo, hi}), !a.Clip(Span{lo, hi}).Empty(); got != want {
			t.Fatalf("overlaps %v %v: %v", a.spans, Span{lo, hi}, got)
		}
	}
}

func TestJSON(t *testing.T) {
	s := Of(Span{1, 2}, Span{5, 9})
	b, err := json.Marshal(s)
	if err != nil || string(b) != "[[1,2],[5,9]]" {
		t.Fatalf("%s %v", b, err)
	}
	var back Set
	if err := json.Unmarshal(b, &back); err != nil || !back.Equal(s) || back.Total() != 5 {
		t.Fatalf("%v %v", back, err)
	}
	for _, bad := range []string{"[[2,1]]", "[[-1,4]]", "{}"} {
		if json.Unmarshal([]byte(bad), &back) == nil {
			t.Errorf("%s was taken", bad)
		}
	}
}

// TestACopyIsItsOwn: adding to a copy of a set changes only the copy, wherever it is added.
func TestACopyIsItsOwn(t *testing.T) {
	for _, add := range []Span{At(100, 1), At(41, 3), At(12, 2), At(200, 1)} {
		var a Set
		for i := range int64(5) {
			a.Add(At(i*10, 1))
		}
		b, before := a, a.Shift(0)
		a.Add(At(300, 1))
		b.Add(add)
		want := before.Shift(0)
		want.Add(At(300, 1))
		if !a.Equal(want) || !b.Covers(add) || b.Covers(At(300, 1)) {
			t.Errorf("after %s: %v and %v", add, a, b)
		}
	}
}
