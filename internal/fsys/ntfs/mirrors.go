package ntfs

import (
	"encoding/binary"
	"io"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// mirrors are the copy of the boot sector in the part's last one, and $MFTMirr with the first records.
func mirrors(r io.ReaderAt, size, sector int64) []fsys.Mirror {
	last := size/sector*sector - sector
	for _, at := range []int64{0, last} {
		b := make([]byte, sector)
		if disk.ReadFull(r, b, at) != nil || string(b[bootOEM:bootOEM+8]) != "NTFS    " {
			continue
		}
		out := []fsys.Mirror{{Of: span.At(0, sector), At: span.At(last, sector)}}
		v := &Volume{}
		mft, err := v.geometry(b, size)
		if err != nil {
			return out
		}
		mirror := int64(binary.LittleEndian.Uint64(b[bootMFTMirror:]))
		if mirror > 0 && mirror < v.clusters {
			out = append(out, fsys.Mirror{Of: span.At(mft, mirrored*v.record), At: span.At(mirror*v.cluster,
				mirrored*v.record)})
		}
		return out
	}
	return nil
}
