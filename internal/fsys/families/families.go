// Package families lists the families of file systems.
package families

import (
	"context"
	"io"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/exfat"
	"twinshelf/internal/fsys/ext"
	"twinshelf/internal/fsys/fat"
	"twinshelf/internal/fsys/ntfs"
	"twinshelf/internal/fsys/swap"
)

// All are the families.
func All() fsys.Families {
	return fsys.Families{exfat.Family(), ext.Family(), fat.Family(), ntfs.Family(), swap.Family()}
}

// Identify returns the volume on a part; see fsys.Families.Identify.
func Identify(r io.ReaderAt, size int64, sector int) (fsys.Volume, error) {
	return All().Identify(r, size, sector)
}

// Examine recognises what a part holds, and which of its bytes matter; see fsys.Families.Examine.
func Examine(ctx context.Context, r io.ReaderAt, size int64, sector int) (fsys.Content, error) {
	return All().Examine(ctx, r, size, sector)
}

// Makers are the kinds that can be made, by name.
func Makers() []fsys.Maker { return All().Makers() }

// MakerOf finds a kind that can be made, whatever the case of its letters.
func MakerOf(kind string) (fsys.Maker, error) { return All().MakerOf(kind) }
