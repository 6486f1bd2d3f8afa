package backendtest

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"twinshelf/internal/store/backend"
)

// Counter is a backend in memory that counts what object storage would be asked, and what it would carry.
type Counter struct {
	mu      sync.Mutex
	folders map[string]map[string]*object // by the whole name of the folder
	below   map[string]map[string]bool    // the folders in a folder that ever were
	uploads map[string]*counted           // by label
	began   int
	Asked
}

// Asked is what was asked so far: as S3 counts it.
type Asked struct {
	Puts     int64 // also lists, as they are charged
	Gets     int64
	Lists    int64 // of the puts
	Deletes  int64
	Up, Down int64 // bytes
}

// Less is what was asked since.
func (a Asked) Less(b Asked) Asked {
	return Asked{a.Puts - b.Puts, a.Gets - b.Gets, a.Lists - b.Lists, a.Deletes - b.Deletes, a.Up - b.Up,
		a.Down - b.Down}
}

const (
	// listedAtOnce is how many names an answer to a listing has.
	listedAtOnce = 1000
	// partOf is how large parts of an upload are, in bytes.
	partOf = 16 << 20
)

// NewCounter makes an empty one.
func NewCounter() *Counter {
	return &Counter{folders: map[string]map[string]*object{}, below: map[string]map[string]bool{},
		uploads: map[string]*counted{}}
}

// Now is what was asked so far.
func (c *Counter) Now() Asked {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.Asked
}

// Size is how many bytes lie in a folder.
func (c *Counter) Size(folder string) (bytes int64, objects int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, o := range c.folders[folder] {
		bytes += int64(len(o.data))
	}
	return bytes, len(c.folders[folder])
}

func (c *Counter) Place() string                              { return "a bucket that counts" }
func (c *Counter) Lag() time.Duration                         { return 0 }
func (c *Counter) AtOnce() int                                { return 64 }
func (c *Counter) Settle(ctx context.Context, _ string) error { return ctx.Err() }
func (c *Counter) Free(ctx context.Context) (int64, error)    { return 1 << 50, ctx.Err() }

func (c *Counter) get(name string) *object {
	folder := backend.Folder(name)
	return c.folders[folder][strings.TrimPrefix(name, folder+"/")]
}

// Stat describes an object.
func (c *Counter) Stat(ctx context.Context, name string) (backend.Info, error) {
	if err := ctx.Err(); err != nil {
		return backend.Info{}, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.Gets++
	o := c.get(name)
	if o == nil {
		return backend.Info{}, missing("stat", name)
	}
	return backend.Info{Size: int64(len(o.data)), Changed: o.changed}, nil
}

// List gives the names in a folder.
func (c *Counter) List(ctx context.Context, folder string) ([]string, error) {
	return backend.Names(c.Entries(ctx, folder))
}

// Entries gives what is in a folder.
func (c *Counter) Entries(ctx context.Context, folder string) (out []backend.Entry, err error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for name, o := range c.folders[folder] {
		out = append(out, entryOf(name, o))
	}
	for f := range c.below[folder] {
		if c.some(path.Join(folder, f)) {
			out = append(out, backend.Entry{Name: f, Folder: true})
		}
	}
	c.list(len(out))
	return sorted(out), nil
}

// some says whether anything lies in a folder or below it.
func (c *Counter) some(folder string) bool {
	if len(c.folders[folder]) > 0 {
		return true
	}
	for f := range c.below[folder] {
		if c.some(path.Join(folder, f)) {
			return true
		}
	}
	return false
}

// note notes a folder and those that it is in.
func (c *Counter) note(folder string) {
	for folder != "" {
		in := backend.Folder(folder)
		if c.below[in] == nil {
			c.below[in] = map[string]bool{}
		}
		c.below[in][path.Base(folder)] = true
		folder = in
	}
}

// Walk gives what lies in a folder and below it.
func (c *Counter) Walk(ctx context.Context, folder string) (out []backend.Entry, err error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for f, in := range c.folders {
		if f != folder && !strings.HasPrefix(f, folder+"/") {
			continue
		}
		for name, o := range in {
			out = append(out, entryOf(strings.TrimPrefix(strings.TrimPrefix(f, folder)+"/"+name, "/"), o))
		}
	}
	c.list(len(out))
	return sorted(out), nil
}

func entryOf(name string, o *object) backend.Entry {
	return backend.Entry{Name: name, Info: backend.Info{Size: int64(len(o.data)), Changed: o.changed},
		Tag: fmt.Sprint(o.changed.UnixNano())}
}

func sorted(out []backend.Entry) []backend.Entry {
	slices.SortFunc(out, func(a, b backend.Entry) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// list counts a listing of so many names.
func (c *Counter) list(n int) {
	pages := int64(max(1, (n+listedAtOnce-1)/listedAtOnce))
	c.Lists, c.Puts = c.Lists+pages, c.Puts+pages
}

// Delete deletes an object, after looking whether it is there.
func (c *Counter) Delete(ctx context.Context, name string) error {
	if _, err := c.Stat(ctx, name); err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.Deletes++
	folder := backend.Folder(name)
	delete(c.folders[folder], strings.TrimPrefix(name, folder+"/"))
	return nil
}

// Sweep deletes uploads.
func (c *Counter) Sweep(ctx context.Context, abandoned func(label string, changed time.Time) bool) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.list(len(c.uploads))
	for label, u := range c.uploads {
		if abandoned(label, u.began) {
			u.ended = true
			delete(c.uploads, label)
		}
	}
	return nil
}

// Open opens an object.
func (c *Counter) Open(ctx context.Context, name string) (backend.Object, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.Gets++
	o := c.get(name)
	if o == nil {
		return nil, missing("open", name)
	}
	c.Down += min(int64(len(o.data)), 64<<10)
	return &countedObject{c: c, data: o.data}, nil
}

type countedObject struct {
	c      *Counter
	data   []byte
	closed bool
}

func (o *countedObject) Size() int64 { return int64(len(o.data)) }

func (o *countedObject) ReadAt(ctx context.Context, p []byte, off int64) (int, error) {
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	o.c.mu.Lock()
	defer o.c.mu.Unlock()
	if o.closed {
		return 0, fs.ErrClosed
	}
	if off < 0 {
		return 0, fs.ErrInvalid
	}
	if off+int64(len(p)) > 64<<10 { // the first bytes came when it was opened
		o.c.Gets++
		o.c.Down += int64(len(p))
	}
	return readAt(o.data, p, off, func(n int) int { return n })
}

func (o *countedObject) Close() error {
	o.c.mu.Lock()
	defer o.c.mu.Unlock()
	if o.closed {
		return fs.ErrClosed
	}
	o.closed = true
	return nil
}

// counted is an object that is being put.
type counted struct {
	c           *Counter
	name, label string
	o           backend.Options
	data        []byte
	began       time.Time
	ended       bool
}

// Create begins an object.
func (c *Counter) Create(ctx context.Context, name string, o backend.Options) (backend.Upload, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.began++
	u := &counted{c: c, name: name, label: fmt.Sprint(o.Owner, "-", c.began), o: o, began: time.Now()}
	c.uploads[u.label] = u
	return u, nil
}

func (u *counted) Write(p []byte) (int, error) {
	u.c.mu.Lock()
	defer u.c.mu.Unlock()
	if u.ended {
		return 0, fs.ErrClosed
	}
	u.data = append(u.data, p...)
	return len(p), nil
}

func (u *counted) ReadAt(p []byte, off int64) (int, error) {
	u.c.mu.Lock()
	defer u.c.mu.Unlock()
	if u.ended {
		return 0, fs.ErrClosed
	}
	if off >= int64(len(u.data)) {
		return 0, io.EOF
	}
	n := copy(p, u.data[off:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

func (u *counted) Sync(ctx context.Context) error { return ctx.Err() }

func (u *counted) Commit(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	u.c.mu.Lock()
	defer u.c.mu.Unlock()
	if u.ended {
		return fs.ErrClosed
	}
	u.c.Puts++
	if n := int64(len(u.data)); n >= partOf { // begin, mark, parts, end; two looks, and the mark goes
		u.c.Puts, u.c.Gets, u.c.Deletes = u.c.Puts+2+(n+partOf-1)/partOf, u.c.Gets+2, u.c.Deletes+1
	}
	folder := backend.Folder(u.name)
	name := strings.TrimPrefix(u.name, folder+"/")
	if u.o.IfAbsent && u.c.folders[folder][name] != nil {
		return fs.ErrExist
	}
	u.c.Up += int64(len(u.data))
	if u.c.folders[folder] == nil {
		u.c.folders[folder] = map[string]*object{}
		u.c.note(folder)
	}
	u.c.folders[folder][name] = &object{data: u.data, changed: time.Now()}
	u.ended = true
	delete(u.c.uploads, u.label)
	return nil
}

func (u *counted) Abort() error {
	u.c.mu.Lock()
	defer u.c.mu.Unlock()
	u.ended = true
	delete(u.c.uploads, u.label)
	return nil
}
