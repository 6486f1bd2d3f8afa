package prove

import (
	"bytes"
	"math/rand/v2"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
)

// TestDiffering: what differs and matters is found to the step, and nothing else is.
func TestDiffering(t *testing.T) {
	r := rand.New(rand.NewPCG(12, 1))
	const base, size = int64(7 * compareStep), 40 * compareStep
	for range 300 {
		want := make([]byte, size)
		for i := range want {
			want[i] = byte(r.Uint32())
		}
		have := bytes.Clone(want)
		var matters span.Set
		for range r.IntN(6) {
			matters.Add(span.At(base+r.Int64N(size), r.Int64N(5*compareStep)))
		}
		matters = matters.Clip(span.At(base, size))
		hit := map[int64]bool{}
		for range r.IntN(8) {
			at := r.Int64N(size)
			if r.IntN(2) == 0 { // where steps begin and end
				at = min(size-1, max(0, at/compareStep*compareStep-int64(r.IntN(2))))
			}
			have[at] ^= 1 << r.IntN(8)
			hit[base+at] = have[at] != want[at]
		}
		got := differing(want, have, base, matters)
		for at, differs := range hit {
			counts := differs && matters.Covers(span.At(at, 1))
			if counts != got.Covers(span.At(at, 1)) && (counts || noneNear(hit, matters, at)) {
				t.Fatalf("byte %d: matters %v, found %v", at, matters, got)
			}
		}
		for sp := range got.All() {
			if !matters.Covers(sp) {
				t.Fatalf("%v doesn't matter", sp)
			}
		}
	}
}

// noneNear says that no byte that differs and matters lies in the same step as at.
func noneNear(hit map[int64]bool, matters span.Set, at int64) bool {
	for other, differs := range hit {
		if differs && other/compareStep == at/compareStep && matters.Covers(span.At(other, 1)) {
			return false
		}
	}
	return true
}

func TestAreaKeepsTheFirstReason(t *testing.T) {
	var a area
	a.add(span.At(0, 100), verdict{})
	a.add(span.At(100, 100), verdict{bad: "it can't be read"})
	a.add(span.At(200, 100), verdict{bad: "the bytes differ", where: span.Of(span.At(250, 10))})
	if a.bytes != 300 || a.blocks != 3 || a.reason != "it can't be read" {
		t.Errorf("%d bytes in %d blocks: %q", a.bytes, a.blocks, a.reason)
	}
	if want := span.Of(span.At(100, 100), span.At(250, 10)); !a.bad.Equal(want) {
		t.Errorf("%v is bad, want %v", a.bad, want)
	}
}

func TestWhereNames(t *testing.T) {
	gap := shelf.Region{}
	part := shelf.Region{Part: 3, Kind: "NTFS", Name: "Ticket desk"}
	if got := where(1, 0, gap); got != "between the parts" {
		t.Error(got)
	}
	if got := where(2, 1, part); !strings.HasPrefix(got, "disk 2, part 3, ") || !strings.Contains(got, "NTFS") {
		t.Error(got)
	}
	if got := where(1, 0, part); strings.Contains(got, "disk") {
		t.Error(got)
	}
}

// TestMoved: what of a stretch lies in a move goes with it; a stretch that no move touches goes nowhere.
func TestMoved(t *testing.T) {
	moves := []disk.Move{{From: span.At(0, 100), To: 0}, {From: span.At(200, 100), To: 1200}}
	for _, c := range []struct{ from, to span.Span }{
		{span.At(0, 50), span.At(0, 50)},
		{span.At(210, 20), span.At(1210, 20)},
		{span.At(250, 100), span.At(1250, 50)},
		{span.At(120, 20), span.Span{}},
	} {
		if got := moved(c.from, moves); got != c.to {
			t.Errorf("%v goes to %v, want %v", c.from, got, c.to)
		}
	}
}
