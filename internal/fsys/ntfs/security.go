package ntfs

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"sync"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

// $Secure keeps each security descriptor once, in a stream of entries whose second copies lie a block after the first
// ("$Secure"): the hash, the number that files have of it, its place, and its length with this head.
const (
	sdsName     = "$SDS"
	sdsNumber   = 4
	sdsPlace    = 8
	sdsLength   = 16
	sdsHead     = 20
	sdsBlock    = 256 << 10
	sdsAlign    = 16
	mostSDS     = 256 << 20 // bytes
	mostRights  = 64 << 10  // of a descriptor
	attrRights  = 0x50
	attrObject  = 0x40
	attrEA      = 0xE0
	objectIDLen = 16
)

// rights are the places of all descriptors in their stream, once they were asked for.
type rights struct {
	once   sync.Once
	err    error
	stream fsys.Contents
	places map[uint32]int64

	mu    sync.Mutex // guards known
	known map[uint32][]byte
}

// mostKnown bounds the descriptors that are remembered: few are those of many files.
const mostKnown = 1024

// descriptor is the one with a number.
func (r *rights) descriptor(number uint32) ([]byte, error) {
	r.mu.Lock()
	b, is := r.known[number]
	r.mu.Unlock()
	if is {
		return b, nil
	}
	at, is := r.places[number]
	if !is || r.err != nil {
		return nil, fmt.Errorf("security descriptor %d isn't in the volume's list (%v)", number, r.err)
	}
	head := make([]byte, sdsHead)
	if err := disk.ReadFull(r.stream, head, at); err != nil {
		return nil, err
	}
	n := binary.LittleEndian.Uint32(head[sdsLength:])
	if n < sdsHead || n > mostRights {
		return nil, fmt.Errorf("security descriptor %d has %d bytes", number, n)
	}
	b = make([]byte, n-sdsHead)
	if err := disk.ReadFull(r.stream, b, at+sdsHead); err != nil {
		return nil, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.known == nil || len(r.known) >= mostKnown {
		r.known = map[uint32][]byte{}
	}
	r.known[number] = b
	return b, nil
}

// load finds the entries of the stream.
func (r *rights) load(v *Volume) {
	rec, err := v.readRecord(recSecure)
	if err != nil {
		r.err = err
		return
	}
	s, err := v.stream(rec, attrData, sdsName)
	if err == nil && (!s.found || s.size > mostSDS) {
		err = fsys.Contradiction(rec.at, "$Secure has %d bytes of descriptors", s.size)
	}
	if err == nil {
		r.stream, err = v.contents(s, rec.at)
	}
	if r.err = err; err != nil {
		return
	}
	r.places = map[uint32]int64{}
	b := make([]byte, sdsBlock)
	for at := int64(0); at < s.size; at += 2 * sdsBlock {
		some := b[:min(sdsBlock, s.size-at)]
		if r.err = disk.ReadFull(r.stream, some, at); r.err != nil {
			return
		}
		r.entries(some, at)
	}
}

// entries notes those of a block.
func (r *rights) entries(b []byte, at int64) {
	le := binary.LittleEndian
	for off := 0; off+sdsHead <= len(b); {
		n := int(le.Uint32(b[off+sdsLength:]))
		if n < sdsHead || n > mostRights || off+n > len(b) || le.Uint64(b[off+sdsPlace:]) != uint64(at)+uint64(off) {
			return // the rest of the block is free
		}
		r.places[le.Uint32(b[off+sdsNumber:])] = at + int64(off)
		off += (n + sdsAlign - 1) / sdsAlign * sdsAlign
	}
}

// rightsOf is the security descriptor of a file: its own, or the one that its number stands for; nil where it has none.
func rightsOf(v *Volume, rec *record) ([]byte, error) {
	own, err := v.stream(rec, attrRights, "")
	if err != nil || own.found {
		return whole(v, own, mostRights), err
	}
	number := uint32(0)
	for _, a := range rec.attributes() {
		if a.kind == attrStandard && len(a.value) >= stdSecurity+4 {
			number = binary.LittleEndian.Uint32(a.value[stdSecurity:])
		}
	}
	if number == 0 {
		return nil, nil
	}
	v.rights.once.Do(func() { v.rights.load(v) })
	return v.rights.descriptor(number)
}

// whole is all of a small stream; nil where it can't be read.
func whole(v *Volume, s stream, most int64) []byte {
	if s.size > most || s.size < 0 {
		return nil
	}
	if s.value != nil {
		return slices.Clone(s.value)
	}
	b := make([]byte, s.size)
	if _, err := v.readRuns(s.runs, b, 0); err != nil {
		return nil
	}
	return b
}

// Names of what a file has beside its contents, as Linux' drivers for NTFS call them.
const (
	nameRights   = "system.ntfs_acl"
	nameObjectID = "system.ntfs_object_id"
	nameEAs      = "system.ntfs_ea"
)

// beside is what a file has beside its contents: its security descriptor, its object's identity, and extended
// attributes.
func beside(v *Volume, rec *record) (out []fsys.XAttr, words []string, err error) {
	sd, err := rightsOf(v, rec)
	if len(sd) > 0 {
		out, words = append(out, fsys.XAttr{Name: nameRights, Value: sd}), append(words, rightsInWords(sd)...)
	}
	id, problem := v.stream(rec, attrObject, "")
	if problem == nil && id.found && len(id.value) >= objectIDLen {
		out = append(out, fsys.XAttr{Name: nameObjectID, Value: slices.Clone(id.value)})
	}
	ea, problem := v.stream(rec, attrEA, "")
	if b := whole(v, ea, mostRights); problem == nil && ea.found && len(b) > 0 {
		out = append(out, fsys.XAttr{Name: nameEAs, Value: b})
		if names := eaNames(b); len(names) > 0 {
			words = append(words, "extended attributes: "+strings.Join(names, ", "))
		}
	}
	return out, words, err
}

// An extended attribute ([MS-FSCC] 2.4.15): where the next one begins, flags, the lengths of its name and value, and
// these.
const (
	eaNext    = 0
	eaNameLen = 5
	eaName    = 8
	mostEAs   = 1000
)

// eaNames are the names of extended attributes.
func eaNames(b []byte) (out []string) {
	for range mostEAs {
		if len(b) < eaName || eaName+int(b[eaNameLen]) > len(b) {
			return out
		}
		out = append(out, string(b[eaName:eaName+int(b[eaNameLen])]))
		next := binary.LittleEndian.Uint32(b[eaNext:])
		if next == 0 || int64(next) > int64(len(b)) {
			return out
		}
		b = b[next:]
	}
	return out
}
