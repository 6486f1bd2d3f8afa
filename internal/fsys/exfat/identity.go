package exfat

import (
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

var _ fsys.Reidentifier = (*Volume)(nil)

// Renew changes the serial number in both boot regions, with their checksums.
func (v *Volume) Reidentify(id [16]byte) ([]disk.Patch, error) {
	return v.regions(func(boot []byte) { copy(boot[bootSerial:bootSerial+4], id[:4]) })
}
