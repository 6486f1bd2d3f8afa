package ntfs

import (
	"encoding/binary"

	"twinshelf/internal/fsys"
)

// The index of a directory ("$INDEX_ROOT", "$INDEX_ALLOCATION", "$FILE_NAME").
const (
	indexEntryMin    = 16
	indexEntryLast   = 0x02
	indexHeaderStart = 24 // of an INDX block
	maxIndexBlocks   = 1 << 16
	indexName        = "$I30"

	nameLenInFileName      = 64
	spaceInFileName        = 65
	nameInFileName         = 66
	spaceDOS          byte = 2 // a short name beside a long one
)

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
	if len(root.value) < 32 {
		return fsys.Contradiction(rec.at, "it has no index")
	}
	if !indexEntries(root.value[16:], each) {
		return nil
	}
	blockSize := int64(binary.LittleEndian.Uint32(root.value[8:]))
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
			if !indexEntries(b[indexHeaderStart:], each) {
				return problem
			}
		}
	}
	return problem
}

// indexEntries calls each with the names behind an index header ("Index Header"), and says whether to go on.
func indexEntries(b []byte, each func(indexEntry) bool) bool {
	le := binary.LittleEndian
	if len(b) < 16 {
		return true
	}
	off, end := int(le.Uint32(b)), min(int(le.Uint32(b[4:])), len(b))
	for off >= 0 && off+indexEntryMin <= end {
		e := b[off:end]
		n, keyLen := int(le.Uint16(e[8:])), int(le.Uint16(e[10:]))
		if le.Uint16(e[12:])&indexEntryLast != 0 || n < indexEntryMin || n > len(e) {
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
