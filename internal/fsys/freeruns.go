package fsys

import (
	"container/heap"
	"errors"

	"twinshelf/internal/span"
)

// FreeRuns are free stretches, in the unit of whoever uses them, from which the longest are taken first: so what moves
// stays in as few pieces as can be.
type FreeRuns struct{ h runHeap }

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
