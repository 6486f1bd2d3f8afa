package families

import (
	"errors"
	"iter"

	"twinshelf/internal/container"
	"twinshelf/internal/container/ldm"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// openDynamic opens the group of dynamic disks that a part is of; nil where it is no such part. Whatever such a part
// begins with is a volume of the group, or a piece of one, so that nothing else may look at it.
func openDynamic(m Member, others []Member) (container.Container, []Member, error) {
	if !ldm.Is(m) {
		return nil, nil, nil
	}
	c, members, err := ldm.Open(m, others...)
	if err != nil {
		return nil, nil, &dynamicError{err}
	}
	return c, members, nil
}

// dynamicError says why the volumes on a part of a dynamic disk can't be told.
type dynamicError struct{ err error }

func (e *dynamicError) Error() string {
	return "it is part of a dynamic disk whose volumes can't be told: " + e.err.Error()
}
func (e *dynamicError) Unwrap() error { return e.err }

// untold is a part of a dynamic disk whose volumes can't be told.
type untold struct {
	size int64
	why  string
}

var _ fsys.Volume = (*untold)(nil)

// untoldBy is the part that an error speaks of; nil for another error.
func untoldBy(err error, size int64) fsys.Volume {
	if d := (*dynamicError)(nil); errors.As(err, &d) {
		return &untold{size, d.Error()}
	}
	return nil
}

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
