package fsys

import (
	"cmp"
	"container/heap"
	"errors"
	"slices"

	"twinshelf/internal/span"
)

// FreeRuns are free stretches, in the unit of whoever uses them, from which the longest are taken first: so what moves
// stays in as few pieces as can be.
type FreeRuns struct {
	h    runHeap
	line []span.Span // by place, of which TakeNext takes
	// searches is how often the line was searched.
	searches int
}

// ErrNoRoom means that too little is free.
var ErrNoRoom = errors.New("there isn't room for what lies beyond that")

// maxFreeRuns bounds what is known of what is free.
const maxFreeRuns = 1 << 20

// Add tells of a free stretch.
func (f *FreeRuns) Add(sp span.Span) {
	if !sp.Empty() && len(f.h) < maxFreeRuns {
		heap.Push(&f.h, sp)
	}
}

// Longest is the length of the longest stretch.
func (f *FreeRuns) Longest() int64 {
	n := int64(0)
	if len(f.h) > 0 {
		n = f.h[0].Len()
	}
	if len(f.line) > 0 {
		n = max(n, f.line[f.longest()].Len())
	}
	return n
}

// Take gives n units, in as few stretches as there are.
func (f *FreeRuns) Take(n int64) ([]span.Span, error) {
	var out []span.Span
	for n > 0 {
		if len(f.h) == 0 {
			return nil, ErrNoRoom
		}
		run := f.h[0]
		got := span.At(run.Start, min(n, run.Len()))
		if run.Start = got.End; run.Empty() {
			heap.Pop(&f.h)
		} else {
			f.h[0] = run
			heap.Fix(&f.h, 0)
		}
		out = append(out, got)
		n -= got.Len()
	}
	return out, nil
}

const (
	// lookAhead is how many free stretches TakeNext passes over at the most until one is long enough.
	lookAhead = 64
	// mostSearches is how often all of them are searched.
	mostSearches = 1 << 12
)

// TakeNext gives n units as Take does, and so that what is taken one after the other lies one after the other, too, as
// far as free stretches that are long enough follow each other.
func (f *FreeRuns) TakeNext(n int64) ([]span.Span, error) {
	if f.line == nil {
		f.line, f.h = append([]span.Span{}, f.h...), nil
		slices.SortFunc(f.line, func(a, b span.Span) int { return cmp.Compare(a.Start, b.Start) })
	}
	for i := range f.line[:min(len(f.line), lookAhead)] {
		if f.line[i].Len() < n {
			continue
		}
		for _, sp := range f.line[:i] { // too short for this one; others may fit
			f.Add(sp)
		}
		f.line = f.line[i:]
		return f.cut(0, n), nil
	}
	if len(f.h) > 0 && f.h[0].Len() >= n || len(f.line) == 0 {
		return f.Take(n)
	}
	if f.searches++; f.searches <= mostSearches {
		if i := f.longest(); f.line[i].Len() >= n {
			return f.cut(i, n), nil
		}
	}
	for _, sp := range f.line { // in pieces, of the longest there are
		f.Add(sp)
	}
	f.line = []span.Span{}
	return f.Take(n)
}

// cut takes n units off a stretch of the line that has as many.
func (f *FreeRuns) cut(i int, n int64) []span.Span {
	out := span.At(f.line[i].Start, n)
	f.line[i].Start = out.End
	return []span.Span{out}
}

// longest is the longest stretch of the line, which isn't empty.
func (f *FreeRuns) longest() int {
	best := 0
	for i, sp := range f.line {
		if sp.Len() > f.line[best].Len() {
			best = i
		}
	}
	return best
}

type runHeap []span.Span

func (h runHeap) Len() int { return len(h) }
func (h runHeap) Less(i, j int) bool {
	if h[i].Len() != h[j].Len() {
		return h[i].Len() > h[j].Len()
	}
	return h[i].Start < h[j].Start
}
func (h runHeap) Swap(i, j int) { h[i], h[j] = h[j], h[i] }
func (h *runHeap) Push(x any)   { *h = append(*h, x.(span.Span)) }
func (h *runHeap) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}

// Cant is the reason in words why a volume can't become so small.
type Cant struct{ Why string }

func (c *Cant) Error() string { return c.Why }
