package ready

import (
	"fmt"
	"io"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/units"
)

// File is a file that a part's new file system holds from the beginning. Its name, with the folders on its way, is one
// that the family can make (fsys.FileWriter).
type File struct {
	Name     string
	Contents []byte
}

// mostCode is how long boot code in the first sector may be, in bytes (UEFI 2.10, section 5.2.1).
const mostCode = 440

// empty is a device of zeros.
type empty struct {
	size   int64
	sector int
}

func (b empty) Size() int64           { return b.size }
func (b empty) SectorSize() int       { return b.sector }
func (empty) Identity() disk.Identity { return disk.Identity{} }

func (b empty) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off >= b.size {
		return 0, io.EOF
	}
	n := min(int64(len(p)), b.size-off)
	clear(p[:n])
	if n < int64(len(p)) {
		return int(n), io.EOF
	}
	return int(n), nil
}

// filled puts files into a file system that is being made by patches, which count from its start.
func filled(f fsys.Form, patches []disk.Patch, files []File) ([]disk.Patch, error) {
	for _, x := range files {
		planned, err := disk.NewOverlay(empty{f.Size, f.Sector}, patches, f.Size)
		if err != nil {
			return nil, err
		}
		v, err := families.All().Identify(planned, f.Size, f.Sector)
		if err != nil {
			return nil, err
		}
		w, ok := v.(fsys.FileWriter)
		if !ok {
			return nil, fmt.Errorf("no file is put into a new %s", f.Kind)
		}
		more, err := w.CreateFile(x.Name, x.Contents, f.Now)
		if err != nil {
			return nil, fmt.Errorf("%s, %s: %w", x.Name, units.Bytes(int64(len(x.Contents))), err)
		}
		patches = disk.Over(more, patches)
	}
	return patches, nil
}

// rawStep writes what stands on a part instead of a file system.
func rawStep(part *Part) (Step, error) {
	n := int64(len(part.Raw))
	if n > part.Span.Len() {
		return Step{}, fmt.Errorf("part %d has no room for %s of start-up code", part.Number, units.Bytes(n))
	}
	return Step{Title: fmt.Sprintf("Write the start-up code on part %d", part.Number), Patches: []disk.Patch{
		{Off: part.Span.Start, Data: slices.Clone(part.Raw), Why: "start-up code"},
		{Off: part.Span.Start + n, Zeros: part.Span.Len() - n, Why: "clear the rest of the part"}}}, nil
}
