// Package names keeps an index of what the folders of a volume hold: names, sizes, times and identities. It is derived
// from the volume and can be made again.
//
// The index is a sequence of folders in the order of their paths, each with its entries by name, cut into chunks of
// about a thousand entries where a hash of an entry's path says so: what changes in one folder changes the chunk around
// it and no other, so that later dates share theirs with earlier ones. Names stand in other chunks than sizes, times
// and identities: a file that is written to has the chunk of its name unchanged, and a search over many dates looks at
// each such chunk once.
//
// Where chunks are kept is the caller's business (Store, Blocks); docs/shelf-format.md describes them byte by byte.
package names

import (
	"cmp"
	"context"
	"strings"
	"time"

	"twinshelf/internal/fsys"
)

// Store takes a chunk and says under which key it is kept.
type Store interface {
	Put(ctx context.Context, b []byte) (key string, err error)
}

// Blocks gives chunks back. They are not to be changed.
type Blocks interface {
	Get(ctx context.Context, key string) ([]byte, error)
}

// Kind is what an entry is.
type Kind byte

// The kinds of entries. Broken is one that couldn't be read.
const (
	File Kind = iota
	Folder
	Link
	Other
	Broken
)

// Entry is what the index knows of an item.
type Entry struct {
	Path     string // with "/" between names
	Kind     Kind
	Hidden   bool // hidden, or the system's own
	Size     int64
	Modified time.Time
	ID       uint64
}

// Name is the last name of the path.
func (e Entry) Name() string { return e.Path[strings.LastIndexByte(e.Path, '/')+1:] }

// Same says whether two entries describe the same version of a file: the same identity (where there is one), size and
// time.
func (e Entry) Same(o Entry) bool {
	return e.Kind == o.Kind && (e.Kind == Folder || e.ID == o.ID && e.Size == o.Size && e.Modified.Equal(o.Modified))
}

func entryOf(folder string, e fsys.Entry) Entry {
	x := Entry{Path: fsys.Join(folder, e.Name), Kind: Other, Hidden: e.Attr&(fsys.Hidden|fsys.System) != 0,
		Size: e.Size, Modified: e.Modified, ID: e.ID}
	switch {
	case e.Err != nil:
		return Entry{Path: x.Path, Kind: Broken}
	case e.IsDir():
		x.Kind, x.Size = Folder, 0
	case e.Mode.IsRegular():
		x.Kind = File
	case e.Mode.Type() == modeLink:
		x.Kind = Link
	}
	return x
}

// split gives the folder and the name of a path; the root is "".
func split(path string) (folder, name string) {
	i := strings.LastIndexByte(path, '/')
	return path[:max(i, 0)], path[i+1:]
}

// comparePaths orders paths of folders: parents before what is in them, otherwise by name.
func comparePaths(a, b string) int {
	for i := range min(len(a), len(b)) {
		if x, y := a[i], b[i]; x != y {
			if x == '/' {
				return -1
			}
			if y == '/' {
				return 1
			}
			return cmp.Compare(x, y)
		}
	}
	return cmp.Compare(len(a), len(b))
}

// compare orders entries as the index has them: by folder, then by name.
func compare(a, b string) int {
	af, an := split(a)
	bf, bn := split(b)
	if c := comparePaths(af, bf); c != 0 {
		return c
	}
	return strings.Compare(an, bn)
}
