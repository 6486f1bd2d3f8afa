// Package rehearse composes the planned disk: a Device that can be read,
// checked and compared before anything is written, and that is then written.
package rehearse

import (
	"iter"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
)

// Planned is a disk that doesn't exist yet: the source's bytes where they will be, with patches over them. It never
// changes.
type Planned struct {
	*disk.Overlay
	source disk.Device
	order  *disk.Arranged
}

// PieceReader is a source that can hand out a named piece without looking its
// place up again, checked against its name.
type PieceReader interface {
	ReadPiece(p disk.Piece, dst []byte) ([]byte, error)
}

// Compose puts bytes of the source where moves say, and patches over them, on a disk of that size with sectors of that
// many bytes.
func Compose(source disk.Device, size int64, sector int, moves []disk.Move, patches []disk.Patch) (*Planned, error) {
	if d, ok := source.(*shelf.Disk); ok {
		source = enduring{d}
	}
	order, err := disk.Arrange(source, size, moves)
	if err != nil {
		return nil, err
	}
	return lay(source, order, sector, patches)
}

// With is the same disk with more patches, over those that it has.
func (p *Planned) With(patches []disk.Patch) (*Planned, error) {
	return lay(p.source, p.order, p.SectorSize(), disk.Over(patches, p.Patches()))
}

func lay(source disk.Device, order *disk.Arranged, sector int, patches []disk.Patch) (*Planned, error) {
	o, err := disk.NewOverlay(order, patches, order.Size())
	if err != nil {
		return nil, err
	}
	o.SetSectorSize(sector)
	return &Planned{o, source, order}, nil
}

// Moves are where bytes of the source are put; the caller mustn't change them.
func (p *Planned) Moves() []disk.Move { return p.order.Moves() }

// Sources yields where on the source the bytes of a stretch come from; nothing where they come from nowhere.
func (p *Planned) Sources(at span.Span) iter.Seq[span.Span] { return p.order.Sources(at) }

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
func (p *Planned) Named(piece disk.Piece, b []byte) (equal, known bool) {
	n, ok := p.source.(Namer)
	if !ok || piece.Name == "" {
		return false, false
	}
	return n.NameOf(b) == piece.Name, true
}
