package fsys

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/span"
)

// Files is a Volume whose files can be read.
type Files interface {
	// Files gives the volume's tree of folders.
	Files() (Tree, error)
}

// TreeOf gives the files of a volume, or says why they can't be read.
func TreeOf(v Volume) (Tree, error) {
	if v == nil {
		return nil, &Unreadable{"no file system is known there"}
	}
	f, ok := v.(Files)
	if !ok && v.Info().Opaque == "" {
		return nil, &Unreadable{fmt.Sprintf("%s holds no files that can be read", v.Info().Kind)}
	}
	if !ok {
		return nil, &Unreadable{fmt.Sprintf("files in %s can't be read here", v.Info().Kind)}
	}
	return f.Files()
}

// Tree is the files of a volume. It is read only and may be used by several goroutines. FS makes it a file system of
// the standard library. What is damaged is an error for that item alone.
type Tree interface {
	// Root is the topmost folder.
	Root() (Item, error)
	// List yields what a folder holds, in no order. An entry that has a name and can't be read comes with its name and
	// an error, and the listing goes on; an error without a name means that others may be missing.
	List(folder Item) iter.Seq2[Item, error]
	// Lookup finds a name in a folder; fs.ErrNotExist when it isn't there.
	Lookup(folder Item, name string) (Item, error)
	// Open gives the contents of a file, or of a stream of it or of a folder. The stream "" is the file itself.
	Open(item Item, stream string) (Contents, error)
	// More gives what a listing doesn't need.
	More(item Item) (More, error)
}

// Weigher is a Tree that adds up what is below folders faster than by going through them.
type Weigher interface {
	// Weigh gives how many bytes the files below each folder have.
	Weigh(ctx context.Context, folders []Item) ([]int64, error)
}

// Item is a file, a folder or something else that has a name.
type Item struct {
	Name string
	// ID stays the same while the item lives, whatever it is called; 0 where the family has no such number.
	ID uint64
	// Mode has the type and the permissions; families without permissions have them made up.
	Mode fs.FileMode
	Size int64 // bytes; of a folder 0
	// Times are zero where the family or the item has none. Changed is when its description was changed last.
	Modified, Changed, Created, Accessed time.Time
	UID, GID                             uint32
	Links                                int    // names of the item
	Major, Minor                         uint32 // of a device
	Attr                                 Attr
	// Ref is for the family that made the item.
	Ref any
}

// IsDir says whether the item is a folder.
func (i Item) IsDir() bool { return i.Mode.IsDir() }

// Attr is a set of properties.
type Attr uint16

// The properties that several families have.
const (
	ReadOnly Attr = 1 << iota
	Hidden
	System
	Archive
	Compressed
	Encrypted
	Sparse
	// Elsewhere marks what stands for something kept in another place: a junction, a file of a cloud.
	Elsewhere
	// Earlier marks a folder that shows what was beside it at an earlier time: a snapshot.
	Earlier
)

// More is what a listing doesn't need.
type More struct {
	Target  string // of a link, as it is written there
	XAttrs  []XAttr
	Streams []Stream
	// Access says in words who owns it and who may use it, where that isn't told by numbers and permissions.
	Access []string
	// Remark says in words what is unusual.
	Remark string
}

// XAttr is an extended attribute.
type XAttr struct {
	Name  string // with its namespace, as "user.colour"
	Value []byte
}

// Stream is an alternate stream.
type Stream struct {
	Name string
	Size int64 // bytes
}

// Contents is the bytes of a file.
type Contents interface {
	io.ReaderAt
	Size() int64
	// Data is which bytes of the file were ever written; the rest are holes, and read as zeros.
	Data() span.Set
	// Spans is where they lie on the volume, in the file's order; where they are packed, what they are packed into.
	Spans() []span.Span
}

// GapOf is how many bytes of contents couldn't be read when they were captured, as they are stored: these read as
// zeros.
func GapOf(c Contents) int64 {
	if g, ok := c.(interface{ Gap() int64 }); ok {
		return g.Gap()
	}
	return 0
}

// Plain is where contents lie byte by byte as they are, in blocks of their own. What is packed or encrypted, or stands
// among a file system's records, isn't there.
func Plain(c Contents) []span.Span {
	switch c := c.(type) {
	case *Mapped:
		return c.Spans()
	case interface{ Plain() []span.Span }:
		return c.Plain()
	}
	return nil
}

// Unreadable is why an item can't be read although nothing is damaged.
type Unreadable struct{ Why string }

func (u *Unreadable) Error() string { return u.Why }

// ErrEncrypted is what opening an encrypted file gives.
var ErrEncrypted = &Unreadable{"it is encrypted by its system, and only that has the key"}

// Entry is an item of a folder, or its name and why it can't be read.
type Entry struct {
	Item
	Err error
}

// Entries lists a folder by name. What has no name of its own but an error is returned as the error.
func Entries(t Tree, folder Item) ([]Entry, error) {
	var all []*Entry // they are large, and moved often while they are sorted
	var problem error
	for item, err := range t.List(folder) {
		if item.Name == "" {
			problem = errors.Join(problem, err)
			continue
		}
		all = append(all, &Entry{item, err})
	}
	slices.SortStableFunc(all, func(a, b *Entry) int { return strings.Compare(a.Name, b.Name) })
	out := make([]Entry, len(all))
	for i, e := range all {
		out[i] = *e
	}
	return out, problem
}

// Walk calls visit with a folder (of the given path, "." for the root) and every one below it, parents first and
// otherwise by name, and with what each holds by name. visit gets the error of a folder that can't be read whole, and
// may return fs.SkipDir to leave out what is below. Walk ends with visit's error. A folder that a damaged volume has in
// two places is visited once.
func Walk(t Tree, folder Item, path string,
	visit func(path string, folder Item, entries []Entry, err error) error) error {
	return (&walk{t: t, visit: visit, seen: map[uint64]bool{}}).folder(folder, path, 0)
}

const maxDepth = 4096

type walk struct {
	t     Tree
	visit func(string, Item, []Entry, error) error
	seen  map[uint64]bool // folders, by their ID
}

func (w *walk) folder(folder Item, path string, depth int) error {
	entries, err := w.entries(folder, depth)
	if err := w.visit(path, folder, entries, err); err == fs.SkipDir {
		return nil
	} else if err != nil {
		return err
	}
	for _, e := range entries {
		if e.Err == nil && e.IsDir() {
			if err := w.folder(e.Item, Join(path, e.Name), depth+1); err != nil {
				return err
			}
		}
	}
	return nil
}

// entries are what a folder holds; none of one that was visited before, or lies too deep.
func (w *walk) entries(folder Item, depth int) ([]Entry, error) {
	if depth > maxDepth {
		return nil, fmt.Errorf("folders are nested more than %d deep", maxDepth)
	}
	if folder.ID != 0 {
		if w.seen[folder.ID] {
			return nil, errors.New("the folder is in another place too")
		}
		w.seen[folder.ID] = true
	}
	return Entries(w.t, folder)
}

// Join puts a name after the path of a folder.
func Join(folder, name string) string {
	switch {
	case name == "":
		return folder
	case folder == "." || folder == "":
		return name
	}
	return folder + "/" + name
}
