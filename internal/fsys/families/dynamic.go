package families

import (
	"iter"

	"twinshelf/internal/container/ldm"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// dynamic looks through a part of a dynamic disk: the container, or what says why its volumes can't be told; both nil
// where it is no such part. Whatever such a part begins with is a volume of the group, or a piece of one that may be
// larger than the part, so that it is asked for before anything else looks at it.
func dynamic(m Member, sector int, others []Member) (*layered, fsys.Volume) {
	if !ldm.Is(m) {
		return nil, nil
	}
	c, members, err := ldm.Open(m, others...)
	if err != nil {
		return nil, &untold{m.Size, "it is part of a dynamic disk whose volumes can't be told: " + err.Error()}
	}
	return newLayered(c, members, sector), nil
}

// untold is a part of a dynamic disk whose volumes can't be told.
type untold struct {
	size int64
	why  string
}

var _ fsys.Volume = (*untold)(nil)

// Info says why nothing is known.
func (u *untold) Info() fsys.Info {
	return fsys.Info{Kind: ldm.Kind, Size: u.size, Unit: 512, Opaque: u.why}
}

// Used is all of it.
func (u *untold) Used() iter.Seq2[span.Span, error] {
	return func(yield func(span.Span, error) bool) { yield(span.Span{End: u.size}, nil) }
}

// Files says why there are none.
func (u *untold) Files() (fsys.Tree, error) { return nil, &fsys.Unreadable{Why: u.why} }
