package disk

import (
	"cmp"
	"iter"
	"slices"

	"twinshelf/internal/span"
)

// Overlay is a planned disk: a base, patches over it, and possibly another
// size. Behind the base's end it reads as zeros and is undefined for Pieces.
type Overlay struct {
	base    Device
	patches []Patch
	size    int64
	sector  int
	id      Identity
}

// NewOverlay lays patches over base. size is the overlay's own size in bytes
// and may be larger than the base's. Patches must lie within it and not overlap.
func NewOverlay(base Device, patches []Patch, size int64) (*Overlay, error) {
	ps, err := SortPatches(patches, size)
	if err != nil {
		return nil, err
	}
	id := base.Identity()
	id.Size = size
	return &Overlay{base, ps, size, base.SectorSize(), id}, nil
}

func (o *Overlay) Size() int64        { return o.size }
func (o *Overlay) SectorSize() int    { return o.sector }
func (o *Overlay) Identity() Identity { return o.id }

// SetSectorSize tells the sector size in bytes of the planned disk where it isn't that of its base.
func (o *Overlay) SetSectorSize(n int) { o.sector, o.id.Sector = n, n }

// Patches are the patches in ascending order.
func (o *Overlay) Patches() []Patch { return o.patches }

// ReadAt reads the base with the patches applied.
func (o *Overlay) ReadAt(p []byte, off int64) (int, error) {
	want, err := within(o, off, len(p))
	if err != nil {
		return 0, err
	}
	n := int(want.Len())
	fromBase := want.Intersect(span.Span{End: o.base.Size()})
	if k := fromBase.Len(); k > 0 {
		if err := ReadFull(o.base, p[:k], off); err != nil {
			return 0, err
		}
	}
	clear(p[fromBase.Len():n])
	for i := o.from(off); i < len(o.patches) && o.patches[i].Off < want.End; i++ {
		o.patches[i].read(p[:n], off)
	}
	return n, eofIfShort(n, len(p))
}

// from is the index of the first patch that ends after off.
func (o *Overlay) from(off int64) int {
	i, _ := slices.BinarySearchFunc(o.patches, off, func(q Patch, off int64) int {
		return cmp.Compare(q.Span().End-1, off)
	})
	return i
}

// Pieces merges the base's pieces with the patches: a piece that a patch
// touches is Data without a name. A base that isn't Mapped is all Data.
func (o *Overlay) Pieces() iter.Seq2[Piece, error] {
	return func(yield func(Piece, error) bool) {
		for p, err := range o.basePieces() {
			if err != nil {
				yield(p, err)
				return
			}
			for _, q := range o.cut(p) {
				if !yield(q, nil) {
					return
				}
			}
		}
	}
}

func (o *Overlay) basePieces() iter.Seq2[Piece, error] {
	return func(yield func(Piece, error) bool) {
		end := min(o.base.Size(), o.size)
		if m, ok := o.base.(Mapped); ok {
			for p, err := range m.Pieces() {
				if err == nil && p.End > o.size {
					p.End, p.Name = o.size, ""
				}
				if err == nil && p.Empty() {
					break
				}
				if !yield(p, err) || err != nil {
					return
				}
			}
		} else if !yield(Piece{Span: span.Span{End: end}, Kind: Data}, nil) {
			return
		}
		if o.size > end {
			yield(Piece{Span: span.Span{Start: end, End: o.size}, Kind: Undefined}, nil)
		}
	}
}

// cut splits a piece at the patches. Within a Data piece the patches only take
// away its name, so that a block stays one read.
func (o *Overlay) cut(p Piece) []Piece {
	i := o.from(p.Start)
	var out []Piece
	for ; i < len(o.patches) && o.patches[i].Off < p.End; i++ {
		hit := o.patches[i].Span().Intersect(p.Span)
		if p.Kind == Data {
			p.Name = ""
			break
		}
		if hit.Start > p.Start {
			out = append(out, Piece{Span: span.Span{Start: p.Start, End: hit.Start}, Kind: p.Kind})
		}
		out = append(out, Piece{Span: hit, Kind: o.patches[i].Kind()})
		p.Start = hit.End
	}
	if !p.Empty() {
		out = append(out, p)
	}
	return out
}
