package fsys

import (
	"twinshelf/internal/disk"
)

// Bounds are where and how large a part will be.
type Bounds struct {
	Was    int64 // where the part began on its disk, bytes
	Start  int64 // where it will begin, bytes
	Size   int64 // bytes; 0 leaves the volume's size as it is
	Sector int   // bytes
}

// Hidden gives the number of sectors before the volume that a boot sector shall name, when it names now. One that
// wasn't the part's place before stays what it is: in an extended chain some systems count from the link.
func (b Bounds) Hidden(now uint64) uint64 {
	if b.Sector > 0 && now == uint64(b.Was/int64(b.Sector)) {
		return uint64(b.Start / int64(b.Sector))
	}
	return now
}

// Resizer is a Volume whose structures depend on where its part stands or how large it is.
type Resizer interface {
	// Resize says how the volume changes for a part there. When it can't become as large as the part it becomes as
	// large as it can, and the change's notes say why. It reads, and never writes.
	Resize(b Bounds) (*Change, error)
}

// Change is what becomes of a volume. Offsets count from the start of its part.
type Change struct {
	// Size is the volume's size afterwards, in bytes.
	Size int64
	// Moves say where bytes of the volume go; none means that all stay where they are.
	Moves []disk.Move
	// Patches stand over what was moved, and may reach to the end of the part.
	Patches []disk.Patch
	// Notes say what is to know, in words.
	Notes []string
}
