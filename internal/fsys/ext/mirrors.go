package ext

import (
	"encoding/binary"
	"io"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// mirrors are the copies of the super block and of the group descriptors in group 1, where all volumes but the oddest
// have them.
func mirrors(r io.ReaderAt, _, _ int64) []fsys.Mirror {
	places := []int64{superOffset}
	for _, block := range []int64{1024, 2048, 4096} { // groups have as many blocks as a block of bits names
		places = append(places, block*block*8+first(block)*block)
	}
	for _, at := range places {
		sb := make([]byte, superLen)
		if disk.ReadFull(r, sb, at) != nil || binary.LittleEndian.Uint16(sb[sbMagic:]) != magic {
			continue
		}
		return copiesBy(sb)
	}
	return nil
}

// first is the number of the block in which the super block lies.
func first(block int64) int64 {
	if block == 1024 {
		return 1
	}
	return 0
}

// copiesBy tells from a super block, or a copy of it, where the others lie.
func copiesBy(sb []byte) []fsys.Mirror {
	le := binary.LittleEndian
	log, per := le.Uint32(sb[sbLogBlock:]), int64(le.Uint32(sb[sbBlocksPerGroup:]))
	if log > 6 || per == 0 {
		return nil
	}
	block := int64(1024) << log
	copyAt := (per + first(block)) * block
	out := []fsys.Mirror{{Of: span.At(superOffset, superLen), At: span.At(copyAt, superLen)}}
	incompat := le.Uint32(sb[sbIncompat:])
	if incompat&incompatMetaBG != 0 {
		return out
	}
	desc := int64(32)
	if incompat&incompat64bit != 0 {
		desc = max(32, min(1024, int64(le.Uint16(sb[sbDescSize:]))))
	}
	groups := (int64(le.Uint32(sb[sbBlocksLo:])) + per - 1) / per
	length := (groups*desc + block - 1) / block * block
	return append(out, fsys.Mirror{Of: span.At((first(block)+1)*block, length), At: span.At(copyAt+block, length)})
}
