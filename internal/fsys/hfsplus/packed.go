package hfsplus

import (
	"fmt"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/decmpfs"
)

// packed finds out how the contents of a file are packed.
func (a *attributes) packed(it item) (p decmpfs.Packing, err error) {
	if a == nil {
		return p, fmt.Errorf("file %d should be packed, and there are no attributes", it.id)
	}
	there, problem := false, error(nil)
	err = a.each(it.id, func(name string, data []byte) {
		if name != decmpfs.Name {
			return
		}
		there = true
		b, err := a.value(it.id, name, data)
		if problem = err; err == nil {
			p, problem = decmpfs.Parse(b)
		}
	})
	switch {
	case err != nil:
		return p, err
	case problem != nil:
		return p, problem
	case !there:
		return p, fmt.Errorf("file %d should be packed, and doesn't say how", it.id)
	}
	return p, nil
}

// unpacked is the contents of a packed file.
func (v *Volume) unpacked(it item) (fsys.Contents, error) {
	p, err := v.attributes.packed(it)
	if err != nil {
		return nil, err
	}
	return p.Open(func() (fsys.Contents, error) { return v.contents(it.res) })
}
