package ext

import (
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

var _ fsys.Reidentifier = (*Volume)(nil)

// Renew changes the UUID in every super block, and what is made with it.
func (v *Volume) Reidentify(id [16]byte) ([]disk.Patch, error) {
	if v.ro&roMetadataCsum != 0 && v.incompat&incompatSeed == 0 {
		return nil, &fsys.Cant{Why: "the checksums of all its structures are made with its identity"}
	}
	g := &growth{old: v, super: make([]byte, superLen), bitmaps: map[string][]byte{}}
	nv := *v
	g.v = &nv
	if err := disk.ReadFull(v.r, g.super, superOffset); err != nil {
		return nil, err
	}
	g.seed = le.Uint32(g.super[sbSeed:])
	copy(g.super[sbUUID:], id[:])
	if v.ro&(roGDTCsum|roMetadataCsum) == roGDTCsum {
		if err := g.readDescriptors(); err != nil {
			return nil, err
		}
		for n := range v.groups {
			g.seal(n, g.descriptor(n))
		}
		g.firstTouched = 0
		g.writeDescriptors()
	}
	g.writeSupers()
	return g.patches, nil
}
