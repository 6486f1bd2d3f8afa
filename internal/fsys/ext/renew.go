package ext

import (
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

var _ fsys.Renewer = (*Volume)(nil)

// Renew changes the UUID in every super block, and what is made with it.
func (v *Volume) Renew(id [16]byte) ([]disk.Patch, error) {
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

var _ fsys.Spanned = (*openFile)(nil)

// Spans are the blocks of the file; nil for one with holes, and for one that stands in its inode.
func (f *openFile) Spans() []span.Span {
	var out []span.Span
	for _, x := range f.extents {
		if x.logical*f.blockSize != total(out) {
			return nil
		}
		out = append(out, span.At(x.physical*f.blockSize, x.n*f.blockSize))
	}
	if total(out) < f.info.n.size {
		return nil
	}
	return out
}

func total(spans []span.Span) (n int64) {
	for _, sp := range spans {
		n += sp.Len()
	}
	return n
}
