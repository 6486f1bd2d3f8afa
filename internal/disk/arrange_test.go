package disk

import (
	"bytes"
	"io"
	"iter"
	"slices"
	"testing"

	"twinshelf/internal/span"
)

// named is a Memory whose pieces of 100 bytes have names.
type named struct{ *Memory }

func (n named) Pieces() iter.Seq2[Piece, error] {
	return func(yield func(Piece, error) bool) {
		for at := int64(0); at < n.Size(); at += 100 {
			if !yield(Piece{Span: span.At(at, 100), Kind: Data, Name: string(rune('a' + at/100))}, nil) {
				return
			}
		}
	}
}

func TestArranged(t *testing.T) {
	m := NewMemory(1000, 512)
	for i := range m.Bytes {
		m.Bytes[i] = byte(i/100 + 1)
	}
	a, err := Arrange(named{m}, 2000, []Move{
		{From: span.Span{Start: 300, End: 600}, To: 1500}, // after, whole pieces
		{From: span.Span{Start: 0, End: 200}, To: 0},
		{From: span.Span{Start: 650, End: 750}, To: 400}, // cut on both sides
	})
	if err != nil {
		t.Fatal(err)
	}
	want := make([]byte, 2000)
	copy(want, m.Bytes[:200])
	copy(want[400:], m.Bytes[650:750])
	copy(want[1500:], m.Bytes[300:600])
	for _, off := range []int64{0, 1, 150, 199, 200, 399, 400, 450, 499, 500, 1499, 1500, 1799, 1800, 1990} {
		for _, n := range []int{1, 7, 300, 2000} {
			got := bytes.Repeat([]byte{0xEE}, n)
			k, err := a.ReadAt(got, off)
			if wantN := min(n, int(2000-off)); k != wantN || (k < n) != (err == io.EOF) ||
				!bytes.Equal(got[:k], want[off:int(off)+k]) {
				t.Errorf("%d bytes at %d: %d %v", n, off, k, err)
			}
		}
	}
	type p struct {
		start, end int64
		kind       PieceKind
		name       string
	}
	var got []p
	for x, err := range a.Pieces() {
		if err != nil {
			t.Fatal(err)
		}
		got = append(got, p{x.Start, x.End, x.Kind, x.Name})
	}
	expect := []p{{0, 100, Data, "a"}, {100, 200, Data, "b"}, {200, 400, Undefined, ""}, {400, 450, Data, ""},
		{450, 500, Data, ""}, {500, 1500, Undefined, ""},
		{1500, 1600, Data, "d"}, {1600, 1700, Data, "e"}, {1700, 1800, Data, "f"}, {1800, 2000, Undefined, ""}}
	if len(got) != len(expect) {
		t.Fatalf("%v", got)
	}
	for i := range got {
		if got[i] != expect[i] {
			t.Errorf("piece %d is %v, want %v", i, got[i], expect[i])
		}
	}
	for _, c := range []struct {
		at   span.Span
		want []span.Span
	}{
		{span.Span{Start: 1550, End: 1560}, []span.Span{{Start: 350, End: 360}}},
		{span.Span{Start: 410, End: 480}, []span.Span{{Start: 660, End: 730}}},
		{span.Span{Start: 150, End: 420}, []span.Span{{Start: 150, End: 200}, {Start: 650, End: 670}}},
		{span.Span{Start: 250, End: 260}, nil}, {span.Span{Start: 1900, End: 1950}, nil},
	} {
		if got := slices.Collect(a.Sources(c.at)); !slices.Equal(got, c.want) {
			t.Errorf("%v comes from %v, want %v", c.at, got, c.want)
		}
	}
	for what, moves := range map[string][]Move{
		"overlap":    {{From: span.Span{End: 100}, To: 0}, {From: span.Span{End: 100}, To: 50}},
		"beyond":     {{From: span.Span{End: 100}, To: 1950}},
		"not there":  {{From: span.Span{Start: 950, End: 1050}, To: 0}},
		"before all": {{From: span.Span{Start: -10, End: 50}, To: 0}},
	} {
		if _, err := Arrange(m, 2000, moves); err == nil {
			t.Errorf("%s: taken", what)
		}
	}
}
