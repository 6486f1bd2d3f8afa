package ntfs

import (
	"encoding/binary"
	"fmt"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

// maxListBytes bounds an attribute list, in bytes.
const maxListBytes = 1 << 20

// record is a file record with its fix-ups undone.
type record struct {
	number int64 // -1 when read by place
	at     int64 // byte in the volume
	b      []byte
}

// attribute is one attribute of a record.
type attribute struct {
	kind        uint32
	name        string
	nonResident bool
	value       []byte // resident
	valueAt     int64  // byte in the volume at which it stands
	firstVCN    int64
	runs        []byte // encoded
	size        int64  // bytes of the whole stream, in its first piece
	valid       int64  // of them, those that were written; the rest reads as zeros
	flags       uint16
	unit        int // in which it is packed: 2^unit clusters
	at          int64
}

// unfix checks and undoes the fix-ups of a multi-sector structure ("Fixups"):
// the last two bytes of each 512-byte stride were swapped for a sequence number.
func unfix(b []byte, magic string, at int64) error {
	if string(b[:4]) != magic {
		return fsys.Contradiction(at, "there should be a %q structure and isn't", magic)
	}
	le := binary.LittleEndian
	off, count := int(le.Uint16(b[recUSAOffset:])), int(le.Uint16(b[recUSACount:]))
	if count != len(b)/fixupStride+1 || off+2*count > len(b) || off < 8 {
		return fsys.Contradiction(at, "the fix-ups of a %q structure don't fit it", magic)
	}
	number := le.Uint16(b[off:])
	for i := 1; i < count; i++ {
		end := b[i*fixupStride-2:]
		if le.Uint16(end) != number {
			return fsys.Contradiction(at, "a %q structure was written only in part", magic)
		}
		copy(end[:2], b[off+2*i:off+2*i+2])
	}
	return nil
}

func (v *records) readRecordAt(at int64) (*record, error) {
	b := make([]byte, v.record)
	if err := disk.ReadFull(v.r, b, at); err != nil {
		return nil, err
	}
	if err := unfix(b, recMagic, at); err != nil {
		return nil, err
	}
	if binary.LittleEndian.Uint16(b[recFlags:])&recordInUse == 0 {
		return nil, fsys.Contradiction(at, "the file record is not in use")
	}
	return &record{number: -1, at: at, b: b}, nil
}

// readRecord reads a file record by number through $MFT's run list.
func (v *records) readRecord(n int64) (*record, error) {
	if n < 0 || n >= maxRecords || (n+1)*v.record > v.mftSize {
		return nil, fmt.Errorf("file record %d lies beyond the end of $MFT", n)
	}
	b := make([]byte, v.record)
	at, err := v.readRuns(v.mft, b, n*v.record)
	if err != nil {
		return nil, fmt.Errorf("file record %d: %w", n, err)
	}
	if err := unfix(b, recMagic, at); err != nil {
		return nil, fmt.Errorf("file record %d: %w", n, err)
	}
	return &record{number: n, at: at, b: b}, nil
}

// attributes lists a record's attributes; a broken one ends the list.
func (r *record) attributes() []attribute {
	out, _ := r.allAttributes()
	return out
}

// allAttributes lists a record's attributes, and says whether the list comes to its end.
func (r *record) allAttributes() (out []attribute, whole bool) {
	le := binary.LittleEndian
	end := min(int(le.Uint32(r.b[recBytesInUse:])), len(r.b))
	first := min(int(le.Uint16(r.b[recAttrsOffset:])), end)
	return attributesIn(r.b[first:end], r.at+int64(first))
}

// attributesIn lists the attributes in b, which stands at a byte of the volume, and says whether they come to their end
// mark.
func attributesIn(b []byte, at int64) (out []attribute, whole bool) {
	le := binary.LittleEndian
	for len(b) >= 4 {
		kind := le.Uint32(b)
		if kind == attrEnd {
			return out, true
		}
		if len(b) < attrHeaderShort {
			break
		}
		n := int(le.Uint32(b[headLength:]))
		if n < attrHeaderShort || n > len(b) {
			break
		}
		a, ok := attributeIn(b[:n], at)
		if !ok {
			break
		}
		out = append(out, a)
		b, at = b[n:], at+int64(n)
	}
	return out, false
}

// attributeIn reads the attribute that b is, which stands at a byte of the volume.
func attributeIn(b []byte, at int64) (a attribute, ok bool) {
	le := binary.LittleEndian
	n := len(b)
	a = attribute{kind: le.Uint32(b), nonResident: b[headNonResident] != 0, at: at, flags: le.Uint16(b[headFlags:])}
	if nameLen, nameOff := int(b[headNameLen])*2, int(le.Uint16(b[headNameOffset:])); nameLen > 0 &&
		nameOff+nameLen <= n {
		a.name = utf16String(b[nameOff : nameOff+nameLen])
	}
	if a.nonResident {
		if n < attrHeaderLong {
			return a, false
		}
		a.firstVCN, a.unit = int64(le.Uint64(b[nonFirstVCN:])), int(le.Uint16(b[nonUnit:]))
		a.size, a.valid = int64(le.Uint64(b[nonSize:])), int64(le.Uint64(b[nonInitial:]))
		off := int(le.Uint16(b[nonRuns:]))
		if off < attrHeaderLong || off > n {
			return a, false
		}
		a.runs = b[off:]
		return a, true
	}
	size, off := int(le.Uint32(b[resLength:])), int(le.Uint16(b[resOffset:]))
	if size < 0 || off+size > n {
		return a, false
	}
	a.value, a.valueAt = b[off:off+size], at+int64(off)
	a.size, a.valid = int64(size), int64(size)
	return a, true
}

// stream is the contents of an attribute: bytes or runs.
type stream struct {
	value   []byte // resident
	valueAt int64
	runs    []run
	size    int64
	valid   int64 // see attribute
	flags   uint16
	unit    int
	found   bool
}

// stream collects an attribute over the record and, with an attribute list,
// over the records that hold its other pieces.
func (v *records) stream(r *record, kind uint32, name string) (s stream, err error) {
	attrs := r.attributes()
	for _, a := range attrs {
		if a.kind == attrList {
			return v.listed(r, a, kind, name)
		}
	}
	for _, a := range attrs {
		if a.kind == kind && strings.EqualFold(a.name, name) {
			err = v.addPiece(&s, a)
			return s, err
		}
	}
	return s, nil
}

// addPiece appends the runs (or the value) of one piece of an attribute.
func (v *records) addPiece(s *stream, a attribute) error {
	if a.firstVCN == 0 {
		s.size, s.valid, s.flags, s.unit = a.size, a.valid, a.flags, a.unit
	}
	if !a.nonResident {
		s.value, s.valueAt, s.found = a.value, a.valueAt, true
		return nil
	}
	var next int64
	if n := len(s.runs); n > 0 {
		next = s.runs[n-1].vcn + s.runs[n-1].n
	}
	if a.firstVCN != next {
		return fsys.Contradiction(a.at, "a piece of an attribute begins at cluster %d of it instead of %d",
			a.firstVCN, next)
	}
	runs, err := v.decodeRuns(a)
	if err != nil {
		return err
	}
	s.runs = append(s.runs, runs...)
	s.found = true
	if len(s.runs) > maxRuns {
		return fsys.Contradiction(a.at, "an attribute has more than %d runs", maxRuns)
	}
	return nil
}

// listEntry is an entry of an attribute list ("$ATTRIBUTE_LIST"): a piece of an attribute and the record that holds it.
type listEntry struct {
	kind uint32
	name string
	vcn  int64
	ref  int64
}

// list reads the attribute list a.
func (v *records) list(a attribute) ([]listEntry, error) {
	list := a.value
	if a.nonResident {
		if a.size > maxListBytes || a.size < 0 {
			return nil, fsys.Contradiction(a.at, "an attribute list of %d bytes", a.size)
		}
		runs, err := v.decodeRuns(a)
		if err != nil {
			return nil, err
		}
		list = make([]byte, a.size)
		if _, err := v.readRuns(runs, list, 0); err != nil {
			return nil, err
		}
	}
	le := binary.LittleEndian
	var out []listEntry
	for len(list) >= listEntryMin {
		n := int(le.Uint16(list[listLength:]))
		if n < listEntryMin || n > len(list) {
			break
		}
		e := list[:n]
		list = list[n:]
		nameLen, nameOff := int(e[listNameLen])*2, int(e[listNameOffset])
		if nameOff+nameLen > n {
			continue
		}
		out = append(out, listEntry{le.Uint32(e), utf16String(e[nameOff : nameOff+nameLen]),
			int64(le.Uint64(e[listFirstVCN:])), int64(le.Uint64(e[listRecord:]) & recNumberBytes)})
	}
	return out, nil
}

// holder reads the record that a list entry of record r names.
func (v *records) holder(r *record, e listEntry) (*record, error) {
	if r.number == e.ref || r.number < 0 && e.ref == recMFT {
		return r, nil
	}
	h, err := v.readRecord(e.ref)
	if err != nil {
		return nil, fmt.Errorf("record of byte %d: %w", e.ref*v.record, err)
	}
	return h, nil
}

// listed follows the attribute list a of record r.
func (v *records) listed(r *record, a attribute, kind uint32, name string) (stream, error) {
	var s stream
	list, err := v.list(a)
	if err != nil {
		return s, err
	}
	for _, e := range list {
		if e.kind != kind || !strings.EqualFold(e.name, name) {
			continue
		}
		holder, err := v.holder(r, e)
		if err != nil {
			return s, err
		}
		for _, piece := range holder.attributes() {
			if piece.kind == kind && strings.EqualFold(piece.name, name) && piece.firstVCN == e.vcn {
				if err := v.addPiece(&s, piece); err != nil {
					return s, err
				}
				// While $MFT itself is being read, what is known of it so
				// far finds the records with the rest.
				if r.number < 0 && kind == attrData {
					v.mft = s.runs
				}
				break
			}
		}
	}
	return s, nil
}
