package families

import (
	"errors"
	"iter"

	"twinshelf/internal/container/bitlocker"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// Locked is a volume that is encrypted and whose key isn't known: it tells what would open it, and nothing else.
type Locked struct {
	*bitlocker.Volume
	size int64
}

var _ fsys.Volume = (*Locked)(nil)

// lockedBy is the locked volume that an error speaks of; nil for another error.
func lockedBy(err error, size int64) *Locked {
	if l := (*bitlocker.LockedError)(nil); errors.As(err, &l) {
		return &Locked{l.Volume, size}
	}
	return nil
}

// Info names the volume and what would open it.
func (l *Locked) Info() fsys.Info {
	return fsys.Info{Kind: l.Kind(), Label: l.Label, ID: l.ID, Size: l.size, Unit: 512,
		Opaque: "it is locked (" + l.Words() + "), and only its key tells what is used"}
}

// Used is all of it.
func (l *Locked) Used() iter.Seq2[span.Span, error] {
	return func(yield func(span.Span, error) bool) { yield(span.Span{End: l.size}, nil) }
}

// Files says why there are none.
func (l *Locked) Files() (fsys.Tree, error) {
	return nil, &fsys.Unreadable{Why: "it is locked (" + l.Words() + "): unlock it first"}
}

// Encrypted says whether some of a volume can be read with a key only, also where that is known.
func Encrypted(v fsys.Volume) bool {
	switch x := v.(type) {
	case *Locked:
		return true
	case fsys.Lockable:
		return x.Encrypted()
	case *layered:
		for i := range x.inner {
			if x.inner[i].Sectors != nil || Encrypted(x.inner[i].volume) {
				return true
			}
		}
	}
	return false
}
