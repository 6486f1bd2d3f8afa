package fsys

import (
	"cmp"
	"errors"
	"slices"

	"twinshelf/internal/span"
)

// FreeRuns are free stretches, in the unit of whoever uses them: what moves shall stay in as few pieces as can be, and
// lie in its order.
type FreeRuns struct {
	runs []span.Span // by place, once something was taken
	// most has how long the longest run is below each node of a binary tree: node 1 is the root, those below node i are
	// 2i and 2i+1, and the second half are the runs themselves. nil before something was taken.
	most []int64
	next int // the run from which TakeNext goes on
}

// ErrNoRoom means that too little is free.
var ErrNoRoom = errors.New("there isn't room for what lies beyond that")

// maxFreeRuns bounds what is known of what is free.
const maxFreeRuns = 1 << 20

// Add tells of a free stretch. All are told before anything is taken.
func (f *FreeRuns) Add(sp span.Span) {
	if !sp.Empty() && len(f.runs) < maxFreeRuns {
		f.runs, f.most = append(f.runs, sp), nil
	}
}

// plant makes the tree.
func (f *FreeRuns) plant() {
	if f.most != nil {
		return
	}
	slices.SortFunc(f.runs, func(a, b span.Span) int { return cmp.Compare(a.Start, b.Start) })
	leaves := 1
	for leaves < len(f.runs) {
		leaves *= 2
	}
	f.most, f.next = make([]int64, 2*leaves), 0
	for i, sp := range f.runs {
		f.most[leaves+i] = sp.Len()
	}
	for i := leaves - 1; i > 0; i-- {
		f.most[i] = max(f.most[2*i], f.most[2*i+1])
	}
}

// Longest is the length of the longest stretch.
func (f *FreeRuns) Longest() int64 {
	f.plant()
	return f.most[1]
}

// Take gives n units, in as few stretches as there are.
func (f *FreeRuns) Take(n int64) (out []span.Span, err error) {
	for n > 0 {
		longest := f.Longest()
		if longest == 0 {
			return nil, ErrNoRoom
		}
		sp := f.cut(f.fit(0, min(n, longest)), min(n, longest))
		out = append(out, sp)
		n -= sp.Len()
	}
	return out, nil
}

// TakeNext gives n units in one stretch, the next one that is long enough after what was taken before, so that what is
// taken one after the other lies one after the other, too; where none is long enough, as Take does.
func (f *FreeRuns) TakeNext(n int64) ([]span.Span, error) {
	if n <= 0 || f.Longest() < n {
		return f.Take(n)
	}
	i := f.fit(f.next, n)
	if i < 0 {
		i = f.fit(0, n)
	}
	f.next = i
	return []span.Span{f.cut(i, n)}, nil
}

// fit is the first run from one on that has n units, -1 where none has.
func (f *FreeRuns) fit(from int, n int64) int {
	leaves := len(f.most) / 2
	i := leaves + from
	for f.most[i] < n {
		for i%2 == 1 { // all below the node above has been looked at
			i /= 2
		}
		if i == 0 {
			return -1
		}
		i++
	}
	for i < leaves {
		if i *= 2; f.most[i] < n {
			i++
		}
	}
	return i - leaves
}

// cut takes n units off a run that has as many.
func (f *FreeRuns) cut(i int, n int64) span.Span {
	out := span.At(f.runs[i].Start, n)
	f.runs[i].Start = out.End
	node := len(f.most)/2 + i
	f.most[node] -= n
	for node /= 2; node > 0; node /= 2 {
		f.most[node] = max(f.most[2*node], f.most[2*node+1])
	}
	return out
}

// Cant is the reason in words why a volume can't become so small.
type Cant struct{ Why string }

func (c *Cant) Error() string { return c.Why }
