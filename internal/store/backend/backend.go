// Package backend is where the objects of a store lie: a folder, or whatever else can put a whole new object, read
// ranges of one, list and delete. Objects are never changed in place; a new one of the same name replaces the old one
// in one step. Package backendtest holds the suite that every backend must pass.
//
// Names are relative and have slashes between their parts ("packs/0123.pack"); what stands before the last slash is
// called the folder of an object, also where a backend knows no folders.
package backend

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"time"

	"golang.org/x/sys/unix"
)

// Backend keeps objects. Its methods may be called from many goroutines and processes. Errors that wrap fs.ErrNotExist
// and fs.ErrExist say that an object is missing or already there; IsFull tells those for want of room.
type Backend interface {
	// Place names the backend for messages.
	Place() string
	// Create begins a new object, which nobody sees before it is committed.
	Create(ctx context.Context, name string, o Options) (Upload, error)
	// Open opens an object for reading. It stays readable while it is open, also when it is deleted or replaced.
	Open(ctx context.Context, name string) (Object, error)
	// Stat describes an object.
	Stat(ctx context.Context, name string) (Info, error)
	// List gives the names in a folder ("" for the uppermost), without the folder's own, in ascending order: objects
	// and folders. A folder that isn't there is empty.
	List(ctx context.Context, folder string) ([]string, error)
	// Delete deletes an object. Only Settle makes sure that it doesn't come back after a loss of power.
	Delete(ctx context.Context, name string) error
	// Settle returns once every deletion in a folder survives a loss of power.
	Settle(ctx context.Context, folder string) error
	// Sweep deletes what uncommitted uploads left behind: those for which abandoned says so. A label begins with the
	// owner of its upload; changed is when it was last written, by the clock of the backend.
	Sweep(ctx context.Context, abandoned func(label string, changed time.Time) bool) error
	// Free is the room left, in bytes; errors.ErrUnsupported where nobody can tell.
	Free(ctx context.Context) (int64, error)
	// Lag is for how long a listing may not show what another machine has put or deleted.
	Lag() time.Duration
}

// Options say how an object is put.
type Options struct {
	// Owner begins the label of the upload, so that others can tell whose it was.
	Owner string
	// IfAbsent refuses to replace: committing is fs.ErrExist when the object is there.
	IfAbsent bool
	// Fleeting objects needn't survive a loss of power, and are quicker to put.
	Fleeting bool
}

// Info describes an object.
type Info struct {
	Size    int64     // bytes
	Changed time.Time // when it was put, by the clock of the backend
}

// Object is an object that is being read.
type Object interface {
	// ReadAt is that of io.ReaderAt, with a context.
	ReadAt(ctx context.Context, p []byte, off int64) (int, error)
	// Size is the object's size in bytes when it was opened.
	Size() int64
	io.Closer
}

// Upload is an object that is being written. It ends with Commit or Abort; Abort after either does nothing. It isn't
// safe for use from many goroutines at once, but for ReadAt.
type Upload interface {
	io.Writer
	// ReadAt reads what was written so far, until Commit.
	io.ReaderAt
	// Sync returns once everything written survives a loss of power, though nobody sees it yet: Commit is quick then.
	Sync(ctx context.Context) error
	// Commit makes the object visible under its name, in one step and for good. When it fails the object may have
	// become visible all the same.
	Commit(ctx context.Context) error
	// Abort gives the upload up.
	Abort() error
}

// ErrFull is for backends without an error of the system for want of room.
var ErrFull = errors.New("there is no room left")

// IsFull says whether an error is for want of room.
func IsFull(err error) bool {
	return errors.Is(err, ErrFull) || errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT)
}

// Entry is an object or a folder as a listing tells of it.
type Entry struct {
	Name   string
	Folder bool
	Info
	// Tag is another one whenever the object was put anew; empty where the medium has none.
	Tag string
}

// Lister are backends whose listings tell more than names at no more cost.
type Lister interface {
	// Entries gives what is in a folder as List does.
	Entries(ctx context.Context, folder string) ([]Entry, error)
}

// Walker are backends that tell what lies below a folder at once, at no more cost than for one of its folders.
type Walker interface {
	// Walk gives the objects in a folder and in those below it, with their names from there on, in ascending order.
	Walk(ctx context.Context, folder string) ([]Entry, error)
}

// Entries gives what is in a folder, by a listing where that tells it.
func Entries(ctx context.Context, b Backend, folder string) ([]Entry, error) {
	if l, tells := b.(Lister); tells {
		if out, err := l.Entries(ctx, folder); !errors.Is(err, errors.ErrUnsupported) {
			return out, err
		}
	}
	names, err := b.List(ctx, folder)
	var out []Entry
	for _, n := range names {
		info, err := b.Stat(ctx, path.Join(folder, n))
		switch {
		case err == nil:
			out = append(out, Entry{Name: n, Info: info})
		case errors.Is(err, fs.ErrNotExist): // deleted meanwhile
		default:
			return out, err
		}
	}
	return out, err
}

// Fetcher are backends that give a whole object of known size in fewer requests than Open and ReadAt need.
type Fetcher interface {
	// Fetch fills p with an object; one that has another size is an error.
	Fetch(ctx context.Context, name string, p []byte) error
}

// Dialler are backends over a connection, which they make when they are first used.
type Dialler interface {
	// Dial makes the connection where there is none, so that what is asked for next can be asked for at once.
	Dial(ctx context.Context) error
}

// Distant are backends whose answers take long on their way, so that much is asked for at once.
type Distant interface {
	// AtOnce is how many requests are worth being on their way at once.
	AtOnce() int
}

// usualAtOnce is how many requests are on their way at once where nothing else is known.
const usualAtOnce = 4

// AtOnce is that of a backend.
func AtOnce(b Backend) int {
	if d, distant := b.(Distant); distant {
		return d.AtOnce()
	}
	return usualAtOnce
}

// Limited are backends that may let somebody add and not delete.
type Limited interface {
	// MayDelete says whether what is there may be deleted.
	MayDelete(ctx context.Context) bool
}

// MayDelete is that of a backend; true where nothing else is known.
func MayDelete(ctx context.Context, b Backend) bool {
	l, limited := b.(Limited)
	return !limited || l.MayDelete(ctx)
}

// Coarse are backends whose clock tells less than it runs.
type Coarse interface {
	// Tick is by how much two times at which objects were put differ at least, where they do.
	Tick() time.Duration
}

// Tick is that of a backend; 0 where its clock is fine.
func Tick(b Backend) time.Duration {
	if c, coarse := b.(Coarse); coarse {
		return c.Tick()
	}
	return 0
}

// Exposed are backends that can say whether others may read or write what lies in them, beside their owner.
type Exposed interface {
	// Concerns are what is less private than it should be, in words. What is sealed may be read by anybody.
	Concerns(ctx context.Context, sealed bool) []string
}
