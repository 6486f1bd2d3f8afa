package exfat

import (
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

var _ fsys.Renewer = (*Volume)(nil)

// Renew changes the serial number in both boot regions, with their checksums.
func (v *Volume) Renew(id [16]byte) ([]disk.Patch, error) {
	return v.regions(func(boot []byte) { copy(boot[bootSerial:bootSerial+4], id[:4]) })
}
