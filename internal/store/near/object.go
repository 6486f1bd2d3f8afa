package near

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"strings"
	"sync"

	"twinshelf/internal/store/backend"
)

const (
	// smallest is up to which size an object is fetched whole when it is opened, in bytes.
	smallest = 1 << 20
	// mayRead is how often ranges of an index are read before all of it is fetched.
	mayRead = 4
	// piece is how much of an object is asked for at once when it is fetched, in bytes.
	piece = 1 << 20
)

// Open opens an object: its copy, where there is one.
func (b *Backend) Open(ctx context.Context, name string) (backend.Object, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	switch folder, _, _ := strings.Cut(name, "/"); folder {
	case "index": // they have random names, and never change
		if e, known := b.known(name); known && e.Size <= smallest {
			return b.openSmall(ctx, name, true)
		}
		if f, size, err := b.copies.open(name, ""); err == nil {
			return &local{f: f, size: size}, nil
		}
		o, err := b.far.Open(ctx, name)
		if err != nil {
			return nil, err
		}
		return &gathering{b: b, name: name, Object: o}, nil
	case "twins", "marks":
		return b.openSmall(ctx, name, false)
	case "proofs", "journal", "jobs": // they have random names too
		return b.openSmall(ctx, name, true)
	}
	if name == first {
		return b.openFirst(ctx)
	}
	return b.far.Open(ctx, name)
}

// openSmall opens an object, by its copy where that is the same one: a listing says so, or it never changes.
func (b *Backend) openSmall(ctx context.Context, name string, never bool) (backend.Object, error) {
	e, known := b.known(name)
	if !known || e.Size > smallest {
		return b.far.Open(ctx, name)
	}
	keep, is := never || e.Tag != "" || b.isSettled(e.Changed), was(e)
	if never {
		is = ""
	}
	if keep {
		if f, size, err := b.copies.open(name, is); err == nil {
			return &local{f: f, size: size}, nil
		}
	}
	content, err := b.fetchSmall(ctx, name, e.Size)
	if err != nil { // it may be another one than the listing said
		return b.far.Open(ctx, name)
	}
	if keep {
		b.copies.putBytes(name, is, content)
	}
	return &local{content: content, size: e.Size}, nil
}

// fetchSmall reads a whole small object of known size.
func (b *Backend) fetchSmall(ctx context.Context, name string, size int64) ([]byte, error) {
	p := make([]byte, size)
	if f, quick := b.far.(backend.Fetcher); quick {
		return p, f.Fetch(ctx, name, p)
	}
	o, err := b.far.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	defer o.Close()
	if o.Size() != size {
		return nil, fs.ErrInvalid
	}
	if n, err := o.ReadAt(ctx, p, 0); n < len(p) {
		return nil, err
	}
	return p, nil
}

// local is an object that is near: in a file, or in memory.
type local struct {
	mu      sync.RWMutex
	f       *os.File
	content []byte
	size    int64
	closed  bool
}

func (l *local) Size() int64 { return l.size }

// ReadAt reads a range; behind the object's bytes the file goes on.
func (l *local) ReadAt(ctx context.Context, p []byte, off int64) (n int, err error) {
	l.mu.RLock()
	defer l.mu.RUnlock()
	want, err := backend.Window(ctx, "", l.closed, p, off, l.size)
	if len(want) == 0 {
		return 0, err
	}
	if l.f != nil {
		n, err = l.f.ReadAt(want, off)
	} else {
		n = copy(want, l.content[off:])
	}
	if n == len(want) {
		err = nil
	}
	if err == nil && n < len(p) {
		err = io.EOF
	}
	return n, err
}

// Close closes it.
func (l *local) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.closed {
		return fs.ErrClosed
	}
	l.closed, l.content = true, nil
	if l.f != nil {
		return l.f.Close()
	}
	return nil
}

// gathering is an index that is read far away until it is read often: then all of it is fetched.
type gathering struct {
	b    *Backend
	name string
	backend.Object

	mu    sync.Mutex
	reads int
	here  *local // once it is fetched
	never bool   // it can't be kept
}

// ReadAt reads a range.
func (g *gathering) ReadAt(ctx context.Context, p []byte, off int64) (int, error) {
	if here := g.gathered(ctx); here != nil {
		return here.ReadAt(ctx, p, off)
	}
	return g.Object.ReadAt(ctx, p, off)
}

// gathered gives the copy, which is made when the object was read often enough.
func (g *gathering) gathered(ctx context.Context) *local {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.here != nil || g.never {
		return g.here
	}
	if g.reads++; g.reads <= mayRead {
		return nil
	}
	err := g.b.copies.put(g.name, "", &ahead{ctx: ctx, o: g.Object, most: g.b.AtOnce()}, g.Size())
	if err == nil {
		var f *os.File
		var size int64
		if f, size, err = g.b.copies.open(g.name, ""); err == nil {
			g.here = &local{f: f, size: size}
			return g.here
		}
	}
	g.never = !errors.Is(err, context.Canceled) // what couldn't be read isn't asked for again and again
	return nil
}

// Close closes both.
func (g *gathering) Close() error {
	g.mu.Lock()
	here := g.here
	g.mu.Unlock()
	err := g.Object.Close()
	if here != nil {
		return errors.Join(err, here.Close())
	}
	return err
}

// mostAhead bounds how many pieces are on their way at once when an object is fetched: 16 MiB.
const mostAhead = 16

// ahead reads an object from its beginning, with several pieces on their way.
type ahead struct {
	ctx  context.Context
	o    backend.Object
	most int
	off  int64
	got  [][]byte
}

func (a *ahead) Read(p []byte) (int, error) {
	if len(a.got) == 0 {
		if err := a.fetch(); err != nil {
			return 0, err
		}
	}
	if len(a.got) == 0 {
		return 0, io.EOF
	}
	n := copy(p, a.got[0])
	if a.got[0] = a.got[0][n:]; len(a.got[0]) == 0 {
		a.got = a.got[1:]
	}
	return n, nil
}

// fetch fetches the next pieces.
func (a *ahead) fetch() error {
	var all sync.WaitGroup
	problems := make([]error, min(a.most, mostAhead))
	for i := range problems {
		n := min(piece, a.o.Size()-a.off)
		if n <= 0 {
			break
		}
		p, off := make([]byte, n), a.off
		a.got, a.off = append(a.got, p), a.off+n
		all.Go(func() {
			if k, err := a.o.ReadAt(a.ctx, p, off); k < len(p) {
				problems[i] = errors.Join(io.ErrUnexpectedEOF, err)
			}
		})
	}
	all.Wait()
	return errors.Join(problems...)
}
