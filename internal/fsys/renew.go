package fsys

import (
	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

// Renewer is a Volume that can get another identity.
type Renewer interface {
	// Renew gives the patches that make an identity from id, in bytes of the volume; a *Cant when that isn't possible here.
	Renew(id [16]byte) ([]disk.Patch, error)
}

// Spanned is an open file that knows where its contents lie.
type Spanned interface {
	// Spans are the bytes of the volume that hold the contents, in their order, up to whole allocation units; nil when they stand elsewhere
	// than in units of their own, or have holes.
	Spans() []span.Span
}
