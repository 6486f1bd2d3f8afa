package fsys

import "twinshelf/internal/disk"

// Reidentifier is a Volume that can get another identity.
type Reidentifier interface {
	// Reidentify gives the patches that make an identity from id, in bytes of the volume; a *Cant when that isn't
	// possible here.
	Reidentify(id [16]byte) ([]disk.Patch, error)
}
