package hfsplus

import (
	"encoding/binary"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

var _ fsys.Reidentifier = (*Volume)(nil)

// Reidentify changes the eight bytes that the volume is known by, in the header and in its copy.
func (v *Volume) Reidentify(id [16]byte) ([]disk.Patch, error) {
	if why := v.info.Unclean; why != "" {
		return nil, &fsys.Cant{Why: why}
	}
	var out []disk.Patch
	for _, at := range v.headers() {
		out = append(out, disk.Patch{Off: at + headIdentity, Data: identityOf(id), Why: "identity of the volume"})
	}
	return out, nil
}

// headers are where the volume header and its copies begin. The copy is at the end of the part that the volume was
// made for, or at its own; only what is a copy counts.
func (v *Volume) headers() []int64 {
	out := []int64{v.at + headerAt}
	b := make([]byte, headerLen)
	for _, at := range []int64{v.at + v.blocks*v.unit - copyAt, v.part/minBlock*minBlock - copyAt} {
		if !slices.Contains(out, at) && disk.ReadFull(v.r, b, at) == nil && signed(b) && sameVolume(v, b) {
			out = append(out, at)
		}
	}
	return out
}

// sameVolume says whether a header is one of this volume.
func sameVolume(v *Volume, b []byte) bool {
	be := binary.BigEndian
	return string(b[headIdentity:headIdentity+8]) == string(v.head[headIdentity:headIdentity+8]) &&
		be.Uint32(b[headMade:]) == be.Uint32(v.head[headMade:])
}
