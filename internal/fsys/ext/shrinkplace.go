package ext

import (
	"cmp"
	"fmt"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// longExtent is how long an extent is, in bytes, that is given a place before the others.
const longExtent = 4 << 20

// placement says that n blocks at from will stand at to.
type placement struct{ from, to, n int64 }

// placements are by where they come from.
type placements []placement

// placing is how places are found for the contents of files that lie beyond the new end.
type placing struct {
	strays []fsys.Stray // blocks
	// unwritten are those that are only kept for a file: they get a place, and nothing is moved there.
	unwritten span.Set
	places    placements
}

// place finds a place for all contents of files that lie beyond the new end. Maps and attributes come after them.
func (s *shrinkage) place() error {
	if err := s.eachInode(s.findStrays); err != nil {
		return err
	}
	err := s.free.Place(s.strays, max(1, longExtent/s.v.blockSize), func(from, to, n int64) error {
		s.places = append(s.places, placement{from, to, n})
		return s.mark(span.At(to, n))
	})
	if err != nil {
		return err
	}
	s.strays = nil
	slices.SortFunc(s.places, func(a, b placement) int { return cmp.Compare(a.from, b.from) })
	for i, p := range s.places {
		if i > 0 && s.places[i-1].from+s.places[i-1].n > p.from {
			return fsys.Contradiction(p.from*s.v.blockSize, "block %d belongs to two files", p.from)
		}
		piece := span.At(p.from, p.n)
		for w := range span.Of(piece).Subtract(s.unwritten.Clip(piece)).All() {
			s.move(placement{w.Start, p.to + w.Start - p.from, w.Len()})
		}
	}
	return nil
}

// move has blocks stand elsewhere.
func (s *shrinkage) move(p placement) {
	bs := s.v.blockSize
	m := disk.Move{From: span.At(p.from*bs, p.n*bs), To: p.to * bs}
	if n := len(s.moves); n > 0 && s.moves[n-1].From.End == m.From.Start && s.moves[n-1].Target().End == m.To {
		s.moves[n-1].From.End = m.From.End
		return
	}
	s.moves = append(s.moves, m)
}

// findStrays finds what of an inode's contents lies beyond the new end.
func (s *shrinkage) findStrays(number int64, raw []byte) error {
	f := &file{number: number, to: number, b: raw}
	if !s.hasMap(f) {
		return nil
	}
	tree := le.Uint32(raw[inoFlags:])&flagExtents != 0
	own := number < s.firstInode()
	n := &inode{number: number, raw: raw, flags: le.Uint32(raw[inoFlags:]), block: raw[inoBlock : inoBlock+inoBlockSz]}
	return s.old.mapping(n, mapWalk{
		extent: func(x extent) error { return s.stray(span.At(x.physical, x.n), own) },
		reserved: func(block, count int64) error {
			if tree && block+count > s.v.blocks {
				s.unwritten.Add(span.At(block, count))
			}
			return s.stray(span.At(block, count), own)
		},
		node: func(int64) error { return s.walked.step(s.old.blocks) },
	})
}

// stray notes blocks that lie beyond the new end, at least in part: those go as a whole where there is room in one
// piece, so that the file doesn't get one more.
func (s *shrinkage) stray(blocks span.Span, own bool) error {
	if blocks.End <= s.v.blocks {
		return nil
	}
	k := len(s.strays) - 1
	if k >= 0 && s.strays[k].End == blocks.Start && blocks.Len() == 1 && s.strays[k].Own == own {
		s.strays[k].End = blocks.End // a block map names each block alone
		return nil
	}
	if beyond := (span.Span{Start: s.v.blocks, End: blocks.End}); blocks.Start < beyond.Start {
		if own = s.free.Longest() >= blocks.Len(); !own {
			blocks = beyond
		}
		for b := blocks.Start; b < beyond.Start; b++ { // it is the first that gets a place
			if err := s.release(b); err != nil {
				return err
			}
		}
	}
	if s.strays = append(s.strays, fsys.Stray{Span: blocks, Own: own}); len(s.strays) > maxChanges {
		return &fsys.Cant{Why: fmt.Sprintf("more than %d pieces would have to be moved", maxChanges)}
	}
	return nil
}

// standing are the runs in which blocks will stand; those before the new end that aren't placed stay.
func (all placements) standing(blocks span.Span, end int64) (out []span.Span, err error) {
	for at := blocks.Start; at < blocks.End; {
		i, _ := slices.BinarySearchFunc(all, at, func(p placement, at int64) int {
			return cmp.Compare(p.from+p.n-1, at)
		})
		run := span.Span{Start: at, End: min(blocks.End, end)}
		if i < len(all) {
			p := all[i]
			if p.from <= at {
				run = span.At(p.to+at-p.from, min(blocks.End, p.from+p.n)-at)
			} else {
				run.End = min(run.End, p.from)
			}
		}
		if run.Empty() {
			return nil, fmt.Errorf("block %d has no place: it was read differently before", at)
		}
		at += run.Len()
		if n := len(out); n > 0 && out[n-1].End == run.Start {
			out[n-1].End = run.End
			continue
		}
		out = append(out, run)
	}
	return out, nil
}
