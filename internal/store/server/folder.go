package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"

	"twinshelf/internal/store/backend"
	"twinshelf/internal/store/door"
	"twinshelf/internal/store/pace"
)

const (
	// fullBelow is how much room a server still has that failed for want of it, in bytes: it doesn't say why.
	fullBelow = 4 << 20

	extRename = "posix-rename@openssh.com"
	extFsync  = "fsync@openssh.com"
	extLink   = "hardlink@openssh.com"
	extVFS    = "statvfs@openssh.com"
)

// Folder is a folder on a server as a backend. Close ends its connection.
type Folder struct {
	at   Address
	link *link
	root string
}

// Open gives the backend at an address; the connection is made when it is first used. sshDir is the folder with the
// person's SSH configuration, keys and known hosts; pacer, which may be nil, bounds what goes over the line.
func Open(a Address, sshDir string, asks Asks, pacer *pace.Pacer) (*Folder, error) {
	s, err := resolve(a, sshDir)
	if err != nil {
		return nil, err
	}
	known := &remembered{asks: asks}
	return open(a, func(ctx context.Context) (*session, error) {
		conn, err := dial(ctx, s, known.asking(), pacer)
		if errors.As(err, new(*LoginError)) {
			known.forget()
		}
		return conn, err
	}), nil
}

func open(a Address, dial func(context.Context) (*session, error)) *Folder {
	return &Folder{at: a, link: &link{dial: dial, pause: firstPause}, root: a.Path}
}

// Dial makes the connection.
func (f *Folder) Dial(ctx context.Context) error {
	return f.link.do(ctx, func(*sftp.Client) error { return nil })
}

// Close ends the connection.
func (f *Folder) Close() error { return f.link.close() }

// Place is the address.
func (f *Folder) Place() string { return f.at.String() }

func (f *Folder) path(name string) string { return path.Join(f.root, name) }

// Lag is nothing: the server answers from its own file system.
func (f *Folder) Lag() time.Duration { return 0 }

// Tick is a second: SFTP tells times no finer.
func (f *Folder) Tick() time.Duration { return time.Second }

// Concerns are what the server can't do that others do for safety, and who else reads the folder.
func (f *Folder) Concerns(ctx context.Context, sealed bool) (out []string) {
	ctx, end := context.WithTimeout(ctx, dialWithin)
	defer end()
	_ = f.link.do(ctx, func(c *sftp.Client) error {
		if _, has := c.HasExtension(extFsync); !has && !f.atDoor(c).Syncs {
			out = append(out, "the server can't be asked whether what it was given survives a loss of power (no "+
				"fsync): what was captured just before one may be lost")
		}
		if _, has := c.HasExtension(extRename); !has {
			out = append(out, "the server can't replace a file in one step (no posix-rename): locks and notes are "+
				"replaced in two")
		}
		st, err := c.Stat(f.root)
		if err != nil {
			return err
		}
		if mode := st.Mode().Perm(); mode&0o022 != 0 {
			out = append(out, fmt.Sprintf("others on the server can write to %s: \"chmod 700\" keeps it yours", f.at))
		} else if mode&0o055 != 0 && !sealed {
			out = append(out, fmt.Sprintf("others on the server can read %s, and the shelf is open: \"chmod 700\" "+
				"keeps it yours", f.at))
		}
		return nil
	})
	return out
}

// mostStatement bounds what a door says of itself, in bytes.
const mostStatement = 4096

// atDoor is what our own server says that the key may do; nothing where it is another one's.
func (f *Folder) atDoor(c *sftp.Client) (out door.Statement) {
	file, err := c.Open(door.StatementFile)
	if err != nil {
		return out
	}
	defer file.Close()
	b, err := io.ReadAll(io.LimitReader(file, mostStatement))
	if err != nil || json.Unmarshal(b, &out) != nil || out.Door == 0 {
		return door.Statement{}
	}
	return out
}

// Protection tries to delete an object of its own, and to put another one in its place.
func (f *Folder) Protection(ctx context.Context) (p backend.Protection, err error) {
	put := func(content string) error {
		return backend.Put(ctx, f, backend.ProbeName, []byte(content), backend.Options{}, nil)
	}
	const text = "This object tries out what protects the shelf. It may be deleted."
	if err := put(text); err != nil {
		_, there := f.Stat(ctx, backend.ProbeName)
		switch {
		case !errors.Is(err, fs.ErrPermission):
			return p, err
		case there != nil:
			return p, fmt.Errorf("this key may put nothing, so nothing can be tried out with it: %w", err)
		}
	}
	replaced := put(text + "\n")
	if replaced == nil {
		replaced = put(text) // as it was, so that the next one can tell
	}
	deleted := f.Delete(ctx, backend.ProbeName)
	for _, problem := range []error{replaced, deleted} {
		if problem != nil && !errors.Is(problem, fs.ErrPermission) {
			return p, problem
		}
	}
	switch {
	case deleted == nil:
		p.Says = "whoever has this key can delete everything"
	case replaced == nil:
		p.Says = "whoever has this key can destroy everything: it may not delete, but put something else in its place"
	default:
		p.Safe = true
		p.Says = "this key may only add: it can neither delete nor replace what is there; whoever runs the server can"
	}
	return p, nil
}

// MayDelete says whether the key may, as far as a server of ours tells.
func (f *Folder) MayDelete(ctx context.Context) bool {
	may := true
	_ = f.link.do(ctx, func(c *sftp.Client) error {
		said := f.atDoor(c)
		may = said.Door == 0 || said.Right == door.Keep.String()
		return nil
	})
	return may
}

// object is a file of the server that is open. Over a new connection it is opened anew, where it is still the same.
type object struct {
	f    *Folder
	name string
	size int64

	mu     sync.Mutex
	client *sftp.Client
	file   *sftp.File
	closed bool
}

// Open opens an object.
func (f *Folder) Open(ctx context.Context, name string) (backend.Object, error) {
	o := &object{f: f, name: name}
	err := f.link.do(ctx, func(c *sftp.Client) error {
		file, err := c.Open(f.path(name))
		if err != nil {
			return err
		}
		st, err := file.Stat()
		if err == nil && st.IsDir() {
			err = fmt.Errorf("%s is a folder: %w", name, fs.ErrInvalid)
		}
		if err != nil {
			return errors.Join(err, file.Close())
		}
		o.client, o.file, o.size = c, file, st.Size()
		return nil
	})
	if err != nil {
		return nil, at("open", name, err)
	}
	return o, nil
}

// at says where something went wrong.
func at(op, name string, err error) error {
	if err == nil || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return &fs.PathError{Op: op, Path: name, Err: err}
}

func (o *object) Size() int64 { return o.size }

// over gives the open file over a connection.
func (o *object) over(c *sftp.Client) (*sftp.File, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.closed {
		return nil, fs.ErrClosed
	}
	if o.client == c {
		return o.file, nil
	}
	file, err := c.Open(o.f.path(o.name))
	if err != nil {
		return nil, err
	}
	st, err := file.Stat()
	if err == nil && st.Size() != o.size {
		err = fmt.Errorf("%s has %d bytes now and had %d", o.name, st.Size(), o.size)
	}
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	o.client, o.file = c, file
	return file, nil
}

// ReadAt reads a range, in as many requests at once as it needs.
func (o *object) ReadAt(ctx context.Context, p []byte, off int64) (n int, err error) {
	want, err := backend.Window(ctx, o.name, false, p, off, o.size) // whether it is closed is seen when it is asked for
	if len(want) == 0 {
		return 0, err
	}
	n, err = o.f.link.carry(ctx, len(want), func(c *sftp.Client, done int) (int, error) {
		file, err := o.over(c)
		if err != nil {
			return 0, err
		}
		k, err := file.ReadAt(want[done:], off+int64(done))
		if errors.Is(err, io.EOF) {
			err = nil
		}
		return k, err
	})
	switch {
	case err != nil:
		return n, at("read", o.name, err)
	case n < len(p):
		return n, io.EOF
	}
	return n, nil
}

// Close lets go of the file; the server's answer, which says nothing of what was read, isn't waited for.
func (o *object) Close() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.closed {
		return fs.ErrClosed
	}
	o.closed = true
	file := o.file
	o.f.link.beside(func() { _ = file.Close() })
	return nil
}

// Stat describes an object.
func (f *Folder) Stat(ctx context.Context, name string) (info backend.Info, err error) {
	err = f.link.do(ctx, func(c *sftp.Client) error {
		st, err := c.Stat(f.path(name))
		if err == nil {
			info = backend.Info{Size: st.Size(), Changed: st.ModTime()}
		}
		return err
	})
	return info, at("stat", name, err)
}

// List gives the names in a folder.
func (f *Folder) List(ctx context.Context, dir string) ([]string, error) {
	return backend.Names(f.Entries(ctx, dir))
}

// Entries gives what is in a folder.
func (f *Folder) Entries(ctx context.Context, dir string) (out []backend.Entry, err error) {
	err = f.link.do(ctx, func(c *sftp.Client) error {
		out = nil
		all, err := c.ReadDirContext(ctx, f.path(dir))
		for _, e := range all {
			out = append(out, backend.Entry{Name: e.Name(), Folder: e.IsDir(),
				Info: backend.Info{Size: e.Size(), Changed: e.ModTime()}})
		}
		return err
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	slices.SortFunc(out, func(a, b backend.Entry) int { return strings.Compare(a.Name, b.Name) })
	return out, at("list", dir, err)
}

// Fetch reads a whole object in two requests, one after the other; that it is let go of isn't waited for.
func (f *Folder) Fetch(ctx context.Context, name string, p []byte) error {
	err := f.link.do(ctx, func(c *sftp.Client) error {
		file, err := c.Open(f.path(name))
		if err != nil {
			return err
		}
		defer f.link.beside(func() { _ = file.Close() })
		var size int64
		var problem error
		var both sync.WaitGroup
		both.Go(func() {
			var st fs.FileInfo
			if st, problem = file.Stat(); problem == nil {
				size = st.Size()
			}
		})
		n, err := file.ReadAt(p, 0)
		both.Wait()
		switch {
		case problem != nil:
			return problem
		case n == len(p) && size == int64(n):
			return nil
		case err != nil && !errors.Is(err, io.EOF):
			return err
		}
		return fmt.Errorf("%s has another size than its folder said (%d bytes): %w", name, len(p), errChanged)
	})
	return at("read", name, err)
}

// errChanged means that an object is another one than before.
var errChanged = errors.New("it was changed meanwhile")

// AtOnce is as many as a server's sessions take well.
func (f *Folder) AtOnce() int { return 192 }

// Delete deletes an object. Where the connection broke meanwhile and it is gone afterwards, it was deleted.
func (f *Folder) Delete(ctx context.Context, name string) error {
	tried := false
	err := f.link.do(ctx, func(c *sftp.Client) error {
		err := c.Remove(f.path(name))
		if tried && errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		tried = true
		return err
	})
	return at("delete", name, err)
}

// Settle does nothing: SFTP has no way to ask for it. The file system of the server keeps the order.
func (f *Folder) Settle(ctx context.Context, _ string) error { return ctx.Err() }

// Sweep deletes what uploads left behind.
func (f *Folder) Sweep(ctx context.Context, abandoned func(label string, changed time.Time) bool) error {
	return backend.SweepFolder(ctx, f, backend.TempFolder, abandoned)
}

// Free is the room left on the server, where it tells.
func (f *Folder) Free(ctx context.Context) (free int64, err error) {
	err = f.link.do(ctx, func(c *sftp.Client) error {
		if _, has := c.HasExtension(extVFS); !has {
			return errors.ErrUnsupported
		}
		st, err := c.StatVFS(f.root)
		if errors.Is(err, fs.ErrNotExist) {
			st, err = c.StatVFS(path.Dir(f.root))
		}
		if err == nil {
			free = int64(st.Bavail * st.Frsize)
		}
		return err
	})
	return free, at("free", "", err)
}

// room tells an error for want of room from others, which the server's answer alone doesn't.
func (f *Folder) room(ctx context.Context, err error) error {
	var status *sftp.StatusError
	if err == nil || !errors.As(err, &status) {
		return err
	}
	if free, problem := f.Free(ctx); problem == nil && free < fullBelow {
		return errors.Join(backend.ErrFull, err)
	}
	return err
}
