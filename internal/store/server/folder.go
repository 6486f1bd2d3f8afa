package server

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"twinshelf/internal/store/backend"
)

const (
	// tempFolder is where objects lie until they are committed, as in a folder of a file system.
	tempFolder = "tmp"
	// gathered is how much is written at once, in bytes.
	gathered = 1 << 20
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
// person's SSH configuration, keys and known hosts.
func Open(a Address, sshDir string, asks Asks) (*Folder, error) {
	s, err := resolve(a, sshDir)
	if err != nil {
		return nil, err
	}
	return open(a, func(ctx context.Context) (*ssh.Client, error) { return dial(ctx, s, asks) }), nil
}

func open(a Address, dial func(context.Context) (*ssh.Client, error)) *Folder {
	return &Folder{at: a, link: &link{dial: dial, pause: firstPause}, root: a.Path}
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
		if _, has := c.HasExtension(extFsync); !has {
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
	switch {
	case ctx.Err() != nil:
		return 0, ctx.Err()
	case off < 0:
		return 0, &fs.PathError{Op: "read", Path: o.name, Err: fs.ErrInvalid}
	case len(p) == 0:
		return 0, nil
	case off >= o.size:
		return 0, io.EOF
	}
	want := p[:min(int64(len(p)), o.size-off)]
	err = o.f.link.do(ctx, func(c *sftp.Client) error {
		file, err := o.over(c)
		if err != nil {
			return err
		}
		n, err = file.ReadAt(want, off)
		if n == len(want) || errors.Is(err, io.EOF) {
			return nil
		}
		return err
	})
	switch {
	case err != nil:
		return n, at("read", o.name, err)
	case n < len(p):
		return n, io.EOF
	}
	return n, nil
}

func (o *object) Close() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.closed {
		return fs.ErrClosed
	}
	o.closed = true
	if err := o.file.Close(); err != nil && !lost(err) {
		return err
	}
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
func (f *Folder) List(ctx context.Context, dir string) (names []string, err error) {
	all, err := f.Entries(ctx, dir)
	for _, e := range all {
		names = append(names, e.Name)
	}
	return names, err
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
		whole := make([]byte, len(p)+1) // a byte more, to see where it ends
		n, err := file.ReadAt(whole, 0)
		if n != len(p) {
			return fmt.Errorf("%s has another size than its folder said (%d bytes): %w", name, len(p),
				errors.Join(errChanged, err))
		}
		copy(p, whole)
		return nil
	})
	return at("read", name, err)
}

// errChanged means that an object is another one than before.
var errChanged = errors.New("it was changed meanwhile")

// AtOnce is as many as a server's sessions take well.
func (f *Folder) AtOnce() int { return 64 }

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
	names, err := f.List(ctx, tempFolder)
	if err != nil {
		return err
	}
	for _, n := range names {
		info, err := f.Stat(ctx, tempFolder+"/"+n)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		if !abandoned(n, info.Changed) {
			continue
		}
		if err := f.Delete(ctx, tempFolder+"/"+n); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
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

// upload is a file in tmp.
type upload struct {
	f          *Folder
	ctx        context.Context // of who began it: writing has none of its own
	temp, name string
	o          backend.Options
	gather     *bufio.Writer

	mu      sync.Mutex
	client  *sftp.Client
	file    *sftp.File
	written int64 // by the server
	synced  bool
	ended   bool
}

// Create begins an object.
func (f *Folder) Create(ctx context.Context, name string, o backend.Options) (backend.Upload, error) {
	var id [8]byte
	_, _ = rand.Read(id[:])
	u := &upload{f: f, ctx: context.WithoutCancel(ctx), name: name, o: o,
		temp: f.path(tempFolder + "/" + o.Owner + "-" + hex.EncodeToString(id[:]))}
	u.gather = bufio.NewWriterSize(writerFunc(u.write), gathered)
	err := f.link.do(ctx, func(c *sftp.Client) error {
		file, err := c.OpenFile(u.temp, os.O_RDWR|os.O_CREATE|os.O_TRUNC) // its name is of this upload alone
		if errors.Is(err, fs.ErrNotExist) {
			if err = f.makeFolder(c, path.Dir(u.temp)); err == nil {
				file, err = c.OpenFile(u.temp, os.O_RDWR|os.O_CREATE|os.O_TRUNC)
			}
		}
		if err != nil {
			return err
		}
		u.client, u.file = c, file
		return c.Chmod(u.temp, 0o600)
	})
	if err != nil {
		return nil, at("create", name, f.room(ctx, err))
	}
	return u, nil
}

type writerFunc func(p []byte) (int, error)

func (w writerFunc) Write(p []byte) (int, error) { return w(p) }

// makeFolder makes a folder with those above it, for its owner alone.
func (f *Folder) makeFolder(c *sftp.Client, dir string) error {
	if st, err := c.Stat(dir); err == nil && st.IsDir() {
		return nil
	}
	if parent := path.Dir(dir); parent != dir && parent != "." {
		if err := f.makeFolder(c, parent); err != nil {
			return err
		}
	}
	if err := c.Mkdir(dir); err != nil {
		if st, there := c.Stat(dir); there == nil && st.IsDir() { // somebody else made it just now
			return nil
		}
		return err
	}
	return c.Chmod(dir, 0o700)
}

// over gives the file over a connection.
func (u *upload) over(c *sftp.Client) (*sftp.File, error) {
	if u.client == c {
		return u.file, nil
	}
	file, err := c.OpenFile(u.temp, os.O_RDWR) // without making it: what was swept away stays away
	if err == nil {
		u.client, u.file = c, file
	}
	return file, err
}

// write writes what was gathered at the place where it belongs, which may be done twice.
func (u *upload) write(p []byte) (int, error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	err := u.f.link.do(u.ctx, func(c *sftp.Client) error {
		file, err := u.over(c)
		if err != nil {
			return err
		}
		_, err = file.WriteAt(p, u.written)
		return err
	})
	if err != nil {
		return 0, at("write", u.name, u.f.room(u.ctx, err))
	}
	u.written += int64(len(p))
	u.synced = false
	return len(p), nil
}

func (u *upload) Write(p []byte) (int, error) {
	if u.ended {
		return 0, fs.ErrClosed
	}
	return u.gather.Write(p)
}

func (u *upload) ReadAt(p []byte, off int64) (n int, err error) {
	if u.ended {
		return 0, fs.ErrClosed
	}
	if err := u.gather.Flush(); err != nil {
		return 0, err
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	if off >= u.written {
		return 0, io.EOF
	}
	want := p[:min(int64(len(p)), u.written-off)]
	err = u.f.link.do(u.ctx, func(c *sftp.Client) error {
		file, err := u.over(c)
		if err != nil {
			return err
		}
		n, err = file.ReadAt(want, off)
		if n == len(want) {
			return nil
		}
		return err
	})
	if err == nil && n < len(p) {
		err = io.EOF
	}
	return n, err
}

func (u *upload) Sync(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := u.gather.Flush(); err != nil {
		return err
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	err := u.f.link.do(ctx, func(c *sftp.Client) error {
		if _, has := c.HasExtension(extFsync); !has {
			return nil // Concerns says so
		}
		file, err := u.over(c)
		if err != nil {
			return err
		}
		return file.Sync()
	})
	u.synced = err == nil
	return at("sync", u.name, u.f.room(ctx, err))
}

// Commit makes the object visible.
func (u *upload) Commit(ctx context.Context) error {
	if u.ended {
		return fs.ErrClosed
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	err := u.gather.Flush()
	if err == nil && !u.synced && !u.o.Fleeting {
		err = u.Sync(ctx)
	}
	if err != nil {
		return err
	}
	moved := false
	err = u.f.link.do(ctx, func(c *sftp.Client) error {
		to := u.f.path(u.name)
		if moved { // the connection broke after it was asked for: the temporary name says whether it was done
			if _, err := c.Stat(u.temp); errors.Is(err, fs.ErrNotExist) {
				return nil
			}
		}
		again := moved
		moved = true
		if !u.o.IfAbsent {
			return u.replace(c, to)
		}
		err := u.putNew(c, to)
		if again && errors.Is(err, fs.ErrExist) && u.isIn(c, to) {
			return nil
		}
		return err
	})
	if err != nil {
		return at("commit", u.name, u.f.room(ctx, err))
	}
	u.ended = true
	_ = u.file.Close() // it is in place, whatever becomes of the handle
	return nil
}

// replace puts the file in the place of another in one step, where the server can.
func (u *upload) replace(c *sftp.Client, to string) error {
	move := func() error {
		if _, has := c.HasExtension(extRename); has {
			return c.PosixRename(u.temp, to)
		}
		if err := c.Remove(to); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return c.Rename(u.temp, to)
	}
	err := move()
	if errors.Is(err, fs.ErrNotExist) {
		if err = u.f.makeFolder(c, path.Dir(to)); err == nil {
			err = move()
		}
	}
	return err
}

// putNew puts the file in place where there is none: a hard link fails where there is one, and so does a plain rename
// of SFTP.
func (u *upload) putNew(c *sftp.Client, to string) error {
	_, links := c.HasExtension(extLink)
	move := func() error {
		if !links {
			return c.Rename(u.temp, to)
		}
		return c.Link(u.temp, to)
	}
	err := move()
	if errors.Is(err, fs.ErrNotExist) {
		if err = u.f.makeFolder(c, path.Dir(to)); err == nil {
			err = move()
		}
	}
	if err != nil && !lost(err) {
		if _, there := c.Lstat(to); there == nil {
			return fs.ErrExist
		}
		return err
	}
	if err == nil && links {
		_ = c.Remove(u.temp) // the object is there; what is left is swept some day
	}
	return err
}

// mostCompared is how large an object is at the most that is compared with what was put, in bytes.
const mostCompared = 4 << 20

// isIn says whether an object is what was written here: the connection broke after it was put.
func (u *upload) isIn(c *sftp.Client, to string) bool {
	if u.written > mostCompared {
		return false
	}
	var both [2][]byte
	for i, name := range []string{u.temp, to} {
		file, err := c.Open(name)
		if err != nil {
			return false
		}
		both[i], err = io.ReadAll(io.LimitReader(file, mostCompared+1))
		if errors.Join(err, file.Close()) != nil {
			return false
		}
	}
	return bytes.Equal(both[0], both[1])
}

func (u *upload) Abort() error {
	if u.ended {
		return nil
	}
	u.ended = true
	_ = u.file.Close()
	err := u.f.link.do(u.ctx, func(c *sftp.Client) error { return c.Remove(u.temp) })
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return at("abort", u.name, err)
}
