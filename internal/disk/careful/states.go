// Package careful reads dying drives: it knows for every sector whether it was got and how often it was tried, in which
// order sectors are tried, and how to read from a drive that hangs, needs rest, or vanishes and comes back.
package careful

import (
	"bytes"
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
	open   []byte  // a State for each of its sectors
	dirty  bool
}

// NewStates are those of a disk of size bytes that nobody has read.
func NewStates(size int64, sector int) *States {
	n := (size/int64(sector) + chunkSectors - 1) / chunkSectors
	return &States{sector: int64(sector), size: size, packed: make([][]byte, n), got: make([]int32, n), hot: -1,
		open: make([]byte, chunkSectors)}
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
func (s *States) use(chunk int) []byte {
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
func pack(states []byte) []byte {
	var b []byte
	for i := 0; i < len(states); {
		j := sameUpto(states, i)
		b = binary.AppendUvarint(b, uint64(j-i))
		b = append(b, states[i])
		i = j
	}
	if n, k := binary.Uvarint(b); int(n) == len(states) && State(b[k]) == Untouched {
		return nil
	}
	return slices.Clip(slices.Clone(b)) // without what it was grown by
}

// sameUpto is where the bytes end that are equal to the one at i.
func sameUpto(b []byte, i int) int {
	const many = 512
	j := i + 1
	for j+many <= len(b) && bytes.Equal(b[j-1:j+many-1], b[j:j+many]) {
		j += many
	}
	for j < len(b) && b[j] == b[i] {
		j++
	}
	return j
}

// unpack reads what pack wrote; what is missing is untouched.
func unpack(b, out []byte) {
	at := 0
	for n, s := range runsOf(b) {
		for i := range min(n, len(out)-at) {
			out[at+i] = byte(s)
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
		base := int64(chunk) * chunkSectors
		n := int64(s.lenOf(chunk))
		end := min(last, base+n)
		if was, ok := s.uniform(chunk); ok && chunk != s.hot && at == base && end == base+n {
			s.changeAll(chunk, was, to(was))
		} else {
			s.changeIn(chunk, int(at-base), int(end-base), to)
		}
		at = end
	}
}

// changeIn changes sectors of a chunk, run by run.
func (s *States) changeIn(chunk, from, end int, to func(State) State) {
	states := s.use(chunk)[:end]
	for i := from; i < end; {
		j := sameUpto(states, i)
		was := State(states[i])
		if is := to(was); is != was {
			for k := i; k < j; k++ {
				states[k] = byte(is)
			}
			s.dirty = true
			s.count(chunk, was, is, j-i)
		}
		i = j
	}
}

// changeAll changes a chunk of a single state.
func (s *States) changeAll(chunk int, was, is State) {
	n := s.lenOf(chunk)
	if s.count(chunk, was, is, n); is == Untouched {
		s.packed[chunk] = nil
	} else if is != was {
		s.packed[chunk] = append(binary.AppendUvarint(nil, uint64(n)), byte(is))
	}
}

// count keeps the sums right.
func (s *States) count(chunk int, was, is State, n int) {
	switch {
	case was == is:
	case is == Got:
		s.got[chunk] += int32(n)
		s.total += int64(n)
	case was == Got:
		s.got[chunk] -= int32(n)
		s.total -= int64(n)
	}
}

// uniform is the state of all sectors of a packed chunk, where they have one.
func (s *States) uniform(chunk int) (State, bool) {
	b := s.packed[chunk]
	if b == nil {
		return Untouched, true
	}
	n, k := binary.Uvarint(b)
	return State(b[k]), int(n) == s.lenOf(chunk) && k+1 == len(b)
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
	if is, ok := s.uniform(chunk); ok && chunk != s.hot {
		return last, is
	}
	states := s.use(chunk)[:last-base]
	return base + int64(sameUpto(states, int(at-base))), State(states[at-base])
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
		if err := s.takeOver(next, body); err != nil {
			return next, err
		}
	}
	return next, nil
}

// takeOver makes a packed chunk be that of the states.
func (s *States) takeOver(chunk int, body []byte) error {
	s.settle()
	sum, got := 0, 0
	for n, state := range runsOf(body) {
		if sum += n; state == Got {
			got += n
		}
	}
	if len(body) > 0 && sum != s.lenOf(chunk) {
		return fmt.Errorf("%w: chunk %d has %d sectors of %d", ErrStates, chunk, sum, s.lenOf(chunk))
	}
	s.total += int64(got) - int64(s.got[chunk])
	s.got[chunk] = int32(got)
	if s.packed[chunk] = nil; len(body) > 0 {
		s.packed[chunk] = slices.Clone(body)
	}
	return nil
}
