// Package rehearse composes the planned disk: a Device that can be read,
// checked and compared before anything is written, and that is then written.
package rehearse

import (
	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
)

// Planned is a disk that doesn't exist yet: the source with the plan's patches.
type Planned struct {
	*disk.Overlay
	// Plan is what it was composed from.
	Plan   *fit.Plan
	source disk.Device
	order  *disk.Arranged
}

// PieceReader is a source that can hand out a named piece without looking its
// place up again, checked against its name.
type PieceReader interface {
	ReadPiece(p disk.Piece, dst []byte) ([]byte, error)
}

// Compose lays the plan over the source.
func Compose(source disk.Device, plan *fit.Plan) (*Planned, error) {
	if d, ok := source.(*shelf.Disk); ok {
		source = enduring{d}
	}
	order, err := disk.Arrange(source, plan.Size, plan.Moves)
	if err != nil {
		return nil, err
	}
	o, err := disk.NewOverlay(order, plan.Patches, plan.Size)
	if err != nil {
		return nil, err
	}
	o.SetSectorSize(plan.Sector)
	return &Planned{o, plan, source, order}, nil
}

// Source is where on the source the bytes at a place come from; empty where they come from nowhere.
func (p *Planned) Source(at span.Span) span.Span { return p.order.Source(at) }

// Read gives a whole piece, in dst's memory when it fits.
func (p *Planned) Read(piece disk.Piece, dst []byte) ([]byte, error) {
	if r, ok := p.source.(PieceReader); ok && piece.Name != "" {
		return r.ReadPiece(piece, dst)
	}
	n := int(piece.Len())
	if cap(dst) < n {
		dst = make([]byte, n)
	}
	dst = dst[:n]
	return dst, disk.ReadFull(p, dst, piece.Start)
}

// Namer gives the name that a piece with these bytes has.
type Namer interface{ NameOf(plain []byte) string }

// Named says whether bytes are those of a piece by its name; false when the source can't tell.
func (r *Planned) Named(p disk.Piece, b []byte) (equal, known bool) {
	n, ok := r.source.(Namer)
	if !ok || p.Name == "" {
		return false, false
	}
	return n.NameOf(b) == p.Name, true
}
