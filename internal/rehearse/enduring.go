package rehearse

import (
	"iter"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
)

// enduring is a twin's disk of which parts of the block map are hurt: what lies there counts as data that can't be
// read, stretch by stretch, so that everything else is had all the same.
type enduring struct{ *shelf.Disk }

// unmapped is how long such stretches are, in bytes.
const unmapped = 4 << 20

func (e enduring) Pieces() iter.Seq2[disk.Piece, error] {
	return e.PiecesIn(span.Span{End: e.Size()})
}

func (e enduring) PiecesIn(sp span.Span) iter.Seq2[disk.Piece, error] {
	return func(yield func(disk.Piece, error) bool) {
		for p, err := range e.Disk.PiecesIn(sp) {
			if err == nil || !store.IsHurt(err) {
				if !yield(p, err) {
					return
				}
				continue
			}
			for part := range disk.Chunks(p.Span, unmapped) {
				if !yield(disk.Piece{Span: part, Kind: disk.Data}, nil) {
					return
				}
			}
		}
	}
}
