package ext

import (
	"fmt"
)

// directory puts the new numbers into a directory's names. Where blocks have checksums these depend on the directory's
// own number too.
func (s *shrinkage) directory(f *file) error {
	was := &inode{number: f.number, size: int64(le.Uint32(f.b[inoSizeLo:])), flags: le.Uint32(f.b[inoFlags:]),
		block: f.b[inoBlock : inoBlock+inoBlockSz]}
	if s.v.incompat&incompatLargeDir != 0 {
		was.size |= int64(le.Uint32(f.b[inoSizeHi:])) << 32
	}
	if was.size > maxDirBytes {
		return fmt.Errorf("the directory claims %d bytes", was.size)
	}
	// The blocks are read where they are now and written where they will be: the map in f is the new one already.
	old, err := s.old.readInode(f.number)
	if err != nil {
		return err
	}
	from, err := s.old.extents(old)
	if err != nil {
		return err
	}
	place, err := s.placesOf(was)
	if err != nil {
		return err
	}
	blocks := (was.size + s.v.blockSize - 1) / s.v.blockSize
	for _, x := range from {
		for i := range min(x.n, blocks-x.logical) {
			logical := x.logical + i
			b, err := s.block(x.physical + i)
			if err != nil {
				return err
			}
			if changed := s.names(f, b); changed {
				at, ok := place[logical]
				if !ok {
					return fmt.Errorf("block %d of the directory has no place", logical)
				}
				s.patches = append(s.patches, s.packer.Patch(at*s.v.blockSize, b, "names of a directory"))
			}
		}
	}
	return nil
}

// placesOf lists where the blocks of a file will be, from its new map. Blocks of that map are among the patches.
func (s *shrinkage) placesOf(n *inode) (map[int64]int64, error) {
	nv := *s.old
	nv.r = patched{s}
	nv.ro &^= roMetadataCsum // the new map has no checksums yet
	x, err := nv.extents(n)
	out := map[int64]int64{}
	for _, e := range x {
		for i := range min(e.n, (n.size+s.v.blockSize-1)/s.v.blockSize-e.logical) {
			out[e.logical+i] = e.physical + i
		}
	}
	return out, err
}

// patched reads the blocks of maps as they will be.
type patched struct{ s *shrinkage }

func (p patched) ReadAt(b []byte, off int64) (int, error) {
	if n := p.s.nodes[off/p.s.v.blockSize]; len(n) == len(b) && off%p.s.v.blockSize == 0 {
		return copy(b, n), nil
	}
	return p.s.old.r.ReadAt(b, off)
}

// names puts new numbers into one block of a directory, and its checksum; false when nothing of it changes.
func (s *shrinkage) names(f *file, b []byte) (changed bool) {
	for at := 0; at+dirHeader <= len(b); {
		n := int(le.Uint16(b[at+4:]))
		if n == 0xFFFF || n == 0 && len(b) == 64<<10 {
			n = len(b) // the whole block of 64 KiB
		}
		if n < dirHeader || at+n > len(b) {
			break
		}
		if to, ok := s.renamed[int64(le.Uint32(b[at:]))]; ok {
			le.PutUint32(b[at:], uint32(to))
			changed = true
		}
		at += n
	}
	if s.v.ro&roMetadataCsum == 0 || !changed && f.to == f.number {
		return changed
	}
	if at, ok := dxCounts(b); ok && le.Uint32(f.b[inoFlags:])&flagIndex != 0 {
		limit, count := int(le.Uint16(b[at:])), int(le.Uint16(b[at+2:]))
		tail := at + limit*dxEntry
		if count > limit || tail+8 > len(b) {
			return changed
		}
		le.PutUint32(b[tail+4:], csum(f.seed, b[:at+count*dxEntry], b[tail:tail+4], u32(0)))
		return true
	}
	if t := b[len(b)-dirTailLen:]; le.Uint32(t) == 0 && le.Uint16(t[4:]) == dirTailLen && t[6] == 0 &&
		t[7] == dirTailTag {
		le.PutUint32(t[8:], csum(f.seed, b[:len(b)-dirTailLen]))
		return true
	}
	return changed
}

// dxCounts finds the counts of a node of a hash tree.
func dxCounts(b []byte) (int, bool) {
	switch n := int(le.Uint16(b[4:])); {
	case n == len(b) || n == 0xFFFF:
		return dxNodeAt, le.Uint32(b) == 0
	case n == 12 && int(le.Uint16(b[12+4:])) == len(b)-12:
		return dxRootAt, le.Uint32(b[dxInfoAt:]) == 0 && b[dxInfoAt+5] == dxInfoLen
	}
	return 0, false
}
