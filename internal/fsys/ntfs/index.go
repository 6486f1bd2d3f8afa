package ntfs

import (
	"encoding/binary"

	"twinshelf/internal/fsys"
)

// maxIndexBlocks bounds the blocks of a directory's index.
const maxIndexBlocks = 1 << 16

// indexEntry is a name in a directory.
type indexEntry struct {
	name  string
	space byte
	ref   uint64 // file record, and its sequence number in the upper 16 bits
}

// index calls each with the names in a directory, by walking its index blocks in their order on disk, not along the
// tree: a broken link loses nothing. A block that can't be read is left out, and the first such error returned at the
// end.
func (v *Volume) index(rec *record, each func(indexEntry) bool) error {
	root, err := v.stream(rec, attrIndexRoot, indexName)
	if err != nil {
		return err
	}
	if len(root.value) < rootMin {
		return fsys.Contradiction(rec.at, "it has no index")
	}
	if !indexEntries(root.value[rootHeader:], each) {
		return nil
	}
	blockSize := int64(binary.LittleEndian.Uint32(root.value[rootBlockSize:]))
	alloc, err := v.stream(rec, attrIndexAlloc, indexName)
	if err != nil || !alloc.found {
		return err
	}
	if blockSize < 512 || blockSize > 64<<10 || blockSize%512 != 0 || alloc.size < 0 ||
		alloc.size/blockSize > maxIndexBlocks {
		return fsys.Contradiction(rec.at, "its index has blocks of %d bytes, %d bytes in all", blockSize, alloc.size)
	}
	inUse, err := v.stream(rec, attrBitmap, indexName)
	if err != nil {
		return err
	}
	bitmap := inUse.value
	if bitmap == nil && inUse.found {
		bitmap = make([]byte, min(max(0, inUse.size), maxIndexBlocks/8))
		if _, err := v.readRuns(inUse.runs, bitmap, 0); err != nil {
			return err
		}
	}
	var problem error
	b := make([]byte, blockSize)
	for from, to := range fsys.Runs(bitmap, min(int(alloc.size/blockSize), len(bitmap)*8)) {
		for i := from; i < to; i++ {
			at, err := v.readRuns(alloc.runs, b, int64(i)*blockSize)
			if err == nil {
				err = unfix(b, "INDX", at)
			}
			if err != nil {
				if problem == nil {
					problem = err
				}
				continue
			}
			if !indexEntries(b[indexHeaderAt:], each) {
				return problem
			}
		}
	}
	return problem
}

// indexEntries calls each with the names after an index header ("Index Header"), and says whether to go on.
func indexEntries(b []byte, each func(indexEntry) bool) bool {
	le := binary.LittleEndian
	if len(b) < headerLen {
		return true
	}
	off, end := int(le.Uint32(b[headerEntries:])), min(int(le.Uint32(b[headerUsed:])), len(b))
	for off >= 0 && off+indexEntryMin <= end {
		e := b[off:end]
		n, keyLen := int(le.Uint16(e[entryLength:])), int(le.Uint16(e[entryKeyLength:]))
		if le.Uint16(e[entryFlags:])&entryLast != 0 || n < indexEntryMin || n > len(e) {
			break
		}
		if key := e[indexEntryMin:n]; keyLen >= nameInFileName && keyLen <= len(key) {
			if nameLen := int(key[nameLenInFileName]) * 2; nameInFileName+nameLen <= len(key) {
				if !each(indexEntry{utf16String(key[nameInFileName : nameInFileName+nameLen]), key[spaceInFileName],
					le.Uint64(e)}) {
					return false
				}
			}
		}
		off += n
	}
	return true
}
