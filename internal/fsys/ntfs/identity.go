package ntfs

import (
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

var _ fsys.Reidentifier = (*Volume)(nil)

// Renew changes the serial number in the boot sector and its copy.
func (v *Volume) Reidentify(id [16]byte) ([]disk.Patch, error) {
	out := []disk.Patch{{Off: bootSerial, Data: id[:8], Why: "serial number"}}
	if v.hasCopy(v.info.Size) {
		out = append(out, disk.Patch{Off: v.info.Size + bootSerial, Data: id[:8], Why: "serial number, copy"})
	}
	return out, nil
}
