package ntfs

import (
	"encoding/binary"
	"fmt"
	"strings"

	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// rootEntry is a name in the root directory.
type rootEntry struct {
	name   string
	record int64
}

const (
	indexEntryMin    = 16
	indexEntryLast   = 0x02
	indexHeaderStart = 24 // of an INDX block
	maxIndexBlocks   = 1 << 16
	nameInFileName   = 66
)

// readRoot lists the names in the root directory by walking its index blocks
// in their order on disk, not along the tree: a broken link loses nothing.
func (v *Volume) readRoot() ([]rootEntry, error) {
	rec, err := v.readRecord(recRoot)
	if err != nil {
		return nil, err
	}
	root, err := v.stream(rec, attrIndexRoot, "$I30")
	if err != nil {
		return nil, err
	}
	if len(root.value) < 32 {
		return nil, fsys.Contradiction(rec.at, "it has no index")
	}
	entries := indexEntries(root.value[16:])
	blockSize := int64(binary.LittleEndian.Uint32(root.value[8:]))
	alloc, err := v.stream(rec, attrIndexAlloc, "$I30")
	if err != nil || !alloc.found {
		return entries, err
	}
	if blockSize < 512 || blockSize > 64<<10 || blockSize%512 != 0 || alloc.size/blockSize > maxIndexBlocks {
		return nil, fsys.Contradiction(rec.at, "its index has blocks of %d bytes, %d bytes in all", blockSize, alloc.size)
	}
	inUse, err := v.stream(rec, attrBitmap, "$I30")
	if err != nil {
		return nil, err
	}
	bitmap := inUse.value
	if bitmap == nil && inUse.found {
		bitmap = make([]byte, min(inUse.size, maxIndexBlocks/8))
		if _, err := v.readRuns(inUse.runs, bitmap, 0); err != nil {
			return nil, err
		}
	}
	b := make([]byte, blockSize)
	for from, to := range fsys.Runs(bitmap, int(alloc.size/blockSize)) {
		for i := from; i < to; i++ {
			at, err := v.readRuns(alloc.runs, b, int64(i)*blockSize)
			if err != nil {
				return nil, err
			}
			if err := unfix(b, "INDX", at); err != nil {
				return nil, err
			}
			entries = append(entries, indexEntries(b[indexHeaderStart:])...)
		}
	}
	return entries, nil
}

// indexEntries lists the names behind an index header ("Index Header").
func indexEntries(b []byte) []rootEntry {
	le := binary.LittleEndian
	var out []rootEntry
	if len(b) < 16 {
		return nil
	}
	off, end := int(le.Uint32(b)), min(int(le.Uint32(b[4:])), len(b))
	for off >= 0 && off+indexEntryMin <= end {
		e := b[off:end]
		n, keyLen := int(le.Uint16(e[8:])), int(le.Uint16(e[10:]))
		if le.Uint16(e[12:])&indexEntryLast != 0 || n < indexEntryMin || n > len(e) {
			break
		}
		if key := e[indexEntryMin:n]; keyLen >= nameInFileName && keyLen <= len(key) {
			if nameLen := int(key[64]) * 2; nameInFileName+nameLen <= len(key) {
				out = append(out, rootEntry{utf16String(key[nameInFileName : nameInFileName+nameLen]), int64(le.Uint64(e) & (1<<48 - 1))})
			}
		}
		off += n
	}
	return out
}

func (v *Volume) rootFile(name string) (stream, bool, error) {
	for _, e := range v.rootEntries {
		if strings.EqualFold(e.name, name) {
			rec, err := v.readRecord(e.record)
			if err != nil {
				return stream{}, false, fmt.Errorf("%s: %w", name, err)
			}
			s, err := v.stream(rec, attrData, "")
			return s, err == nil && s.found, err
		}
	}
	return stream{}, false, nil
}

// hibernated looks for a memory image that a system would wake up from: it
// begins with "hibr", a spent one doesn't.
func (v *Volume) hibernated() (bool, error) {
	s, ok, err := v.rootFile("hiberfil.sys")
	if err != nil || !ok || s.size < 4 || len(s.runs) == 0 {
		return false, err
	}
	b := make([]byte, 4)
	if _, err := v.readRuns(s.runs, b, 0); err != nil {
		return false, err
	}
	return strings.EqualFold(string(b), "hibr"), nil
}

// Omissions names the swap files and a spent hibernation file in the root
// directory: the system makes their contents anew at its next start.
func (v *Volume) Omissions() ([]fsys.Omission, error) {
	var out []fsys.Omission
	for _, o := range []struct{ name, what string }{
		{"pagefile.sys", "swapped-out memory (pagefile.sys)"},
		{"swapfile.sys", "swapped-out memory (swapfile.sys)"},
		{"hiberfil.sys", "a spent hibernation image (hiberfil.sys)"},
	} {
		s, ok, err := v.rootFile(o.name)
		if err != nil {
			return nil, err
		}
		var spans []span.Span
		for _, r := range s.runs {
			if ok && !r.sparse {
				spans = append(spans, v.clusterSpan(r.lcn, r.n))
			}
		}
		if set := span.Of(spans...); !set.Empty() {
			out = append(out, fsys.Omission{What: o.what, Why: "the system makes it anew when it starts", Bytes: set.Total(), Spans: set})
		}
	}
	return out, nil
}
