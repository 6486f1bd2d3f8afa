package startup

import (
	"errors"
	"fmt"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/hive"
	"twinshelf/internal/span"
)

// registry is a registry file in a file system.
type registry struct {
	*hive.Hive
	h    home
	name string
	file fsys.Contents
}

// logs are the ends of the names of what lies beside a registry file.
var logs = []string{".LOG1", ".LOG2", ".LOG"}

// openRegistry opens a registry file with its logs.
func openRegistry(h home, name string) (*registry, error) {
	f, err := contents(h.tree, name)
	if err != nil {
		return nil, err
	}
	var all []hive.Log
	for _, end := range logs {
		if l, err := contents(h.tree, name+end); err == nil && l.Size() > 0 {
			all = append(all, hive.Log{R: l, Size: l.Size()})
		}
	}
	r := &registry{h: h, name: name, file: f}
	r.Hive, err = hive.Open(f, f.Size(), all...)
	return r, err
}

// contents opens a plain file.
func contents(t fsys.Tree, name string) (fsys.Contents, error) {
	item, err := fsys.Find(t, name)
	if err != nil {
		return nil, err
	}
	if !item.Mode.IsRegular() {
		return nil, fmt.Errorf("%s is no plain file", name)
	}
	return t.Open(item, "")
}

// errPacked means that a file can't be written over in place.
var errPacked = errors.New("it is packed, or lies within its record")

// patches are what differs from the file, in bytes of the disk; none where nothing was changed.
func (r *registry) patches() ([]disk.Patch, error) {
	all := r.Patches()
	if len(all) == 0 {
		return nil, nil
	}
	m, ok := r.file.(*fsys.Mapped)
	if !ok {
		return nil, errPacked
	}
	var out []disk.Patch
	for _, p := range all {
		some, err := onVolume(m, p)
		if err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	return r.h.outward(out)
}

// onVolume puts a patch of a file where its bytes lie on the volume.
func onVolume(m *fsys.Mapped, p disk.Patch) ([]disk.Patch, error) {
	var out []disk.Patch
	at := p.Off
	for _, s := range m.Places {
		hit := s.Intersect(p.Span())
		if hit.Empty() {
			continue
		}
		if hit.Start != at {
			return nil, errPacked
		}
		q := p.Part(hit)
		q.Off = s.At + hit.Start - s.Start
		out = append(out, q)
		at = hit.End
	}
	if at != p.Span().End || !(span.Span{End: m.Length}).Covers(p.Span()) {
		return nil, errPacked
	}
	return out, nil
}

// home is a part as what has registry files.
func (c *checker) home(p *part) (home, error) {
	tree, err := fsys.TreeOf(p.volume)
	return home{tree, p.where(), func(patches []disk.Patch) ([]disk.Patch, error) {
		for i := range patches {
			patches[i].Off += p.Span.Start
		}
		return patches, nil
	}}, err
}
