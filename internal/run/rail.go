package run

import (
	"iter"

	"twinshelf/internal/span"
)

// Cells is the number of cells of a rail's progress.
const Cells = 512

// Cell says how far the work on a stretch of a disk is.
type Cell uint8

const (
	ToCome Cell = iota // it is still to come
	Idle               // there is nothing to do here
	Busy               // it is being dealt with now
	Finished
	Doubtful   // it is left for later: something near it can't be read
	Unreadable // or can't be written
)

// weight says which of two states a cell shows that has both: the one that matters more to whoever looks at it.
var weight = [...]int{Idle: 0, Finished: 1, Busy: 2, ToCome: 3, Doubtful: 4, Unreadable: 5}

// rail is the progress over one disk, in Cells equal stretches.
type rail struct {
	size  int64 // bytes; 0 when it isn't followed
	cells [Cells]Cell
	at    int // the cell that was marked last; -1 for none
}

func newRail(size int64) rail { return rail{size: size, at: -1} }

// expecting is a rail of a size on which there is something to do in some places only.
func expecting(size int64, where iter.Seq[span.Span]) rail {
	r := newRail(size)
	for i := range r.cells {
		r.cells[i] = Idle
	}
	for sp := range where {
		r.mark(sp, ToCome)
	}
	r.at = -1
	return r
}

func (r *rail) mark(sp span.Span, c Cell) {
	if sp = sp.Intersect(span.Span{End: r.size}); sp.Empty() {
		return
	}
	first, last := cellOf(sp.Start, r.size), cellOf(max(sp.Start, sp.End-1), r.size)
	for i := first; i <= last; i++ {
		if r.cells[i] != Unreadable {
			r.cells[i] = c
		}
	}
	r.at = last
}

// shown is a copy of the cells for a run in a state; nil when the rail isn't followed.
func (r *rail) shown(s State) []Cell {
	if r.size <= 0 {
		return nil
	}
	out := make([]Cell, Cells)
	copy(out, r.cells[:])
	switch {
	case s == Done: // nothing comes any more
		for i, c := range out {
			if c == ToCome {
				out[i] = Idle
			}
		}
	case (s == Running || s == Paused) && r.at >= 0 && out[r.at] == Finished:
		out[r.at] = Busy
	}
	return out
}

func cellOf(off, size int64) int {
	return min(Cells-1, int(float64(off)/float64(size)*Cells))
}

// Rails sets the sizes in bytes of the disks whose progress is followed; 0 for none.
func (c *Context) Rails(read, written int64) {
	c.r.mu.Lock()
	defer c.r.mu.Unlock()
	c.r.read, c.r.wr = newRail(read), newRail(written)
	c.r.snap.RailNo++
}

// ExpectRead says which stretches of the source will be read: the others count as having nothing to do.
func (c *Context) ExpectRead(where iter.Seq[span.Span]) { c.r.expect(&c.r.read, where) }

// ExpectWritten is ExpectRead for the target.
func (c *Context) ExpectWritten(where iter.Seq[span.Span]) { c.r.expect(&c.r.wr, where) }

// expect goes through the stretches without holding up whoever asks for a snapshot.
func (r *Run) expect(on *rail, where iter.Seq[span.Span]) {
	r.mu.Lock()
	size := on.size
	r.mu.Unlock()
	expected := expecting(size, where)
	r.mu.Lock()
	defer r.mu.Unlock()
	*on = expected
}

// ShowRead says how far all of the source is. What isn't named has nothing to do.
func (c *Context) ShowRead(where iter.Seq2[span.Span, Cell]) {
	c.r.mu.Lock()
	size := c.r.read.size
	c.r.mu.Unlock()
	shown := newRail(size)
	for i := range shown.cells {
		shown.cells[i] = Idle
	}
	for sp, cell := range where {
		if sp = sp.Intersect(span.Span{End: size}); sp.Empty() {
			continue
		}
		for i := cellOf(sp.Start, size); i <= cellOf(sp.End-1, size); i++ {
			if weight[cell] > weight[shown.cells[i]] {
				shown.cells[i] = cell
			}
		}
	}
	c.r.mu.Lock()
	defer c.r.mu.Unlock()
	shown.at = c.r.read.at
	c.r.read = shown
}

// MarkRead notes that a stretch of the source was dealt with.
func (c *Context) MarkRead(sp span.Span, state Cell) {
	c.r.mu.Lock()
	defer c.r.mu.Unlock()
	if c.r.read.mark(sp, state); state == Unreadable {
		c.r.missed(sp.Len())
	}
}

// MarkWritten notes that a stretch of the target was dealt with.
func (c *Context) MarkWritten(sp span.Span, state Cell) {
	c.r.mu.Lock()
	defer c.r.mu.Unlock()
	if c.r.wr.mark(sp, state); state == Unreadable {
		c.r.missed(sp.Len())
	}
}
