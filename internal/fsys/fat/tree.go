package fat

import (
	"fmt"
	"io/fs"
	"iter"
	"strings"

	"golang.org/x/text/encoding/charmap"

	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// Files gives the volume's tree. Names are found whatever their case.
func (v *Volume) Files() (fsys.Tree, error) { return tree{v}, nil }

var _ fsys.Files = (*Volume)(nil)

type tree struct{ v *Volume }

func (t tree) Root() (fsys.Item, error) {
	return fsys.Item{Mode: fs.ModeDir | 0o755, Links: 1, Ref: entry{attr: attrDir}}, nil
}

// folder gives the entry of a folder. One without a cluster below the root would otherwise read as the root.
func folder(it fsys.Item) (entry, error) {
	e, ok := it.Ref.(entry)
	switch {
	case !ok:
		return e, fmt.Errorf("%s isn't an item of this volume", it.Name)
	case e.attr&attrDir == 0:
		return e, fmt.Errorf("%s is no folder", it.Name)
	case e.first == 0 && e.at != 0:
		return e, fsys.Contradiction(e.at, "the folder has no cluster")
	}
	return e, nil
}

func (t tree) List(it fsys.Item) iter.Seq2[fsys.Item, error] {
	return func(yield func(fsys.Item, error) bool) {
		dir, err := folder(it)
		if err != nil {
			yield(fsys.Item{}, err)
			return
		}
		all, err := t.v.readDir(dir)
		for _, e := range all {
			if !yield(item(e), nil) {
				return
			}
		}
		if err != nil {
			yield(fsys.Item{}, err)
		}
	}
}

func (t tree) Lookup(it fsys.Item, name string) (fsys.Item, error) {
	dir, err := folder(it)
	if err != nil {
		return fsys.Item{}, err
	}
	all, err := t.v.readDir(dir)
	for _, e := range all {
		if strings.EqualFold(e.name, name) || strings.EqualFold(e.short, name) {
			return item(e), nil
		}
	}
	if err != nil {
		return fsys.Item{}, err
	}
	return fsys.Item{}, fs.ErrNotExist
}

func (t tree) Open(it fsys.Item, stream string) (fsys.Contents, error) {
	e, ok := it.Ref.(entry)
	switch {
	case !ok || e.attr&attrDir != 0:
		return nil, fmt.Errorf("%s has no contents", it.Name)
	case stream != "":
		return nil, fs.ErrNotExist
	case e.size == 0:
		return &fsys.Resident{}, nil
	}
	runs, err := t.v.chain(e.first)
	m := &fsys.Mapped{R: t.v.r, Length: e.size}
	at := int64(0)
	for _, r := range runs {
		m.Places = append(m.Places, fsys.Stretch{Span: span.At(at, r.Len()), At: r.Start})
		at += r.Len()
	}
	if at < e.size {
		if err == nil {
			err = fsys.Contradiction(e.at, "its clusters end after %d of %d bytes", at, e.size)
		}
		return nil, err
	}
	return m, nil
}

func (t tree) More(fsys.Item) (fsys.More, error) { return fsys.More{}, nil }

// item describes an entry. Its first cluster stands for its identity, since a file keeps it when it is renamed.
func item(e entry) fsys.Item {
	it := fsys.Item{Name: e.name, ID: uint64(e.first), Mode: 0o644, Modified: e.when, Created: e.made, Accessed: e.used,
		Links: 1, Ref: e, Attr: attrOf(e.attr)}
	if e.attr&attrReadOnly != 0 {
		it.Mode = 0o444
	}
	if e.attr&attrDir != 0 {
		it.Mode |= fs.ModeDir | 0o111
	} else {
		it.Size = e.size
	}
	return it
}

func attrOf(b byte) fsys.Attr {
	var a fsys.Attr
	for bit, name := range map[byte]fsys.Attr{attrReadOnly: fsys.ReadOnly, attrHidden: fsys.Hidden,
		attrSystem: fsys.System, attrArchive: fsys.Archive} {
		if b&bit != 0 {
			a |= name
		}
	}
	return a
}

// oemString decodes an 8.3 name. The volume doesn't name its code page; most systems that wrote such names used 437.
func oemString(s string) string {
	u, _ := charmap.CodePage437.NewDecoder().String(s)
	return strings.Map(func(r rune) rune {
		if r == '/' || r == 0 {
			return '_'
		}
		return r
	}, u)
}
