package fat

import (
	"encoding/binary"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

var _ fsys.Reidentifier = (*Volume)(nil)

// Renew changes the serial number in the boot sector and its copy.
func (v *Volume) Reidentify(id [16]byte) ([]disk.Patch, error) {
	boot := make([]byte, 512)
	if err := disk.ReadFull(v.r, boot, 0); err != nil {
		return nil, err
	}
	at := int64(bs16Serial)
	if v.bits == 32 {
		at = bs32Serial
	}
	if b := boot[at-1]; b != 0x29 && b != 0x28 {
		return nil, &fsys.Cant{Why: "it has no serial number"}
	}
	out := []disk.Patch{{Off: at, Data: id[:4], Why: "serial number"}}
	sector := int64(binary.LittleEndian.Uint16(boot[bpbSector:]))
	if copyAt := int64(binary.LittleEndian.Uint16(boot[bpbBackup:])) * sector; v.bits == 32 && copyAt > 0 &&
		copyAt < v.fatAt {
		out = append(out, disk.Patch{Off: copyAt + at, Data: id[:4], Why: "serial number, copy"})
	}
	return out, nil
}
