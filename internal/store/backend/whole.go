package backend

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"sync"
)

// SizeError means that an object is larger than whoever reads it whole expects.
type SizeError struct {
	Name  string
	Limit int64 // bytes
}

func (e *SizeError) Error() string { return fmt.Sprintf("%s is larger than %d bytes", e.Name, e.Limit) }

// Get reads a whole object of at most limit bytes; a larger one is a *SizeError.
func Get(ctx context.Context, b Backend, name string, limit int64) ([]byte, error) {
	r, err := Open(ctx, b, name)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	if r.Size() > limit {
		return nil, &SizeError{name, limit}
	}
	p := make([]byte, r.Size())
	if n, err := r.ReadAt(ctx, p, 0); n < len(p) {
		return nil, fmt.Errorf("%s can't be read: %w", name, err)
	}
	return p, nil
}

// Put puts a whole object. ready, which may be nil, is asked when everything but the last step is done; its error keeps
// the object from becoming visible. A commit that reports a failure and happened all the same counts as done.
func Put(ctx context.Context, b Backend, name string, content []byte, o Options,
	ready func(context.Context) error) error {
	u, err := b.Create(ctx, name, o)
	if err != nil {
		return err
	}
	defer u.Abort()
	if _, err := u.Write(content); err != nil {
		return err
	}
	if !o.Fleeting {
		if err := u.Sync(ctx); err != nil {
			return err
		}
	}
	if ready != nil {
		if err := ready(ctx); err != nil {
			return err
		}
	}
	err = u.Commit(ctx)
	if err == nil || errors.Is(err, fs.ErrExist) || ctx.Err() != nil {
		return err
	}
	if happened(ctx, b, name, content) {
		return nil
	}
	return err
}

// happened says whether an object is there as it was put, for good.
func happened(ctx context.Context, b Backend, name string, content []byte) bool {
	there, err := Get(ctx, b, name, int64(len(content)))
	return err == nil && bytes.Equal(there, content) && b.Settle(ctx, Folder(name)) == nil
}

// Folder is the folder of an object; "" for the uppermost.
func Folder(name string) string {
	if dir := path.Dir(name); dir != "." {
		return dir
	}
	return ""
}

// Handle is an open object that gives all it is asked for: reads that end early go on, and one that fails is tried once
// more through an object that is opened anew, as handles of files on servers go stale.
type Handle struct {
	b    Backend
	name string
	size int64

	mu sync.Mutex
	o  Object // nil once it is closed
}

// Open opens an object as a Handle.
func Open(ctx context.Context, b Backend, name string) (*Handle, error) {
	o, err := b.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	return &Handle{b: b, name: name, size: o.Size(), o: o}, nil
}

// Size is the object's size in bytes when it was opened.
func (h *Handle) Size() int64 { return h.size }

// Close closes the object; reads fail from then on.
func (h *Handle) Close() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.o == nil {
		return fs.ErrClosed
	}
	o := h.o
	h.o = nil
	return o.Close()
}

func (h *Handle) object() Object {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.o
}

// ReadAt reads len(p) bytes, or fewer with an error; at the end that is io.EOF.
func (h *Handle) ReadAt(ctx context.Context, p []byte, off int64) (int, error) {
	o := h.object()
	if o == nil {
		return 0, fs.ErrClosed
	}
	n, err := readFull(ctx, o, p, off)
	if err == nil || errors.Is(err, io.EOF) || ctx.Err() != nil {
		return n, err
	}
	fresh, again := h.reopen(ctx, o)
	if again != nil {
		return n, err
	}
	return readFull(ctx, fresh, p, off)
}

// reopen replaces an object whose reads fail, unless somebody else did meanwhile.
func (h *Handle) reopen(ctx context.Context, failed Object) (Object, error) {
	fresh, err := h.b.Open(ctx, h.name)
	if err != nil {
		return nil, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	switch {
	case fresh.Size() != h.size:
		err = fmt.Errorf("%s has %d bytes now and had %d", h.name, fresh.Size(), h.size)
	case h.o == nil:
		err = fs.ErrClosed
	}
	if err != nil || h.o != failed {
		fresh.Close()
		return h.o, err
	}
	h.o = fresh
	failed.Close()
	return fresh, nil
}

// readFull goes on where a read ends early.
func readFull(ctx context.Context, o Object, p []byte, off int64) (int, error) {
	done := 0
	for done < len(p) {
		n, err := o.ReadAt(ctx, p[done:], off+int64(done))
		done += n
		switch {
		case done == len(p):
			return done, nil
		case errors.Is(err, io.EOF) && off+int64(done) < o.Size(), err == nil && n == 0:
			return done, io.ErrUnexpectedEOF
		case err != nil:
			return done, err
		}
	}
	return done, nil
}

// At gives an io.ReaderAt whose reads end with a context.
func (h *Handle) At(ctx context.Context) io.ReaderAt { return readerAt{ctx, h} }

type readerAt struct {
	ctx context.Context
	h   *Handle
}

func (r readerAt) ReadAt(p []byte, off int64) (int, error) { return r.h.ReadAt(r.ctx, p, off) }
