package ntfs

import (
	"bytes"
	"encoding/binary"
	"slices"
	"time"
	"unicode/utf16"

	"twinshelf/internal/fsys/upcase"
	"twinshelf/internal/span"
)

// newRecord is a file record being filled.
type newRecord struct {
	p        *plan
	number   uint32
	flags    uint16
	attrs    []byte
	instance uint16
	links    uint16
	sequence uint16 // 0 for that of a new volume
}

func (p *plan) newRecord(number uint32, flags uint16) *newRecord {
	return &newRecord{p: p, number: number, flags: flags | recordInUse}
}

func align8(b []byte) []byte { return append(b, make([]byte, -len(b)&7)...) }

func utf16Bytes(s string) []byte {
	var b []byte
	for _, c := range utf16.Encode([]rune(s)) {
		b = binary.LittleEndian.AppendUint16(b, c)
	}
	return b
}

// header is the common start of an attribute.
func (r *newRecord) header(kind uint32, name string, nonResident bool, length int) []byte {
	le := binary.LittleEndian
	b := le.AppendUint32(nil, kind)
	b = le.AppendUint32(b, uint32(length))
	flag := byte(0)
	nameAt := attrHeaderShort
	if nonResident {
		flag, nameAt = 1, attrHeaderLong
	}
	b = append(b, flag, byte(len(utf16Bytes(name))/2))
	b = le.AppendUint16(b, uint16(nameAt))
	b = le.AppendUint16(b, 0)
	b = le.AppendUint16(b, r.instance)
	r.instance++
	return b
}

// resident adds an attribute whose value stands in the record.
func (r *newRecord) resident(kind uint32, name string, value []byte) {
	le := binary.LittleEndian
	nameBytes := align8(utf16Bytes(name))
	at := attrHeaderShort + len(nameBytes)
	b := r.header(kind, name, false, (at+len(value)+7)&^7)
	b = le.AppendUint32(b, uint32(len(value)))
	b = le.AppendUint16(b, uint16(at))
	indexed := byte(0)
	if kind == attrFileName {
		indexed = 1
	}
	b = append(b, indexed, 0)
	b = append(b, nameBytes...)
	r.attrs = append(r.attrs, align8(append(b, value...))...)
}

// nonResident adds an attribute that lies in one run of clusters; an empty where
// makes it one hole of the given size.
func (r *newRecord) nonResident(kind uint32, name string, where span.Span, size int64, hole bool) {
	le := binary.LittleEndian
	c := r.p.cluster
	n := (size + c - 1) / c
	initialised := size
	runs := encodeRun(n, where.Start, hole)
	if hole {
		initialised = 0
	}
	nameBytes := align8(utf16Bytes(name))
	at := attrHeaderLong + len(nameBytes)
	b := r.header(kind, name, true, (at+len(runs)+7)&^7)
	b = le.AppendUint64(b, 0)
	b = le.AppendUint64(b, uint64(n-1))
	b = le.AppendUint16(b, uint16(at))
	b = append(b, make([]byte, 6)...)
	for _, v := range []int64{n * c, size, initialised} {
		b = le.AppendUint64(b, uint64(v))
	}
	b = append(b, nameBytes...)
	r.attrs = append(r.attrs, align8(append(b, runs...))...)
}

// encodeRun is a run list of one run ("Run List").
func encodeRun(n, lcn int64, hole bool) []byte {
	minimal := func(v int64) []byte {
		b := binary.LittleEndian.AppendUint64(nil, uint64(v))
		for len(b) > 1 && b[len(b)-1] == 0 && b[len(b)-2] < 0x80 {
			b = b[:len(b)-1]
		}
		return b
	}
	length := minimal(n)
	if hole {
		return append(append([]byte{byte(len(length))}, length...), 0)
	}
	at := minimal(lcn)
	return append(slices.Concat([]byte{byte(len(at)<<4 | len(length))}, length, at), 0)
}

func (p *plan) filetime() uint64 {
	return uint64(p.f.Now.Sub(time.Date(1970, 1, 1, 0, 0, 0, 0, time.UTC))/100) + 116444736000000000
}

func reference(number uint32) uint64 { return uint64(number) | uint64(max(1, number))<<48 }

// standard adds $STANDARD_INFORMATION with a security identifier.
func (r *newRecord) standard(attributes uint32, security uint32) {
	le := binary.LittleEndian
	var b []byte
	for range 4 {
		b = le.AppendUint64(b, r.p.filetime())
	}
	b = le.AppendUint32(b, attributes)
	b = append(b, make([]byte, 16)...) // versions, class, owner
	b = le.AppendUint32(b, security)
	r.resident(attrStandard, "", append(b, make([]byte, 16)...))
}

// fileName is the value of $FILE_NAME, which is also a directory entry's key.
func (p *plan) fileName(parent uint32, name string, attributes uint32, allocated, size int64) []byte {
	le := binary.LittleEndian
	b := le.AppendUint64(nil, reference(parent))
	for range 4 {
		b = le.AppendUint64(b, p.filetime())
	}
	b = le.AppendUint64(b, uint64(allocated))
	b = le.AppendUint64(b, uint64(size))
	b = le.AppendUint32(b, attributes)
	b = le.AppendUint32(b, 0)
	u := utf16Bytes(name)
	b = append(b, byte(len(u)/2), win32AndDOS)
	return append(b, u...)
}

// bytes is the finished record with its fix-ups.
func (r *newRecord) bytes() []byte {
	size := r.p.record
	b := make([]byte, size)
	le := binary.LittleEndian
	copy(b, "FILE")
	count := size/fixupStride + 1
	attrsAt := (usaOffset + 2*count + 7) &^ 7
	le.PutUint16(b[recUSAOffset:], usaOffset)
	le.PutUint16(b[recUSACount:], uint16(count))
	sequence := r.sequence
	if sequence == 0 {
		sequence = uint16(max(1, r.number))
	}
	le.PutUint16(b[recSequence:], sequence)
	le.PutUint16(b[recLinks:], r.links)
	le.PutUint16(b[recAttrsOffset:], uint16(attrsAt))
	le.PutUint16(b[recFlags:], r.flags)
	le.PutUint32(b[recAllocated:], uint32(size))
	le.PutUint16(b[recNextInstance:], r.instance)
	le.PutUint32(b[recNumberAt:], r.number)
	n := attrsAt + int64(copy(b[attrsAt:], r.attrs))
	le.PutUint32(b[n:], attrEnd)
	le.PutUint32(b[recBytesInUse:], uint32(n+8))
	fixUp(b, usaOffset, usn)
	return b
}

// fixUp swaps the last two bytes of each stride for a sequence number; the array for them stands at byte at ("Fixups").
func fixUp(b []byte, at int, number uint16) {
	le := binary.LittleEndian
	le.PutUint16(b[at:], number)
	for i := range len(b) / fixupStride {
		end := b[(i+1)*fixupStride-2:]
		copy(b[at+2+2*i:], end[:2])
		le.PutUint16(end, number)
	}
}

// indexRoot is the value of $INDEX_ROOT: a header and the entries, ending with the last one.
func (p *plan) indexRoot(kind, collation uint32, flags byte, entries []byte) []byte {
	le := binary.LittleEndian
	b := le.AppendUint32(nil, kind)
	b = le.AppendUint32(b, collation)
	b = le.AppendUint32(b, indexBlock)
	per := byte(indexBlock / fixupStride) // in strides when a block is less than a cluster
	if p.cluster <= indexBlock {
		per = byte(indexBlock / p.cluster)
	}
	b = append(b, per, 0, 0, 0)
	b = append(b, indexHeader(0x10, len(entries), len(entries)+0x10, flags)...)
	return append(b, entries...)
}

func indexHeader(entriesAt, length, allocated int, flags byte) []byte {
	le := binary.LittleEndian
	b := le.AppendUint32(nil, uint32(entriesAt))
	b = le.AppendUint32(b, uint32(entriesAt+length))
	b = le.AppendUint32(b, uint32(allocated))
	return append(b, flags, 0, 0, 0)
}

// lastEntry ends the entries of a node; with a sub-node it names its block.
func lastEntry(node bool) []byte {
	b := make([]byte, 16, 24)
	b[entryLength], b[entryFlags] = 16, entryLast
	if node {
		b[entryLength], b[entryFlags] = 24, entryLast|entryNode
		b = append(b, make([]byte, 8)...)
	}
	return b
}

// nameEntry is a directory entry.
func nameEntry(number uint32, key []byte) []byte {
	le := binary.LittleEndian
	b := le.AppendUint64(nil, reference(number))
	b = le.AppendUint16(b, uint16((16+len(key)+7)&^7))
	b = le.AppendUint16(b, uint16(len(key)))
	b = append(b, 0, 0, 0, 0)
	return align8(append(b, key...))
}

// system is one of the files that make up the volume.
type system struct {
	number     uint32
	name       string
	attributes uint32
	where      span.Span
	size       int64
	security   uint32
}

func (p *plan) systems() []system {
	return []system{
		{recMFT, "$MFT", fileHiddenSys, p.mft, p.records * p.record, secSystem},
		{recMirror, "$MFTMirr", fileHiddenSys, p.mirror, mirrored * p.record, secSystem},
		{recLog, "$LogFile", fileHiddenSys, p.log, p.log.Len() * p.cluster, secSystem},
		{recVolume, "$Volume", fileHiddenSys, span.Span{}, 0, secSystem},
		{recAttrDef, "$AttrDef", fileHiddenSys, p.attrDef, attrDefBytes, secSystem},
		{recRoot, ".", fileHiddenSys | fileIndex, span.Span{}, 0, secRoot},
		{recBitmap, "$Bitmap", fileHiddenSys, p.bitmap, p.bitmapBytes, secSystem},
		{recBoot, "$Boot", fileHiddenSys, p.boot, bootBytes, secSystem},
		{recBadClus, "$BadClus", fileHiddenSys, span.Span{}, 0, secSystem},
		{recSecure, "$Secure", fileHiddenSys | fileView, span.Span{}, 0, secSystem},
		{recUpcase, "$UpCase", fileHiddenSys, p.upcase, upcaseBytes, secSystem},
		{recExtend, "$Extend", fileHiddenSys | fileIndex, span.Span{}, 0, secSystem},
	}
}

// name makes the $FILE_NAME of a system file.
func (p *plan) name(s system, parent uint32) []byte {
	return p.fileName(parent, s.name, s.attributes, s.where.Len()*p.cluster, s.size)
}

// fileRecords are all records of a new $MFT.
func (p *plan) fileRecords() []byte {
	out := make([]byte, 0, p.records*p.record)
	for _, s := range p.systems() {
		out = append(out, p.systemRecord(s)...)
	}
	for n := uint32(recExtend + 1); n < uint32(p.records); n++ {
		switch {
		case n < 16: // kept for later versions
			r := p.newRecord(n, 0)
			r.standard(fileHiddenSys, secSystem)
			r.resident(attrData, "", nil)
			out = append(out, r.bytes()...)
		case n >= recQuota && n <= recReparse:
			out = append(out, p.extendRecord(n)...)
		default:
			r := &newRecord{p: p, number: n}
			out = append(out, r.bytes()...)
		}
	}
	return out
}

func (p *plan) systemRecord(s system) []byte {
	flags := uint16(0)
	switch s.number {
	case recRoot, recExtend:
		flags = recordIsDir
	case recSecure:
		flags = recordIsView
	}
	r := p.newRecord(s.number, flags)
	r.links = 1
	r.standard(s.attributes&^(fileIndex|fileView), s.security)
	r.resident(attrFileName, "", p.name(s, recRoot))
	switch s.number {
	case recVolume:
		r.resident(attrVolumeName, "", utf16Bytes(p.f.Label))
		r.resident(attrVolumeInfo, "", []byte{0, 0, 0, 0, 0, 0, 0, 0, 3, 1, 0, 0})
		r.resident(attrData, "", nil)
	case recRoot:
		r.resident(attrIndexRoot, "$I30", p.indexRoot(attrFileName, collateName, largeIndex, lastEntry(true)))
		r.nonResident(attrIndexAlloc, "$I30", p.root, indexBlock, false)
		r.resident(attrBitmap, "$I30", []byte{1, 0, 0, 0, 0, 0, 0, 0})
	case recBadClus:
		r.resident(attrData, "", nil)
		r.nonResident(attrData, "$Bad", span.Span{}, p.clusters*p.cluster, true)
	case recSecure:
		stream := securityStream()
		r.nonResident(attrData, "$SDS", p.secure, int64(len(stream)), false)
		r.resident(attrIndexRoot, "$SDH", p.indexRoot(0, collateSecurity, 0, securityHashIndex()))
		r.resident(attrIndexRoot, "$SII", p.indexRoot(0, collateULong, 0, securityIDIndex()))
	case recExtend:
		r.resident(attrIndexRoot, "$I30", p.indexRoot(attrFileName, collateName, 0, p.extendIndex()))
	default:
		r.nonResident(attrData, "", s.where, s.size, false)
		if s.number == recMFT {
			r.nonResident(attrBitmap, "", p.mftBitmap, p.records/8, false)
		}
	}
	return r.bytes()
}

// extended are the files in $Extend.
var extended = map[uint32]string{recQuota: "$Quota", recObjID: "$ObjId", recReparse: "$Reparse"}

const extendAttributes = fileHiddenSys | fileArchive

func (p *plan) extendKey(n uint32) []byte {
	return p.fileName(recExtend, extended[n], extendAttributes|fileView, 0, 0)
}

func (p *plan) extendIndex() []byte {
	var b []byte
	for _, n := range []uint32{recObjID, recQuota, recReparse} { // by name
		b = append(b, nameEntry(n, p.extendKey(n))...)
	}
	return append(b, lastEntry(false)...)
}

func (p *plan) extendRecord(n uint32) []byte {
	r := p.newRecord(n, recordIsExtend|recordIsView)
	r.links = 1
	r.standard(extendAttributes, secSystem)
	r.resident(attrFileName, "", p.extendKey(n))
	empty := lastEntry(false)
	switch n {
	case recQuota:
		r.resident(attrIndexRoot, "$O", p.indexRoot(0, collateSID, 0, empty))
		r.resident(attrIndexRoot, "$Q", p.indexRoot(0, collateULong, 0, append(p.quotaDefaults(), empty...)))
	case recObjID:
		r.resident(attrIndexRoot, "$O", p.indexRoot(0, collateULongs, 0, empty))
	case recReparse:
		r.resident(attrIndexRoot, "$R", p.indexRoot(0, collateULongs, 0, empty))
	}
	return r.bytes()
}

// quotaDefaults is the entry that says: no limits for anybody.
func (p *plan) quotaDefaults() []byte {
	le := binary.LittleEndian
	data := le.AppendUint32(nil, 2) // version
	data = le.AppendUint32(data, 1) // default limits
	data = le.AppendUint64(data, 0) // used
	data = le.AppendUint64(data, p.filetime())
	data = le.AppendUint64(data, ^uint64(0))
	data = le.AppendUint64(data, ^uint64(0))
	data = le.AppendUint64(data, 0)
	return viewEntry(le.AppendUint32(nil, 1), data, nil)
}

// viewEntry is an entry of an index that isn't a directory: a key with data.
func viewEntry(key, data, pad []byte) []byte {
	le := binary.LittleEndian
	b := le.AppendUint16(nil, uint16(16+len(key)))
	b = le.AppendUint16(b, uint16(len(data)))
	b = le.AppendUint32(b, 0)
	b = le.AppendUint16(b, uint16((16+len(key)+len(data)+len(pad)+7)&^7))
	b = le.AppendUint16(b, uint16(len(key)))
	b = append(b, 0, 0, 0, 0)
	return align8(slices.Concat(b, key, data, pad))
}

// rootIndex is the root directory's only index block.
func (p *plan) rootIndex() []byte {
	systems := p.systems()
	up := upcase.Table()
	fold := func(name string) []uint16 {
		u := utf16.Encode([]rune(name))
		for i, c := range u {
			u[i] = up[c]
		}
		return u
	}
	slices.SortFunc(systems, func(a, b system) int { return slices.Compare(fold(a.name), fold(b.name)) })
	var entries []byte
	for _, s := range systems {
		entries = append(entries, nameEntry(s.number, p.name(s, recRoot))...)
	}
	entries = append(entries, lastEntry(false)...)
	b := make([]byte, indexBlock)
	le := binary.LittleEndian
	copy(b, "INDX")
	const count = indexBlock/fixupStride + 1
	const entriesAt = (indexUSA + 2*count + 7) &^ 7
	le.PutUint16(b[recUSAOffset:], indexUSA)
	le.PutUint16(b[recUSACount:], count)
	copy(b[indexHeaderAt:], indexHeader(entriesAt-indexHeaderAt, len(entries), indexBlock-indexHeaderAt, 0))
	copy(b[entriesAt:], entries)
	fixUp(b, indexUSA, usn)
	return b
}

// attrDefTable is $AttrDef: name, type, flags, least and largest size of each kind of attribute.
func attrDefTable() []byte {
	const unlimited = ^uint64(0)
	var b bytes.Buffer
	for _, d := range []struct {
		name     string
		kind     uint32
		flags    uint32 // 0x02 indexed, 0x40 must be resident, 0x80 need not
		min, max uint64
	}{
		{"$STANDARD_INFORMATION", attrStandard, 0x40, 0x30, 0x48}, {"$ATTRIBUTE_LIST", attrList, 0x80, 0, unlimited},
		{"$FILE_NAME", attrFileName, 0x42, 0x44, 0x242}, {"$OBJECT_ID", 0x40, 0x40, 0, 0x100},
		{"$SECURITY_DESCRIPTOR", 0x50, 0x80, 0, unlimited},
		{"$VOLUME_NAME", attrVolumeName, 0x40, 2, 0x100}, {"$VOLUME_INFORMATION", attrVolumeInfo, 0x40, 0xC, 0xC},
		{"$DATA", attrData, 0, 0, unlimited},
		{"$INDEX_ROOT", attrIndexRoot, 0x40, 0, unlimited}, {"$INDEX_ALLOCATION", attrIndexAlloc, 0x80, 0, unlimited},
		{"$BITMAP", attrBitmap, 0x80, 0, unlimited},
		{"$REPARSE_POINT", attrReparse, 0x80, 0, 0x4000},
		{"$EA_INFORMATION", 0xD0, 0x40, 8, 8}, {"$EA", 0xE0, 0, 0, 0x10000},
		{"$LOGGED_UTILITY_STREAM", 0x100, 0x80, 0, 0x10000},
	} {
		e := make([]byte, defLen)
		le := binary.LittleEndian
		copy(e, utf16Bytes(d.name))
		le.PutUint32(e[defKind:], d.kind)
		if d.kind == attrFileName {
			le.PutUint32(e[defCollate:], collateName)
		}
		le.PutUint32(e[defFlags:], d.flags)
		le.PutUint64(e[defMin:], d.min)
		le.PutUint64(e[defMax:], d.max)
		b.Write(e)
	}
	b.Write(make([]byte, attrDefBytes-b.Len()))
	return b.Bytes()
}
