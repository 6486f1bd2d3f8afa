package disk

import (
	"cmp"
	"fmt"
	"iter"
	"slices"

	"twinshelf/internal/span"
)

// Move says that what a base holds at From stands at byte To.
type Move struct {
	From span.Span
	To   int64
}

// Target is the bytes that the move fills.
func (m Move) Target() span.Span { return span.At(m.To, m.From.Len()) }

// Shift is how far the move goes, in bytes.
func (m Move) Shift() int64 { return m.To - m.From.Start }

// Arranged is a base in another order: moves say what stands where. What no move fills
// reads as zeros and is undefined for Pieces.
type Arranged struct {
	base  Device
	moves []Move // by To
	id    Identity
}

// RangeMapped is a Mapped that can tell of a part of itself without walking the rest.
type RangeMapped interface {
	// PiecesIn yields the pieces that touch sp, ascending; the first and the last may reach beyond it.
	PiecesIn(sp span.Span) iter.Seq2[Piece, error]
}

// Arrange gives a device of size bytes. Moves must lie within base and within size and not
// overlap where they lead to; the same bytes may be moved to several places. Moves that are in the order of where they
// lead to aren't copied: nobody may change them afterwards.
func Arrange(base Device, size int64, moves []Move) (*Arranged, error) {
	ms := ordered(moves, Move.Target, func(m Move) int64 { return m.To })
	end := int64(0)
	for _, m := range ms {
		if m.From.Start < 0 || m.From.End > base.Size() {
			return nil, fmt.Errorf("%s of the source are to be moved, but the source ends at byte %d", m.From,
				base.Size())
		}
		if m.To < end || m.Target().End > size {
			return nil, fmt.Errorf("what is moved to %s overlaps something else or lies beyond the end at byte %d",
				m.Target(), size)
		}
		end = m.Target().End
	}
	id := base.Identity()
	id.Size = size
	return &Arranged{base, ms, id}, nil
}

func (a *Arranged) Size() int64        { return a.id.Size }
func (a *Arranged) SectorSize() int    { return a.base.SectorSize() }
func (a *Arranged) Identity() Identity { return a.id }

// Moves are the moves, by where they lead to; the caller mustn't change them.
func (a *Arranged) Moves() []Move { return a.moves }

// from is the index of the first move that ends after off.
func (a *Arranged) from(off int64) int {
	i, _ := slices.BinarySearchFunc(a.moves, off, func(m Move, off int64) int {
		return cmp.Compare(m.Target().End-1, off)
	})
	return i
}

// ReadAt reads what was moved there, and zeros elsewhere.
func (a *Arranged) ReadAt(p []byte, off int64) (int, error) {
	want, err := within(a, off, len(p))
	if err != nil {
		return 0, err
	}
	n := int(want.Len())
	if n == 0 {
		return 0, eofIfShort(n, len(p))
	}
	at := want.Start
	for i := a.from(off); i < len(a.moves) && a.moves[i].To < want.End; i++ {
		hit := a.moves[i].Target().Intersect(want)
		clear(p[at-off : hit.Start-off])
		if err := ReadFull(a.base, p[hit.Start-off:hit.End-off], hit.Start-a.moves[i].Shift()); err != nil {
			return 0, err
		}
		at = hit.End
	}
	clear(p[min(at-off, int64(n)):n])
	return n, eofIfShort(n, len(p))
}

// Sources yields where the bytes of a stretch come from.
func (a *Arranged) Sources(at span.Span) iter.Seq[span.Span] {
	return func(yield func(span.Span) bool) {
		for i := a.from(at.Start); i < len(a.moves) && a.moves[i].To < at.End; i++ {
			if hit := a.moves[i].Target().Intersect(at); !yield(hit.Shift(-a.moves[i].Shift())) {
				return
			}
		}
	}
}

// Pieces are the base's pieces where they are moved to. A piece that is cut loses its name.
func (a *Arranged) Pieces() iter.Seq2[Piece, error] {
	return func(yield func(Piece, error) bool) {
		at := int64(0)
		gap := func(upTo int64) bool {
			ok := at >= upTo || yield(Piece{Span: span.Span{Start: at, End: upTo}}, nil)
			at = max(at, upTo)
			return ok
		}
		for _, m := range a.moves {
			if !gap(m.To) {
				return
			}
			for p, err := range a.piecesIn(m.From) {
				hit := p.Span.Intersect(m.From)
				if err == nil && hit.Empty() {
					continue
				}
				if hit != p.Span {
					p.Name = ""
				}
				p.Span = hit.Shift(m.Shift())
				if !yield(p, err) {
					return
				}
			}
			at = m.Target().End
		}
		gap(a.Size())
	}
}

func (a *Arranged) piecesIn(sp span.Span) iter.Seq2[Piece, error] {
	if r, ok := a.base.(RangeMapped); ok {
		return r.PiecesIn(sp)
	}
	if m, ok := a.base.(Mapped); ok {
		return m.Pieces()
	}
	return func(yield func(Piece, error) bool) { yield(Piece{Span: sp, Kind: Data}, nil) }
}
