package rehearse

import (
	"iter"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
)

const (
	// together is how long a piece that is put together gets at the most, bridged how long a stretch that nothing is
	// put into may be and still be written with what lies around it, both in bytes.
	together = 1 << 20
	bridged  = 64 << 10
)

// Pieces are those of the source where they will be, with the patches. Small ones without names that lie beside each
// other in one area of the disk are put together, over short stretches that nothing is put into too, which are zeros
// then: a volume that shrinks has very many, and a disk takes a long time over as many writes.
func (p *Planned) Pieces() iter.Seq2[disk.Piece, error] {
	return func(yield func(disk.Piece, error) bool) {
		j := joiner{p: p, edges: p.edges(), yield: yield}
		for piece, err := range p.Overlay.Pieces() {
			if err != nil {
				if j.flush() {
					yield(piece, err)
				}
				return
			}
			if !j.take(piece) {
				return
			}
		}
		j.flush()
	}
}

// edges are where parts begin and end, in order.
func (p *Planned) edges() (out []int64) {
	t, err := table.Read(p, p.Size(), p.SectorSize())
	if err != nil {
		return nil
	}
	for _, part := range t.Parts {
		out = append(out, part.Span.Start, part.Span.End)
	}
	slices.Sort(out)
	return out
}

// joiner puts pieces together.
type joiner struct {
	p     *Planned
	edges []int64
	yield func(disk.Piece, error) bool
	data  disk.Piece // that is being put together; empty when there is none
	gap   disk.Piece // after it; empty when there is none
}

// take takes the next piece, and says whether to go on.
func (j *joiner) take(piece disk.Piece) bool {
	joins := !j.data.Empty() && !j.edge(span.Span{Start: j.data.Start, End: piece.Start})
	switch {
	case piece.Kind == disk.Data && piece.Name == "" && joins && piece.End-j.data.Start <= together:
		j.data.End, j.gap = piece.End, disk.Piece{}
		return true
	case piece.Kind == disk.Undefined && joins && j.gap.Empty() && piece.Len() <= bridged && j.p.empty(piece.Span):
		j.gap = piece
		return true
	}
	if !j.flush() {
		return false
	}
	if piece.Kind == disk.Data && piece.Name == "" && piece.Len() < together {
		j.data = piece
		return true
	}
	return j.yield(piece, nil)
}

// flush hands out what is held.
func (j *joiner) flush() bool {
	for _, held := range []*disk.Piece{&j.data, &j.gap} {
		piece := *held
		*held = disk.Piece{}
		if !piece.Empty() && !j.yield(piece, nil) {
			return false
		}
	}
	return true
}

// edge says whether an area of the disk ends within a stretch, or where that ends.
func (j *joiner) edge(sp span.Span) bool {
	i, _ := slices.BinarySearch(j.edges, sp.Start+1)
	return i < len(j.edges) && j.edges[i] <= sp.End
}

// empty says whether nothing of the source is put into a stretch.
func (p *Planned) empty(sp span.Span) bool {
	for range p.order.Sources(sp) {
		return false
	}
	return true
}
