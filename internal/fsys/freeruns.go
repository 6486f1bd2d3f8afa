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
	if len(f.h) == 0 {
		return 0
	}
	return f.h[0].Len()
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

// lookAhead is how many free stretches TakeNext passes over at the most until one is long enough.
const lookAhead = 64

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
			heap.Push(&f.h, sp)
		}
		f.line = f.line[i:]
		out := span.At(f.line[0].Start, n)
		if f.line[0].Start = out.End; f.line[0].Empty() {
			f.line = f.line[1:]
		}
		return []span.Span{out}, nil
	}
	if f.Longest() < n {
		for _, sp := range f.line {
			heap.Push(&f.h, sp)
		}
		f.line = []span.Span{}
	}
	return f.Take(n)
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
