package fat

import (
	"encoding/binary"
	"io"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// mirrors are the copy of the boot sector that FAT32 keeps, and the second FAT.
func mirrors(r io.ReaderAt, _, sector int64) []fsys.Mirror {
	le := binary.LittleEndian
	for _, at := range []int64{0, backupSector * sector} {
		b := make([]byte, 512)
		if disk.ReadFull(r, b, at) != nil || b[510] != 0x55 || b[511] != 0xAA {
			continue
		}
		s, reserved := int64(le.Uint16(b[bpbSector:])), int64(le.Uint16(b[bpbReserved:]))
		size := int64(le.Uint16(b[bpbFATSize16:]))
		var out []fsys.Mirror
		if s < 512 || s > 4096 || reserved == 0 {
			continue
		}
		if size == 0 {
			size = int64(le.Uint32(b[bpbFATSize32:]))
			out = append(out, fsys.Mirror{Of: span.At(0, s), At: span.At(backupSector*s, s)})
		}
		const ownCopies = 1 << 7 // only one FAT is active
		if b[bpbFATs] == 2 && (le.Uint16(b[bpbFATSize16:]) != 0 || le.Uint16(b[bpbExtFlags:])&ownCopies == 0) {
			out = append(out, fsys.Mirror{Of: span.At(reserved*s, size*s), At: span.At((reserved+size)*s, size*s)})
		}
		return out
	}
	return nil
}
