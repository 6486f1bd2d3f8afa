// Package careful reads dying drives: it knows for every sector whether it was got and how often it was tried, in which
// order sectors are tried, and how to read from a drive that hangs, needs rest, or vanishes and comes back.
package careful

import (
	"encoding/binary"
	"errors"
	"fmt"
	"iter"
	"slices"

	"twinshelf/internal/span"
)

// State says what is known of a sector.
type State uint8

const (
	// Untouched sectors were never asked for.
	Untouched State = 0
	// Doubtful ones lie in a read that failed, or near one: which of them can't be read isn't known.
	Doubtful State = 1
	// From Tried on they were tried on their own, once or more often.
	Tried State = 2
	// Got is for what was read.
	Got State = 255

	mostTries = Got - 1
)

// Tries is how often a sector was tried on its own without success.
func (s State) Tries() int {
	if s == Got || s < Tried {
		return 0
	}
	return int(s-Tried) + 1
}

// failedAgain is the state of a sector that failed on its own.
func (s State) failedAgain() State {
	if s == Got {
		return s
	}
	return min(mostTries, max(Tried, s+1))
}

// chunkSectors is how many sectors a chunk of States has: one that is in use takes a byte for each, the others lie
// packed.
const chunkSectors = 1 << 17

// States are the states of all sectors of a disk. They stay small however many sectors are bad: runs of equal states
// are packed, chunk by chunk.
type States struct {
	sector int64 // bytes
	size   int64 // bytes of the disk
	packed [][]byte
	got    []int32 // sectors of each chunk
	total  int64   // sectors that are got
	hot    int     // the chunk in open; -1 for none
	open   []State
	dirty  bool
}

// NewStates are those of a disk of size bytes that nobody has read.
func NewStates(size int64, sector int) *States {
	n := (size/int64(sector) + chunkSectors - 1) / chunkSectors
	return &States{sector: int64(sector), size: size, packed: make([][]byte, n), got: make([]int32, n), hot: -1,
		open: make([]State, chunkSectors)}
}

// Sector is the size of a sector in bytes.
func (s *States) Sector() int64 { return s.sector }

// Got is how many bytes of the disk were got.
func (s *States) Got() int64 { return s.total * s.sector }

// lenOf is how many sectors a chunk has.
func (s *States) lenOf(chunk int) int {
	return int(min(chunkSectors, s.size/s.sector-int64(chunk)*chunkSectors))
}

// use opens a chunk.
func (s *States) use(chunk int) []State {
	n := s.lenOf(chunk)
	if s.hot == chunk {
		return s.open[:n]
	}
	s.settle()
	s.hot = chunk
	unpack(s.packed[chunk], s.open[:n])
	return s.open[:n]
}

// settle packs the open chunk.
func (s *States) settle() {
	if s.hot >= 0 && s.dirty {
		s.packed[s.hot] = pack(s.open[:s.lenOf(s.hot)])
	}
	s.hot, s.dirty = -1, false
}

// pack writes runs of equal states: a length and a state each; nothing for a chunk that is untouched.
func pack(states []State) []byte {
	var b []byte
	for i := 0; i < len(states); {
		j := i + 1
		for j < len(states) && states[j] == states[i] {
			j++
		}
		b = binary.AppendUvarint(b, uint64(j-i))
		b = append(b, byte(states[i]))
		i = j
	}
	if n, k := binary.Uvarint(b); int(n) == len(states) && State(b[k]) == Untouched {
		return nil
	}
	return slices.Clip(slices.Clone(b)) // without what it was grown by
}

// unpack reads what pack wrote; what is missing is untouched.
func unpack(b []byte, out []State) {
	at := 0
	for n, s := range runsOf(b) {
		for i := range min(n, len(out)-at) {
			out[at+i] = s
		}
		at += min(n, len(out)-at)
	}
	clear(out[at:])
}

// runsOf gives the runs of a packed chunk: how many sectors, and their state.
func runsOf(b []byte) iter.Seq2[int, State] {
	return func(yield func(int, State) bool) {
		for len(b) > 0 {
			n, k := binary.Uvarint(b)
			if k <= 0 || k >= len(b) || n == 0 || n > chunkSectors || !yield(int(n), State(b[k])) {
				return
			}
			b = b[k+1:]
		}
	}
}

// change gives every sector of a stretch a state made of the one that it has. The stretch is widened to whole sectors.
func (s *States) change(sp span.Span, to func(State) State) {
	first := max(0, sp.Start) / s.sector
	last := (min(sp.End, s.size) + s.sector - 1) / s.sector
	for at := first; at < last; {
		chunk := int(at / chunkSectors)
		states := s.use(chunk)
		base := int64(chunk) * chunkSectors
		end := min(last, base+int64(len(states)))
		for i := at - base; i < end-base; i++ {
			was, is := states[i], to(states[i])
			if was == is {
				continue
			}
			states[i], s.dirty = is, true
			if is == Got {
				s.got[chunk]++
				s.total++
			} else if was == Got {
				s.got[chunk]--
				s.total--
			}
		}
		at = end
	}
}

// MarkGot notes that a stretch was read.
func (s *States) MarkGot(sp span.Span) { s.change(sp, func(State) State { return Got }) }

// MarkFailed notes that a stretch, a sector mostly, was tried on its own and failed.
func (s *States) MarkFailed(sp span.Span) { s.change(sp, State.failedAgain) }

// MarkDoubtful notes that a stretch is in a bad neighbourhood.
func (s *States) MarkDoubtful(sp span.Span) {
	s.change(sp, func(was State) State { return max(was, Doubtful) })
}

// Forget makes what was got be untouched again.
func (s *States) Forget(sp span.Span) { s.change(sp, func(State) State { return Untouched }) }

// Run is a stretch of sectors of one state.
type Run struct {
	span.Span
	State State
}

// Runs yields what sp is made of, in order; sp is widened to whole sectors. States may be changed meanwhile; a run that
// was given stays as it was, what comes later is as it is by then.
func (s *States) Runs(sp span.Span) iter.Seq[Run] {
	return func(yield func(Run) bool) {
		at := max(0, sp.Start) / s.sector
		last := (min(sp.End, s.size) + s.sector - 1) / s.sector
		var pending Run
		for at < last {
			stop, state := s.runAt(at, last)
			r := Run{span.Span{Start: at * s.sector, End: stop * s.sector}, state}
			at = stop
			if state == pending.State && r.Start == pending.End {
				pending.End = r.End
				continue
			}
			if !pending.Empty() && !yield(pending) {
				return
			}
			pending = r
		}
		if !pending.Empty() {
			yield(pending)
		}
	}
}

// runAt is the run that begins at a sector: its end, within the chunk and not after last, and its state.
func (s *States) runAt(at, last int64) (stop int64, state State) {
	chunk := int(at / chunkSectors)
	base := int64(chunk) * chunkSectors
	n := int64(s.lenOf(chunk))
	last = min(last, base+n)
	if chunk != s.hot {
		if b := s.packed[chunk]; b == nil {
			return last, Untouched
		} else if length, k := binary.Uvarint(b); int64(length) == n && k+1 == len(b) {
			return last, State(b[k])
		}
	}
	states := s.use(chunk)
	state = states[at-base]
	for at++; at < last && states[at-base] == state; at++ {
	}
	return at, state
}

// HasGot says whether all of a stretch was got.
func (s *States) HasGot(sp span.Span) bool {
	for r := range s.Runs(sp) {
		if r.State != Got {
			return false
		}
	}
	return true
}

// ErrStates means that packed states can't be read.
var ErrStates = errors.New("the record of what was tried can't be read")

// Pack gives the states of chunks from the given one on, in about most bytes, and the chunk after them; done when there
// is none. A disk without a bad sector packs to a few bytes for every chunk.
func (s *States) Pack(from, most int) (b []byte, next int) {
	s.settle()
	for next = from; next < len(s.packed) && len(b) < most; next++ {
		b = binary.AppendUvarint(b, uint64(len(s.packed[next])))
		b = append(b, s.packed[next]...)
	}
	return b, next
}

// Chunks is how many chunks there are.
func (s *States) Chunks() int { return len(s.packed) }

// Unpack takes what Pack gave for chunks from the given one on.
func (s *States) Unpack(from int, b []byte) (next int, err error) {
	for next = from; len(b) > 0; next++ {
		n, k := binary.Uvarint(b)
		if k <= 0 || n > uint64(len(b)-k) || next >= len(s.packed) {
			return next, fmt.Errorf("%w: chunk %d", ErrStates, next)
		}
		body := b[k : k+int(n)]
		b = b[k+int(n):]
		states := s.use(next)
		unpack(body, states)
		got := int32(0)
		for _, x := range states {
			if x == Got {
				got++
			}
		}
		s.total += int64(got - s.got[next])
		s.got[next], s.dirty = got, true
		s.settle()
	}
	return next, nil
}
