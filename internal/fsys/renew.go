package fsys

import "twinshelf/internal/disk"

// Renewer is a Volume that can get another identity.
type Renewer interface {
	// Renew gives the patches that make an identity from id, in bytes of the volume; a *Cant when that isn't possible here.
	Renew(id [16]byte) ([]disk.Patch, error)
}
