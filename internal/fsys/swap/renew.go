package swap

import (
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

var _ fsys.Renewer = (*volume)(nil)

// Renew changes the UUID in the header.
func (v *volume) Renew(id [16]byte) ([]disk.Patch, error) {
	return []disk.Patch{{Off: offUUID, Data: id[:], Why: "UUID"}}, nil
}
