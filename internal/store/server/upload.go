package server

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"sync"

	"github.com/pkg/sftp"

	"twinshelf/internal/store/backend"
	"twinshelf/internal/store/spool"
)

const (
	// pieceSize is how much is written at once, in bytes, inFlight how many pieces of an upload are on their way.
	pieceSize = 1 << 20
	inFlight  = 4
)

// upload is a file in tmp. What is written is kept here until it is committed: it is read back while it is written, and
// a piece that a broken connection left unanswered is written once more.
type upload struct {
	f          *Folder
	ctx        context.Context // of the pieces, which are on their way between calls
	stop       context.CancelFunc
	temp, name string
	o          backend.Options

	kept   spool.Spool
	sent   int64 // bytes of pieces that were sent off
	group  sync.WaitGroup
	slots  chan struct{}
	synced bool
	ended  bool

	mu     sync.Mutex // guards what follows
	client *sftp.Client
	file   *sftp.File
	err    error // the first that a piece came to
}

// Create begins an object.
func (f *Folder) Create(ctx context.Context, name string, o backend.Options) (backend.Upload, error) {
	var id [8]byte
	_, _ = rand.Read(id[:])
	u := &upload{f: f, name: name, o: o,
		temp: f.path(backend.TempFolder + "/" + o.Owner + "-" + hex.EncodeToString(id[:])), slots: make(chan struct{},
			inFlight)}
	u.ctx, u.stop = context.WithCancel(context.WithoutCancel(ctx))
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
		return nil
	})
	if err != nil {
		u.stop()
		return nil, at("create", name, f.room(ctx, err))
	}
	// It is on its way before anything is written; the folder is its owner's alone anyway.
	u.underWay(func() error {
		return f.link.do(u.ctx, func(c *sftp.Client) error { return c.Chmod(u.temp, 0o600) })
	})
	return u, nil
}

// underWay does something that flush waits for.
func (u *upload) underWay(work func() error) {
	u.group.Go(func() {
		err := work()
		u.mu.Lock()
		defer u.mu.Unlock()
		if u.err == nil {
			u.err = err
		}
	})
}

// makeFolder makes a folder with those above it, for its owner alone.
func (f *Folder) makeFolder(c *sftp.Client, dir string) error {
	var closing sync.WaitGroup
	var mu sync.Mutex
	var problem error
	err := makeFolders(c, dir, func(made string) {
		closing.Go(func() {
			err := c.Chmod(made, 0o700)
			mu.Lock()
			defer mu.Unlock()
			problem = errors.Join(problem, err)
		})
	})
	closing.Wait()
	return errors.Join(err, problem)
}

// makeFolders makes a folder, and those above it where they are missing: most often only the lowest is, and each
// question takes a journey there and back.
func makeFolders(c *sftp.Client, dir string, made func(string)) error {
	err := c.Mkdir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		if st, there := c.Stat(dir); there == nil && st.IsDir() {
			return nil
		}
	}
	if parent := path.Dir(dir); err != nil && parent != dir && parent != "." {
		if err = makeFolders(c, parent, made); err == nil {
			err = c.Mkdir(dir)
		}
	}
	if err == nil {
		made(dir)
		return nil
	}
	if st, there := c.Stat(dir); there == nil && st.IsDir() { // somebody else made it just now
		return nil
	}
	return err
}

// over gives the file over a connection.
func (u *upload) over(c *sftp.Client) (*sftp.File, error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.client == c {
		return u.file, nil
	}
	file, err := c.OpenFile(u.temp, os.O_RDWR) // without making it: what was swept away stays away
	if err == nil {
		u.client, u.file = c, file
	}
	return file, err
}

func (u *upload) Write(p []byte) (int, error) {
	if u.ended {
		return 0, fs.ErrClosed
	}
	n, err := u.kept.Write(p)
	if err != nil {
		return n, err
	}
	for u.kept.Size()-u.sent >= pieceSize {
		if err := u.send(pieceSize); err != nil {
			return n, err
		}
	}
	return n, nil
}

// send sends the next bytes off; it waits only where enough are on their way.
func (u *upload) send(n int64) error {
	if err := u.problem(); err != nil {
		return err
	}
	at := u.sent
	u.sent, u.synced = u.sent+n, false
	u.slots <- struct{}{}
	u.underWay(func() error {
		defer func() { <-u.slots }()
		return u.put(at, n)
	})
	return nil
}

// put writes a piece at its place.
func (u *upload) put(off, n int64) error {
	p := make([]byte, n)
	if k, err := u.kept.ReadAt(p, off); k < len(p) {
		return err
	}
	_, err := u.f.link.carry(u.ctx, len(p), func(c *sftp.Client, done int) (int, error) {
		file, err := u.over(c)
		if err != nil {
			return 0, err
		}
		return file.WriteAt(p[done:], off+int64(done))
	})
	return at("write", u.name, u.f.room(u.ctx, err))
}

func (u *upload) problem() error {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.err
}

// flush sends what is left, and waits for what is on its way.
func (u *upload) flush() error {
	if rest := u.kept.Size() - u.sent; rest > 0 {
		if err := u.send(rest); err != nil {
			return err
		}
	}
	u.group.Wait()
	return u.problem()
}

func (u *upload) ReadAt(p []byte, off int64) (n int, err error) {
	if u.ended {
		return 0, fs.ErrClosed
	}
	return u.kept.ReadAt(p, off)
}

func (u *upload) Sync(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if u.ended {
		return fs.ErrClosed
	}
	if err := u.flush(); err != nil {
		return err
	}
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
	err := u.flush()
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
	u.stop()
	u.letGo()
	return u.kept.Close()
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
	if u.kept.Size() > mostCompared {
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
	u.stop()
	u.group.Wait()
	u.letGo()
	// Where the server is gone it isn't waited for: sweeping takes what is left.
	ctx, end := context.WithTimeout(context.WithoutCancel(u.ctx), dialWithin)
	defer end()
	err := u.f.link.do(ctx, func(c *sftp.Client) error { return c.Remove(u.temp) })
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return errors.Join(at("abort", u.name, err), u.kept.Close())
}

// letGo closes the file; nobody waits for that, since nothing depends on it.
func (u *upload) letGo() {
	u.mu.Lock()
	file := u.file
	u.mu.Unlock()
	u.f.link.beside(func() { _ = file.Close() })
}
