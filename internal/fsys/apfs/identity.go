package apfs

import (
	"bytes"
	"encoding/binary"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

var _ fsys.Reidentifier = (*Container)(nil)

// Reidentify changes the UUID of the container, in its first block and in every checkpoint, and those of its volumes,
// in their snapshots too. Keys are sealed with these UUIDs, and a system is found by those of its volumes: there they
// stay.
func (c *Container) Reidentify(id [16]byte) ([]disk.Patch, error) {
	le := binary.LittleEndian
	if c.fused {
		return nil, &fsys.Cant{Why: "its two disks find each other by it"}
	}
	if le.Uint64(c.super[superKeys:]) != 0 || le.Uint64(c.super[superMediaKeys:]) != 0 {
		return nil, &fsys.Cant{Why: "the keys of its volumes are sealed with it"}
	}
	for _, v := range c.volumes {
		switch {
		case v.locked:
			return nil, &fsys.Cant{Why: "the keys of its volumes are sealed with it"}
		case v.role != "" || !bytes.Equal(v.super[volGroup:volGroup+16], make([]byte, 16)):
			return nil, &fsys.Cant{Why: "a system is found by the identities of its volumes"}
		}
	}
	var out []disk.Patch
	write := func(at int64, b []byte, field int, id [16]byte) {
		copy(b[field:], id[:])
		le.PutUint64(b[objSum:], sum(b))
		out = append(out, disk.Patch{Off: at * c.unit, Data: b, Why: "identity of the APFS container"})
	}
	if err := c.eachSuper(func(at int64, b []byte, _ bool) { write(at, b, superUUID, id) }); err != nil {
		return nil, err
	}
	for i, v := range c.volumes {
		own := id
		own[0] ^= byte(i + 1)
		places := []int64{v.at}
		for _, s := range v.snapshots {
			places = append(places, s.super)
		}
		slices.Sort(places)
		for _, at := range slices.Compact(places) {
			b, err := c.object(at, typeVolume)
			if err != nil {
				return nil, err
			}
			write(at, b, volUUID, own)
		}
	}
	return disk.SortPatches(out, c.info.Size)
}
