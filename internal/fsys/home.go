package fsys

import (
	"fmt"

	"twinshelf/internal/disk"
)

// Home is a volume on a disk: a part's own, or one in a container on it.
type Home struct {
	// Device is what a container calls the device that the volume is on, such as desk/root; empty for a part's own.
	Device string
	Volume Volume // nil where none is known
	Why    string // why none is known, where that can be told
	// Fixed says in words why nothing may be changed in it, Doubt why what is in it isn't certain; both may be empty.
	Fixed, Doubt string

	start   int64 // of the part, in bytes of the disk
	outward func([]disk.Patch) ([]disk.Patch, error)
}

// Homes are the volumes of a part that begins at byte start of its disk, in the order of the container's devices; none
// where v is nil.
func Homes(v Volume, start int64) []Home {
	if v == nil {
		return nil
	}
	l, ok := v.(Layered)
	if !ok {
		return []Home{{Volume: v, start: start}}
	}
	var out []Home
	for i, in := range l.Inner() {
		out = append(out, Home{in.Name, in.Content.Volume, in.Content.Why, in.Fixed, in.Doubt, start,
			func(patches []disk.Patch) ([]disk.Patch, error) { return l.Outward(i, patches) }})
	}
	return out
}

// Where names it in words; part is the number of the part.
func (h *Home) Where(part int) string {
	if h.Device == "" {
		return fmt.Sprintf("part %d", part)
	}
	return fmt.Sprintf("%s in part %d", h.Device, part)
}

// OnDisk puts patches of the volume where its bytes lie on the disk. The given ones stay as they are.
func (h *Home) OnDisk(patches []disk.Patch) ([]disk.Patch, error) {
	var err error
	if h.outward != nil {
		if patches, err = h.outward(patches); err != nil {
			return nil, err
		}
	}
	out := make([]disk.Patch, len(patches))
	for i, p := range patches {
		p.Off += h.start
		out[i] = p
	}
	return out, nil
}
