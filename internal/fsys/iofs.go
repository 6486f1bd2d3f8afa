package fsys

import (
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

// Find gives the item of a path as io/fs writes it. Links are not followed.
func Find(t Tree, name string) (Item, error) {
	item, _, err := Locate(t, name)
	return item, err
}

// Locate is Find, and gives the path as the volume writes it: where case doesn't count the asked one may differ.
func Locate(t Tree, name string) (Item, string, error) {
	if !fs.ValidPath(name) {
		return Item{}, "", fs.ErrInvalid
	}
	item, err := t.Root()
	if err != nil || name == "." {
		return item, name, err
	}
	at := "."
	for step := range strings.SplitSeq(name, "/") {
		if !item.IsDir() {
			return Item{}, "", fs.ErrNotExist
		}
		if item, err = t.Lookup(item, step); err != nil {
			return Item{}, "", err
		}
		at = Join(at, item.Name)
	}
	return item, at, nil
}

// FS is a tree as a file system of the standard library. Links are not followed; fs.FileInfo.Sys gives the Item.
func FS(t Tree) interface {
	fs.ReadDirFS
	fs.ReadLinkFS
	fs.StatFS
} {
	return treeFS{t}
}

type treeFS struct{ t Tree }

func pathError(op, name string, err error) error {
	if err == nil {
		return nil
	}
	return &fs.PathError{Op: op, Path: name, Err: err}
}

func (t treeFS) Open(name string) (fs.File, error) {
	item, err := Find(t.t, name)
	if err != nil {
		return nil, pathError("open", name, err)
	}
	f := &file{t: t.t, item: named(item, name)}
	if item.Mode.IsRegular() {
		if f.c, err = t.t.Open(item, ""); err != nil {
			return nil, pathError("open", name, err)
		}
		f.r = io.NewSectionReader(f.c, 0, f.c.Size())
	}
	return f, nil
}

// named gives an item the name that it was asked for by.
func named(item Item, name string) Item {
	if name == "." {
		item.Name = name
	}
	return item
}

func (t treeFS) Stat(name string) (fs.FileInfo, error) {
	item, err := Find(t.t, name)
	if err != nil {
		return nil, pathError("stat", name, err)
	}
	return info{named(item, name)}, nil
}

func (t treeFS) Lstat(name string) (fs.FileInfo, error) { return t.Stat(name) }

func (t treeFS) ReadLink(name string) (string, error) {
	item, err := Find(t.t, name)
	if err == nil && item.Mode.Type() != fs.ModeSymlink {
		err = fs.ErrInvalid
	}
	if err != nil {
		return "", pathError("readlink", name, err)
	}
	more, err := t.t.More(item)
	return more.Target, pathError("readlink", name, err)
}

// ReadDir lists a folder by name. What can't be read is left out, and its error returned with the rest.
func (t treeFS) ReadDir(name string) ([]fs.DirEntry, error) {
	item, err := Find(t.t, name)
	if err != nil {
		return nil, pathError("readdir", name, err)
	}
	return readDir(t.t, item, name)
}

func readDir(t Tree, folder Item, name string) ([]fs.DirEntry, error) {
	if !folder.IsDir() {
		return nil, pathError("readdir", name, errors.New("it is no folder"))
	}
	var out []fs.DirEntry
	var problem error
	for item, err := range t.List(folder) {
		if err != nil {
			problem = errors.Join(problem, pathError("readdir", path.Join(name, item.Name), err))
			continue
		}
		out = append(out, fs.FileInfoToDirEntry(info{item}))
	}
	slices.SortFunc(out, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return out, problem
}

type info struct{ item Item }

func (i info) Name() string       { return i.item.Name }
func (i info) Size() int64        { return i.item.Size }
func (i info) Mode() fs.FileMode  { return i.item.Mode }
func (i info) ModTime() time.Time { return i.item.Modified }
func (i info) IsDir() bool        { return i.item.IsDir() }
func (i info) Sys() any           { return i.item }

// file is an open file, folder, or something else without contents.
type file struct {
	t      Tree
	item   Item
	c      Contents
	r      *io.SectionReader // nil unless it is a file
	listed []fs.DirEntry
	read   bool // whether listed was filled
	err    error
}

func (f *file) Stat() (fs.FileInfo, error) { return info{f.item}, nil }
func (f *file) Close() error               { return nil }

func (f *file) Read(p []byte) (int, error) {
	if f.r == nil {
		return 0, pathError("read", f.item.Name, errors.New("it has no contents"))
	}
	return f.r.Read(p)
}

func (f *file) ReadAt(p []byte, off int64) (int, error) {
	if f.r == nil {
		return 0, pathError("read", f.item.Name, errors.New("it has no contents"))
	}
	return f.r.ReadAt(p, off)
}

func (f *file) Spans() []span.Span {
	if f.c == nil {
		return nil
	}
	return f.c.Spans()
}

func (f *file) ReadDir(n int) ([]fs.DirEntry, error) {
	if !f.read {
		f.listed, f.err = readDir(f.t, f.item, f.item.Name)
		f.read = true
	}
	if n <= 0 {
		out := f.listed
		f.listed = nil
		return out, f.err
	}
	if len(f.listed) == 0 {
		if f.err != nil {
			return nil, f.err
		}
		return nil, io.EOF
	}
	n = min(n, len(f.listed))
	out := f.listed[:n]
	f.listed = f.listed[n:]
	return out, nil
}

// Mapped is Contents whose bytes lie on the volume as they are, and partly not at all.
type Mapped struct {
	R      io.ReaderAt // the volume
	Length int64
	// Places are pieces of the file in order, not overlapping, with where they lie on the volume.
	Places []Stretch
}

// Stretch is a piece of a file, in bytes, and the byte of the volume at which it lies.
type Stretch struct {
	span.Span
	At int64
}

// Size is in bytes.
func (m *Mapped) Size() int64 { return m.Length }

// ReadAt fills p from byte off of the file.
func (m *Mapped) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off >= m.Length {
		return 0, io.EOF
	}
	want := span.At(off, int64(len(p))).Intersect(span.Span{End: m.Length})
	got := p[:want.Len()]
	clear(got)
	i, _ := slices.BinarySearchFunc(m.Places, off, func(x Stretch, at int64) int {
		if x.End <= at {
			return -1
		}
		return 1
	})
	for ; i < len(m.Places) && m.Places[i].Start < want.End; i++ {
		x := m.Places[i]
		hit := x.Span.Intersect(want)
		if err := disk.ReadFull(m.R, got[hit.Start-off:hit.End-off], x.At+hit.Start-x.Start); err != nil {
			return int(hit.Start - off), err
		}
	}
	if len(got) < len(p) {
		return len(got), io.EOF
	}
	return len(got), nil
}

// Data is what the places hold.
func (m *Mapped) Data() span.Set {
	all := make([]span.Span, 0, len(m.Places))
	for _, x := range m.Places {
		if hit := x.Span.Intersect(span.Span{End: m.Length}); !hit.Empty() {
			all = append(all, hit)
		}
	}
	return span.Of(all...)
}

// Spans is where they lie.
func (m *Mapped) Spans() []span.Span {
	var out []span.Span
	for _, x := range m.Places {
		hit := x.Span.Intersect(span.Span{End: m.Length})
		if hit.Empty() {
			continue
		}
		sp := span.At(x.At+hit.Start-x.Start, hit.Len())
		if n := len(out); n > 0 && out[n-1].End == sp.Start {
			out[n-1].End = sp.End
		} else {
			out = append(out, sp)
		}
	}
	return out
}

// Resident is Contents that stand within a structure of the volume.
type Resident struct {
	Bytes []byte
	// At is where they stand, nil when in no such place.
	At []span.Span
}

func (r *Resident) Size() int64        { return int64(len(r.Bytes)) }
func (r *Resident) Data() span.Set     { return span.Of(span.Span{End: int64(len(r.Bytes))}) }
func (r *Resident) Spans() []span.Span { return r.At }

// ReadAt fills p from byte off.
func (r *Resident) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off >= int64(len(r.Bytes)) {
		return 0, io.EOF
	}
	n := copy(p, r.Bytes[off:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}
