package fsys

import (
	"twinshelf/internal/disk"
)

// Place is where and how large a part will be.
type Place struct {
	Was    int64 // where the part began on its disk, bytes
	Start  int64 // where it will begin, bytes
	Size   int64 // bytes; 0 leaves the volume's size as it is
	Sector int   // bytes
}

// Hidden gives the number of sectors before the volume that a boot sector shall name, when it names now. One that wasn't the part's
// place before stays what it is: in an extended chain some systems count from the link.
func (p Place) Hidden(now uint64) uint64 {
	if p.Sector > 0 && now == uint64(p.Was/int64(p.Sector)) {
		return uint64(p.Start / int64(p.Sector))
	}
	return now
}

// Placer is a Volume whose structures depend on where its part stands or how large it is.
type Placer interface {
	// Place says how the volume changes for a part there. When it can't become as large as the part it becomes as
	// large as it can, and the change's notes say why. It reads, and never writes.
	Place(p Place) (*Change, error)
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
