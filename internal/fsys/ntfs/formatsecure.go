package ntfs

import (
	"cmp"
	"encoding/binary"
	"math/bits"
	"slices"
	"sync"
)

// Identifiers of the two security descriptors that a new volume has.
const (
	secSystem = 0x100 // the volume's own files: read by administrators and the system
	secRoot   = 0x101 // the root directory: everybody who is logged on may work in it
)

// sdsCopy is how far after each block of descriptors its copy stands ("$Secure").
const sdsCopy = 0x40000

// Well-known identities ([MS-DTYP], section 2.4.2.4).
var (
	sidSystem   = sid(5, 18)
	sidAdmins   = sid(5, 32, 544)
	sidUsers    = sid(5, 32, 545)
	sidLoggedOn = sid(5, 11)
)

func sid(authority byte, sub ...uint32) []byte {
	b := []byte{1, byte(len(sub)), 0, 0, 0, 0, 0, authority}
	for _, s := range sub {
		b = binary.LittleEndian.AppendUint32(b, s)
	}
	return b
}

// ace allows who the rights in mask ([MS-DTYP], section 2.4.4.2).
func ace(flags byte, mask uint32, who []byte) []byte {
	b := []byte{0, flags}
	b = binary.LittleEndian.AppendUint16(b, uint16(8+len(who)))
	b = binary.LittleEndian.AppendUint32(b, mask)
	return append(b, who...)
}

// descriptor is a self-relative security descriptor ([MS-DTYP], section 2.4.6).
func descriptor(owner, group []byte, aces ...[]byte) []byte {
	le := binary.LittleEndian
	all := slices.Concat(aces...)
	acl := le.AppendUint16([]byte{2, 0}, uint16(8+len(all)))
	acl = le.AppendUint16(acl, uint16(len(aces)))
	acl = append(append(acl, 0, 0), all...)
	const head = 20
	b := []byte{1, 0, 0x04, 0x80} // with a list of rights, self-relative
	b = le.AppendUint32(b, uint32(head+len(acl)))
	b = le.AppendUint32(b, uint32(head+len(acl)+len(owner)))
	b = le.AppendUint32(b, 0)
	b = le.AppendUint32(b, head)
	return slices.Concat(b, acl, owner, group)
}

const (
	inherit     = 0x03 // files and folders
	inheritOnly = 0x0B
	rightsFull  = 0x001F01FF
	rightsWork  = 0x001301BF
	rightsRead  = 0x001200A9
	rightsSee   = 0x00120089
	rightsGen   = 0xE0010000 // read, write, run, and delete
)

// secured is a descriptor with its place in the stream.
type secured struct {
	id, hash uint32
	offset   uint64
	length   uint32 // with the header
	sd       []byte
}

var descriptors = sync.OnceValue(func() []secured {
	list := []secured{
		{id: secSystem, sd: descriptor(sidAdmins, sidAdmins, ace(0, rightsSee, sidSystem),
			ace(0, rightsSee, sidAdmins))},
		{id: secRoot, sd: descriptor(sidSystem, sidSystem, ace(inherit, rightsFull, sidSystem),
			ace(inherit, rightsFull, sidAdmins),
			ace(inheritOnly, rightsGen, sidLoggedOn), ace(0, rightsWork, sidLoggedOn),
			ace(inherit, rightsRead, sidUsers))},
	}
	at := uint64(0)
	for i := range list {
		s := &list[i]
		for j := 0; j+4 <= len(s.sd); j += 4 {
			s.hash = binary.LittleEndian.Uint32(s.sd[j:]) + bits.RotateLeft32(s.hash, 3)
		}
		s.offset, s.length = at, uint32(20+len(s.sd))
		at += uint64(s.length+15) &^ 15
	}
	return list
})

// head is what stands before a descriptor and is the data of both indexes.
func (s secured) head() []byte {
	le := binary.LittleEndian
	b := le.AppendUint32(nil, s.hash)
	b = le.AppendUint32(b, s.id)
	b = le.AppendUint64(b, s.offset)
	return le.AppendUint32(b, s.length)
}

// securityStream is $Secure:$SDS: the descriptors and their copy.
var securityStream = sync.OnceValue(func() []byte {
	var b []byte
	for _, s := range descriptors() {
		b = append(b, make([]byte, int(s.offset)-len(b))...)
		b = slices.Concat(b, s.head(), s.sd)
	}
	out := make([]byte, sdsCopy+len(b))
	copy(out, b)
	copy(out[sdsCopy:], b)
	return out
})

// securityIDIndex are the entries of $SII, by identifier.
func securityIDIndex() []byte {
	var b []byte
	for _, s := range descriptors() {
		b = append(b, viewEntry(binary.LittleEndian.AppendUint32(nil, s.id), s.head(), nil)...)
	}
	return append(b, lastEntry(false)...)
}

// securityHashIndex are the entries of $SDH, by hash; each ends with two letters I.
func securityHashIndex() []byte {
	list := slices.Clone(descriptors())
	slices.SortFunc(list, func(a, b secured) int {
		return cmp.Or(cmp.Compare(a.hash, b.hash), cmp.Compare(a.id, b.id))
	})
	var b []byte
	for _, s := range list {
		key := binary.LittleEndian.AppendUint32(nil, s.hash)
		key = binary.LittleEndian.AppendUint32(key, s.id)
		b = append(b, viewEntry(key, s.head(), []byte{'I', 0, 'I', 0})...)
	}
	return append(b, lastEntry(false)...)
}
