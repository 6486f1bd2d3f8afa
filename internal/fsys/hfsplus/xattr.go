package hfsplus

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"unicode/utf16"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/decmpfs"
)

// attributes is the tree of extended attributes; nil where there is none.
type attributes struct {
	*btree
	v *Volume
}

// of reads the extended attributes of a file or folder; those that hold packed contents aren't among them. A
// value that can't be read is an error, with the others read.
func (a *attributes) of(id uint32) (out []fsys.XAttr, problem error) {
	if a == nil {
		return nil, nil
	}
	err := a.each(id, func(name string, data []byte) {
		if name == decmpfs.Name {
			return
		}
		value, err := a.value(id, name, data)
		if err != nil {
			problem = errors.Join(problem, err)
			return
		}
		out = append(out, fsys.XAttr{Name: name, Value: value})
	})
	return out, errors.Join(problem, err)
}

// each calls do with the attributes of a file, without the records of more extents.
func (a *attributes) each(id uint32, do func(name string, data []byte)) error {
	first := func(key []byte) int {
		if len(key) < 6 {
			return -1
		}
		return cmp.Compare(binary.BigEndian.Uint32(key[attrFile-2:]), id)
	}
	return a.seek(first, func(n node, i int) (bool, error) {
		key, data, err := a.split(n, i)
		if err != nil || first(key) != 0 {
			return false, err
		}
		if len(key) < attrName-2 || len(data) < 4 {
			return false, a.hurt(n.number, "an attribute of %d bytes", len(data))
		}
		units := int(binary.BigEndian.Uint16(key[attrNameLen-2:]))
		if units > maxAttrName || attrName-2+2*units > len(key) {
			return false, a.hurt(n.number, "an attribute with a name of %d characters", units)
		}
		if binary.BigEndian.Uint32(key[attrBlock-2:]) == 0 {
			do(string(utf16.Decode(unitsOf(key[attrName-2:], units))), data)
		}
		return true, nil
	})
}

// extentsAt is where the extents of an attribute stand in its record, 0 where it has none, and whether those of its
// value are in several records.
func (a *attributes) extentsAt(e entry) (at int64, several bool, err error) {
	if len(e.data) < 4 {
		return 0, false, a.hurt(e.node, "an attribute of %d bytes", len(e.data))
	}
	switch kind := binary.BigEndian.Uint32(e.data); {
	case kind == attrForkKind && len(e.data) >= attrForkAt+forkLen:
		f := readFork(e.data[attrForkAt:], 0, forkIsData)
		return attrForkAt + forkExtents, countOf(f.first) != f.blocks, nil
	case kind == attrExtents && len(e.data) >= attrForkAt+extentRecords:
		return attrForkAt, true, nil
	case kind == attrInline:
		return 0, false, nil
	default:
		return 0, false, a.hurt(e.node, "an attribute of kind %#x in %d bytes", kind, len(e.data))
	}
}

// mostValue bounds the value of an attribute that is read, in bytes.
const mostValue = 16 << 20

// value is the value of an attribute.
func (a *attributes) value(id uint32, name string, data []byte) ([]byte, error) {
	be := binary.BigEndian
	switch kind := be.Uint32(data); {
	case kind == attrInline && len(data) >= inlineData:
		n := int64(be.Uint32(data[inlineSize:]))
		if inlineData+n > int64(len(data)) {
			break
		}
		return slices.Clone(data[inlineData : inlineData+n]), nil
	case kind == attrForkKind && len(data) >= attrForkAt+forkLen:
		f := readFork(data[attrForkAt:], id, forkIsData)
		if f.size > mostValue {
			return nil, &fsys.Unreadable{Why: fmt.Sprintf("the attribute %s has %d bytes: it is too "+
				"large", name, f.size)}
		}
		all := f.first
		for n := countOf(all); n < f.blocks; n = countOf(all) {
			more, err := a.extentsOf(id, name, n)
			if err != nil {
				return nil, err
			}
			all = append(slices.Clone(all), more...)
		}
		m, err := a.v.mappedBy(f, all)
		if err != nil {
			return nil, err
		}
		b := make([]byte, f.size)
		if n, err := m.ReadAt(b, 0); n < len(b) {
			return nil, err
		}
		return b, nil
	}
	return nil, fmt.Errorf("the attribute %s of file %d isn't one of a kind that is known", name, id)
}

// extentsOf are the extents of an attribute from one of its blocks on.
func (a *attributes) extentsOf(id uint32, name string, from int64) ([]extent, error) {
	want := utf16.Encode([]rune(name))
	rec, err := a.find(func(key []byte) int {
		if len(key) < attrName-2 {
			return -1
		}
		n := min(int(binary.BigEndian.Uint16(key[attrNameLen-2:])), (len(key)-attrName+2)/2)
		return cmp.Or(cmp.Compare(binary.BigEndian.Uint32(key[attrFile-2:]), id),
			slices.Compare(unitsOf(key[attrName-2:], n), want),
			cmp.Compare(int64(binary.BigEndian.Uint32(key[attrBlock-2:])), from))
	})
	if err != nil {
		return nil, err
	}
	if len(rec) < attrForkAt+extentRecords || binary.BigEndian.Uint32(rec) != attrExtents {
		return nil, fmt.Errorf("the extents of the attribute %s of file %d end after %d blocks", name, id, from)
	}
	more := readExtents(rec[attrForkAt:])
	if len(more) == 0 {
		return nil, fmt.Errorf("the extents of the attribute %s of file %d are empty", name, id)
	}
	return more, nil
}
