package exfat

import (
	"io"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// mirrors is the backup boot region (section 3.2).
func mirrors(r io.ReaderAt, _, sector int64) []fsys.Mirror {
	for _, at := range []int64{0, regionSectors * sector} {
		b := make([]byte, 512)
		if disk.ReadFull(r, b, at) == nil && string(b[bootName:bootName+8]) == "EXFAT   " {
			n := regionSectors * sector
			return []fsys.Mirror{{Of: span.At(0, n), At: span.At(n, n)}}
		}
	}
	return nil
}
