package ext

import (
	"encoding/binary"
	"errors"
)

// errGarbled means that what should be a node of an extent tree isn't one.
var errGarbled = errors.New("an extent tree is garbled")

// splitNode gives the entries of a node of an extent tree, as they lie in it, and its depth, 0 for a leaf. Depth must
// fall by one with each level; -1 takes any.
func splitNode(b []byte, wantDepth int) (entries [][]byte, depth int, err error) {
	le := binary.LittleEndian
	count := int(le.Uint16(b[ehEntries:]))
	depth = int(le.Uint16(b[ehDepth:]))
	if le.Uint16(b) != extentMagic || extentHeader+count*extentEntry > len(b) || depth > maxDepth ||
		wantDepth >= 0 && depth != wantDepth {
		return nil, 0, errGarbled
	}
	entries = make([][]byte, count)
	for i := range entries {
		entries[i] = b[extentHeader+i*extentEntry:][:extentEntry:extentEntry]
	}
	return entries, depth, nil
}

// nodeRoom is how many entries a node has room for; after them a block has its checksum.
func nodeRoom(b []byte) int { return int(binary.LittleEndian.Uint16(b[ehMost:])) }

// nodeTail is the byte of a node at which its checksum lies.
func nodeTail(b []byte) int { return extentHeader + nodeRoom(b)*extentEntry }

// entryExtent reads an entry of a leaf. What isn't written yet reads as zeros.
func entryExtent(e []byte) (x extent, written bool) {
	le := binary.LittleEndian
	x = extent{int64(le.Uint32(e[eeLogical:])),
		int64(le.Uint16(e[eeStartHi:]))<<32 | int64(le.Uint32(e[eeStartLo:])), int64(le.Uint16(e[eeLen:]))}
	if x.n > uninitExtent {
		x.n -= uninitExtent
		return x, false
	}
	return x, true
}

// appendExtent adds an entry of a leaf.
func appendExtent(b []byte, x extent, written bool) []byte {
	le := binary.LittleEndian
	n := x.n
	if !written {
		n += uninitExtent
	}
	b = le.AppendUint32(b, uint32(x.logical))
	b = le.AppendUint16(b, uint16(n))
	b = le.AppendUint16(b, uint16(x.physical>>32))
	return le.AppendUint32(b, uint32(x.physical))
}

// entryChild is the block of the node below an entry.
func entryChild(e []byte) int64 {
	le := binary.LittleEndian
	return int64(le.Uint16(e[eiChildHi:]))<<32 | int64(le.Uint32(e[eiChildLo:]))
}

// putChild points an entry to the block of the node below.
func putChild(e []byte, block int64) {
	le := binary.LittleEndian
	le.PutUint32(e[eiChildLo:], uint32(block))
	le.PutUint16(e[eiChildHi:], uint16(block>>32))
}
