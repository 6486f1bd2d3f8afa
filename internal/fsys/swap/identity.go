package swap

import (
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

var _ fsys.Reidentifier = (*volume)(nil)

// Renew changes the UUID in the header.
func (v *volume) Reidentify(id [16]byte) ([]disk.Patch, error) {
	return []disk.Patch{{Off: offUUID, Data: id[:], Why: "UUID"}}, nil
}
