package ntfs

import (
	"encoding/binary"
	"fmt"
	"slices"
	"time"
	"unicode/utf16"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/upcase"
	"twinshelf/internal/span"
)

var _ fsys.RootWriter = (*Volume)(nil)

const (
	// maxAdded bounds the clusters of a file that is added, maxTried the free records that are looked at.
	maxAdded = 4096
	maxTried = 4096
	// maxIndexDepth bounds the way down an index.
	maxIndexDepth = 16
	// besideData is what a file's record needs beside its contents, in bytes.
	besideData = 400

	stdSecurity = 52 // in a $STANDARD_INFORMATION of the longer kind
	stdLong     = 72
)

// adding is a file that is put into the root folder.
type adding struct {
	growth
	number   int64
	sequence uint16
}

// AddToRoot gives the patches that put a new file into the root folder. It gets a file record that $MFT has already,
// and clusters that lie together.
func (v *Volume) AddToRoot(name string, contents []byte, when time.Time) ([]disk.Patch, error) {
	if err := fsys.NewInRoot(v, name); err != nil {
		return nil, err
	}
	root, err := v.readRecord(recRoot)
	if err != nil {
		return nil, err
	}
	a := &adding{growth: growth{v: v, clusters: v.clusters}}
	if err := a.takeRecord(); err != nil {
		return nil, err
	}
	var where span.Span
	if int64(len(contents)) > v.record-besideData {
		if where, err = a.takeClusters((int64(len(contents)) + v.cluster - 1) / v.cluster); err != nil {
			return nil, err
		}
	}
	p := &plan{f: fsys.Form{Now: when}, cluster: v.cluster, record: v.record}
	key := p.fileName(recRoot, name, fileArchive, where.Len()*v.cluster, int64(len(contents)))
	binary.LittleEndian.PutUint16(key[6:], binary.LittleEndian.Uint16(root.b[recSequence:]))
	r := p.newRecord(uint32(a.number), 0)
	r.links, r.sequence = 1, a.sequence
	r.standard(fileArchive, securityOf(root))
	r.resident(attrFileName, "", key)
	if where.Empty() {
		r.resident(attrData, "", contents)
	} else {
		r.nonResident(attrData, "", where, int64(len(contents)), false)
		b := make([]byte, where.Len()*v.cluster)
		copy(b, contents)
		a.patches = append(a.patches, disk.Patch{Off: where.Start * v.cluster, Data: b, Why: "contents of " + name})
	}
	a.pieces(v.mft, a.number*v.record, r.bytes(), fmt.Sprintf("file record %d", a.number))
	entry := nameEntry(uint32(a.number), key)
	binary.LittleEndian.PutUint64(entry, uint64(a.number)|uint64(a.sequence)<<48)
	if err := a.enter(root, name, entry); err != nil {
		return nil, err
	}
	return disk.SortPatches(a.patches, v.info.Size)
}

// securityOf is the security identifier of a record; 0 where it has none.
func securityOf(r *record) uint32 {
	for _, x := range r.attributes() {
		if x.kind == attrStandard && len(x.value) >= stdLong {
			return binary.LittleEndian.Uint32(x.value[stdSecurity:])
		}
	}
	return 0
}

// takeRecord finds a file record that is free.
func (a *adding) takeRecord() error {
	v := a.v
	mft, err := v.readRecord(recMFT)
	if err != nil {
		return err
	}
	s, err := v.stream(mft, attrBitmap, "")
	if err != nil {
		return err
	}
	records := min(v.mftSize/v.record, maxRecords)
	if s.runs == nil || s.size > maxRecords/8 {
		return &fsys.Cant{Why: "the map of its file records is kept in a way that isn't changed here"}
	}
	b := make([]byte, min(s.size, (records+7)/8))
	if _, err := v.readRuns(s.runs, b, 0); err != nil {
		return fmt.Errorf("the map of $MFT: %w", err)
	}
	tried := 0
	for n := int64(firstUser); n < min(records, int64(len(b))*8) && tried < maxTried; n++ {
		if b[n/8]&(1<<(n%8)) != 0 {
			continue
		}
		tried++
		if !a.free(n) {
			continue
		}
		a.pieces(s.runs, n/8, []byte{b[n/8] | 1<<(n%8)}, "map of the file records")
		return nil
	}
	return &fsys.Cant{Why: "it has no free file record"}
}

// free says whether a file record is one that isn't in use, and takes it.
func (a *adding) free(n int64) bool {
	r, err := a.v.readRecord(n)
	if err != nil {
		return false
	}
	le := binary.LittleEndian
	if le.Uint16(r.b[recFlags:])&recordInUse != 0 || le.Uint64(r.b[recBaseRecord:]) != 0 {
		return false
	}
	a.number, a.sequence = n, le.Uint16(r.b[recSequence:])+1
	if a.sequence == 0 {
		a.sequence = 1
	}
	return true
}

// takeClusters finds n free clusters that lie together.
func (a *adding) takeClusters(n int64) (span.Span, error) {
	if n > maxAdded {
		return span.Span{}, &fsys.Cant{Why: fmt.Sprintf("a file of more than %d clusters isn't added", maxAdded)}
	}
	v := a.v
	runs, err := v.bitmapRuns()
	if err != nil {
		return span.Span{}, err
	}
	var found span.Span
	from := int64(0)
	err = v.eachBitmap(runs, v.clusters, func(first int64, b []byte) {
		for c := first; found.Empty() && c < min(v.clusters, first+int64(len(b))*8); c++ {
			if b[(c-first)/8]&(1<<(c%8)) != 0 {
				from = c + 1
			}
			if c+1-from == n {
				found = span.Span{Start: from, End: c + 1}
			}
		}
	})
	switch {
	case err != nil:
		return found, err
	case found.Empty():
		return found, &fsys.Cant{Why: fmt.Sprintf("it has no %d free clusters that lie together", n)}
	}
	b := make([]byte, (found.End+7)/8-found.Start/8)
	if _, err := v.readRuns(runs, b, found.Start/8); err != nil {
		return found, fmt.Errorf("$Bitmap: %w", err)
	}
	for c := found.Start; c < found.End; c++ {
		b[c/8-found.Start/8] |= 1 << (c % 8)
	}
	a.pieces(runs, found.Start/8, b, "cluster bitmap")
	return found, nil
}

// enter puts an entry into the index of the root folder ("$INDEX_ROOT", "$INDEX_ALLOCATION").
func (a *adding) enter(root *record, name string, entry []byte) error {
	v := a.v
	head, ok := single(root, attrIndexRoot, indexName)
	if !ok || len(head.value) < rootMin {
		return &fsys.Cant{Why: "the index of its root folder is kept in a way that isn't changed here"}
	}
	size := int64(binary.LittleEndian.Uint32(head.value[rootBlockSize:]))
	alloc, err := v.stream(root, attrIndexAlloc, indexName)
	if err != nil {
		return err
	}
	if size < 512 || size > 64<<10 || size%512 != 0 || alloc.runs == nil {
		return &fsys.Cant{Why: "the index of its root folder is kept in a way that isn't changed here"}
	}
	unit := min(v.cluster, size)
	if v.cluster > size {
		unit = fixupStride
	}
	_, child, leaf := place(head.value[rootHeader:], name)
	for depth := 0; !leaf && depth < maxIndexDepth; depth++ {
		at := child * unit
		if child < 0 || at+size > alloc.size {
			return fsys.Contradiction(root.at, "the index of the root folder leads to block %d", child)
		}
		b := make([]byte, size)
		where, err := v.readRuns(alloc.runs, b, at)
		if err == nil {
			err = unfix(b, "INDX", where)
		}
		if err != nil {
			return err
		}
		var here int
		if here, child, leaf = place(b[indexHeaderAt:], name); !leaf {
			continue
		}
		if !insertEntry(b[indexHeaderAt:], here, entry) {
			return &fsys.Cant{Why: "the index of its root folder has no room for one more name"}
		}
		refix(b)
		a.pieces(alloc.runs, at, b, "index of the root folder")
		return nil
	}
	return &fsys.Cant{Why: "the index of its root folder is kept in a way that isn't changed here"}
}

// place finds where a name belongs in a node of an index, which begins with its header: the byte of the entry before
// which it is, and the block below that; leaf where there is none.
func place(b []byte, name string) (at int, child int64, leaf bool) {
	le := binary.LittleEndian
	at, end := int(le.Uint32(b[headerEntries:])), min(int(le.Uint32(b[headerUsed:])), len(b))
	for at >= headerLen && at+indexEntryMin <= end {
		n, keyLen := int(le.Uint16(b[at+entryLength:])), int(le.Uint16(b[at+entryKeyLength:]))
		flags := le.Uint16(b[at+entryFlags:])
		if n < indexEntryMin || at+n > end {
			break
		}
		if flags&entryLast != 0 || before(name, b[at+indexEntryMin:at+min(n, indexEntryMin+keyLen)]) {
			if flags&entryNode == 0 {
				return at, 0, true
			}
			if n < indexEntryMin+8 {
				break
			}
			return at, int64(le.Uint64(b[at+n-8:])), false
		}
		at += n
	}
	return 0, -1, false
}

// before says whether a name stands before the one of a key ("$FILE_NAME"), by their capital letters.
func before(name string, key []byte) bool {
	if len(key) < nameInFileName {
		return false
	}
	n := min(nameInFileName+2*int(key[nameLenInFileName]), len(key))
	var other []uint16
	for i := nameInFileName; i+1 < n; i += 2 {
		other = append(other, binary.LittleEndian.Uint16(key[i:]))
	}
	return slices.Compare(capitals(utf16.Encode([]rune(name))), capitals(other)) < 0
}

// capitals are the capital letters of a name.
func capitals(name []uint16) []uint16 {
	for i, c := range name {
		name[i] = upcase.Table()[c]
	}
	return name
}

// insertEntry puts an entry into a node of an index; false when there is no room.
func insertEntry(b []byte, at int, entry []byte) bool {
	le := binary.LittleEndian
	used, allocated := int(le.Uint32(b[headerUsed:])), int(le.Uint32(b[headerUsed+4:]))
	if used+len(entry) > min(allocated, len(b)) || at > used {
		return false
	}
	copy(b[at+len(entry):], b[at:used])
	copy(b[at:], entry)
	le.PutUint32(b[headerUsed:], uint32(used+len(entry)))
	return true
}
