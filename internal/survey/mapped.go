package survey

import (
	"cmp"
	"iter"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

// pieceLen is the most that one piece of data holds, in bytes; pieces begin at multiples of it in their area.
const pieceLen = 1 << 20

// Mapped is the surveyed device with what has to be taken from it: an attached disk can be read
// like a disk of a twin. The survey must not be older than what is on the device.
type Mapped struct {
	disk.Device
	s *Survey
}

var (
	_ disk.Mapped      = (*Mapped)(nil)
	_ disk.RangeMapped = (*Mapped)(nil)
)

// Mapped gives the device with its pieces.
func (s *Survey) Mapped() *Mapped { return &Mapped{s.Device, s} }

// Examined says why the accounts of a part aren't believed; see fit.Examined.
func (m *Mapped) Examined(part int) (why string, known bool) {
	for i := range m.s.Areas {
		if a := &m.s.Areas[i]; a.Part != nil && a.Part.Number == part {
			if a.Content.Sound {
				return "", true
			}
			return cmp.Or(a.Content.Why, a.Content.Doubt), true
		}
	}
	return "", false
}

// Pieces are what a capture would keep as data, what the device knows to be zeros, and the rest as undefined.
func (m *Mapped) Pieces() iter.Seq2[disk.Piece, error] { return m.PiecesIn(span.Span{End: m.Size()}) }

// PiecesIn yields the pieces that touch sp.
func (m *Mapped) PiecesIn(sp span.Span) iter.Seq2[disk.Piece, error] {
	return func(yield func(disk.Piece, error) bool) {
		for i := range m.s.Areas {
			a := &m.s.Areas[i]
			if a.Span.Intersect(sp).Empty() {
				continue
			}
			if !m.area(a, sp, yield) {
				return
			}
		}
	}
}

// area yields the pieces of one area that touch sp; false when nobody wants more.
func (m *Mapped) area(a *Area, sp span.Span, yield func(disk.Piece, error) bool) bool {
	give := func(p span.Span, kind disk.PieceKind) bool {
		return p.Empty() || p.Intersect(sp).Empty() || yield(disk.Piece{Span: p, Kind: kind}, nil)
	}
	at := a.Span.Start
	for used, err := range a.Content.Spans() {
		if err != nil {
			yield(disk.Piece{Span: span.Span{Start: at, End: a.Span.End}}, err)
			return false
		}
		used = used.Shift(a.Span.Start)
		if used.Start >= sp.End {
			break
		}
		if !give(span.Span{Start: at, End: used.Start}, disk.Undefined) || !m.data(a, used, give) {
			return false
		}
		at = used.End
	}
	return give(span.Span{Start: at, End: a.Span.End}, disk.Undefined)
}

// data cuts what is used into pieces, and tells the holes of a sparse device apart.
func (m *Mapped) data(a *Area, used span.Span, give func(span.Span, disk.PieceKind) bool) bool {
	for at := used.Start; at < used.End; {
		if hole := disk.HoleFrom(m.Device, at).Intersect(used); !hole.Empty() {
			if !give(hole, disk.Zero) {
				return false
			}
			at = hole.End
			continue
		}
		cut := a.Span.Start + ((at-a.Span.Start)/pieceLen+1)*pieceLen
		end := min(used.End, cut)
		if !give(span.Span{Start: at, End: end}, disk.Data) {
			return false
		}
		at = end
	}
	return true
}
