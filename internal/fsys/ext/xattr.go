package ext

import (
	"encoding/binary"
	"errors"
	"fmt"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

// maxValue bounds the value of an attribute, in bytes.
const maxValue = 64 << 10

// prefixes stand for the beginnings of names.
var prefixes = map[byte]string{1: "user.", 2: "system.posix_acl_access", 3: "system.posix_acl_default", 4: "trusted.",
	6: "security.", 7: "system.", 8: "system.richacl"}

// attr is an entry of an attribute area. Its value stands at byte at of the area, or in an inode.
type attr struct {
	index byte
	name  string
	at    int
	size  int64
	inode int64
}

// attrEntries decodes the entries of an area; values count from byte base of it. It ends where one doesn't fit.
func attrEntries(area []byte, first int) []attr {
	le := binary.LittleEndian
	var out []attr
	for at := first; at+xattrEntryHead <= len(area); {
		e := area[at:]
		n := int(e[0])
		if n == 0 && e[1] == 0 || at+xattrEntryHead+n > len(area) {
			break
		}
		out = append(out,
			attr{index: e[1], name: string(e[xattrEntryHead : xattrEntryHead+n]), at: int(le.Uint16(e[2:])),
				inode: int64(le.Uint32(e[4:])), size: int64(le.Uint32(e[8:]))})
		at += (xattrEntryHead + n + 3) &^ 3
	}
	return out
}

// inBody is the attribute area in the inode itself, nil when it has none.
func (n *inode) inBody() []byte {
	if len(n.raw) <= inoBase {
		return nil
	}
	at := inoBase + int(binary.LittleEndian.Uint16(n.raw[inoExtraSize:]))
	if at+4 > len(n.raw) || binary.LittleEndian.Uint32(n.raw[at:]) != xattrMagic {
		return nil
	}
	return n.raw[at+4:]
}

// inlineRest finds the rest of contents that stand in the inode, and the byte of the volume where.
func (n *inode) inlineRest() ([]byte, int64, error) {
	area := n.inBody()
	for _, a := range attrEntries(area, 0) {
		if a.index == xattrSystem && a.name == xattrInlineName && a.inode == 0 {
			if a.at+int(a.size) > len(area) || a.size > int64(len(area)) {
				break
			}
			return area[a.at : a.at+int(a.size)], n.at + int64(len(n.raw)-len(area)+a.at), nil
		}
	}
	return nil, 0, fsys.Contradiction(n.at, "the rest of what inode %d holds isn't beside it", n.number)
}

// xattrs reads the attributes in the inode and in its block. A value that can't be read is an error, with the others
// read.
func (v *Volume) xattrs(n *inode) ([]fsys.XAttr, error) {
	out, problem := v.attrValues(n, n.inBody(), 0)
	b, err := v.readAttrBlock(n)
	if b == nil {
		return out, errors.Join(problem, err)
	}
	more, err := v.attrValues(n, b, xattrBlockHead)
	if problem == nil {
		problem = err
	}
	return append(out, more...), problem
}

// attrBlock is the block with more of an inode's attributes; 0 when it has none.
func (v *Volume) attrBlock(n *inode) int64 {
	le := binary.LittleEndian
	block := int64(le.Uint32(n.raw[inoACLLo:]))
	if v.incompat&incompat64bit != 0 {
		block |= int64(le.Uint16(n.raw[inoACLHi:])) << 32
	}
	return block
}

// readAttrBlock reads it; nil when there is none.
func (v *Volume) readAttrBlock(n *inode) ([]byte, error) {
	block := v.attrBlock(n)
	if block == 0 {
		return nil, nil
	}
	if block >= v.blocks {
		return nil, fsys.Contradiction(n.at, "the attributes of inode %d are at block %d of %d", n.number, block,
			v.blocks)
	}
	b := make([]byte, v.blockSize)
	if err := disk.ReadFull(v.r, b, block*v.blockSize); err != nil {
		return nil, err
	}
	if binary.LittleEndian.Uint32(b) != xattrMagic {
		return nil, fsys.Contradiction(block*v.blockSize, "the attributes of inode %d aren't there", n.number)
	}
	return b, nil
}

func (v *Volume) attrValues(n *inode, area []byte, first int) ([]fsys.XAttr, error) {
	var out []fsys.XAttr
	var problem error
	for _, a := range attrEntries(area, first) {
		prefix, ok := prefixes[a.index]
		if !ok || a.index == xattrSystem && a.name == xattrInlineName {
			continue
		}
		name := prefix + a.name
		value, err := v.attrValue(area, a)
		if err == nil && (a.index == 2 || a.index == 3) {
			value, err = aclShown(value)
		}
		if err != nil {
			if problem == nil {
				problem = fmt.Errorf("attribute %s of inode %d: %w", name, n.number, err)
			}
			continue
		}
		out = append(out, fsys.XAttr{Name: name, Value: value})
	}
	return out, problem
}

func (v *Volume) attrValue(area []byte, a attr) ([]byte, error) {
	if a.size > maxValue {
		return nil, fmt.Errorf("it claims %d bytes", a.size)
	}
	if a.inode == 0 {
		if a.at+int(a.size) > len(area) {
			return nil, fmt.Errorf("its value lies outside")
		}
		return append([]byte(nil), area[a.at:a.at+int(a.size)]...), nil
	}
	n, err := v.readInode(a.inode)
	if err != nil {
		return nil, err
	}
	if n.flags&flagAttrInode == 0 || n.size != a.size {
		return nil, fmt.Errorf("inode %d doesn't hold its value", a.inode)
	}
	r, err := v.contents(n)
	if err != nil {
		return nil, err
	}
	b := make([]byte, a.size)
	return b, disk.ReadFull(r, b, 0)
}

// aclShown brings an access list from how it is kept into how systems hand it out: entries of 4 bytes, with 4 more
// for a named user or group, become entries of 8.
func aclShown(b []byte) ([]byte, error) {
	le := binary.LittleEndian
	if len(b) < 4 || le.Uint32(b) != aclVersionDisk {
		return nil, fmt.Errorf("it is no access list")
	}
	out := le.AppendUint32(nil, aclVersionShown)
	for b = b[4:]; len(b) >= 4; {
		tag, perm, id := le.Uint16(b), le.Uint16(b[2:]), uint32(aclNobody)
		b = b[4:]
		if tag == 0x02 || tag == 0x08 { // a user's or group's own entry
			if len(b) < 4 {
				return nil, fmt.Errorf("an access list is cut short")
			}
			id, b = le.Uint32(b), b[4:]
		}
		out = le.AppendUint32(le.AppendUint16(le.AppendUint16(out, tag), perm), id)
	}
	return out, nil
}
