// Package near is a backend over one that lies far away. It keeps copies near of what never changes under its name, or
// of which a listing tells when it does, and asks for much at once.
//
// Copies are the objects as they stand far away: what is sealed there is sealed here. Each carries a checksum, and one
// that doesn't hold is thrown away and fetched again. Nothing is believed to be there because a copy is.
package near

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"twinshelf/internal/store/backend"
)

const (
	// holds is for how long a listing is taken as it was, unless something is changed from here: what is looked at in
	// one go is asked for once.
	holds = 2 * time.Second
	// settled is how old an object must be that bears no tag before a copy of it is kept: times are told in seconds,
	// and it may be replaced within one. It is that old when another one was put so much later, or by this machine's
	// clock, from which the far one's differs by less than apart.
	settled = 10 * time.Second
	apart   = 24 * time.Hour
)

// Backend is a far backend with copies of it near.
type Backend struct {
	far    backend.Backend
	copies *copies

	mu       sync.Mutex
	listings map[string]*listing
	latest   time.Time // the last time at which something was put, as far as listings tell
	warming  sync.WaitGroup
	warmed   sync.Once
	life     context.Context // of what is asked for beside the callers; nil before the first of it
	end      context.CancelFunc
	closed   bool
}

// listing is what a folder held at a moment.
type listing struct {
	ready   chan struct{} // closed once the rest is there
	entries []backend.Entry
	err     error
	when    time.Time
}

// Over gives a backend that keeps copies in a folder, of at most so many bytes together.
func Over(far backend.Backend, dir string, most int64) *Backend {
	return &Backend{far: far, copies: &copies{dir: dir, most: most}, listings: map[string]*listing{}}
}

// Place names the far backend.
func (b *Backend) Place() string { return b.far.Place() }

// Lag is that of the far backend.
func (b *Backend) Lag() time.Duration { return b.far.Lag() }

// Tick is that of the far backend.
func (b *Backend) Tick() time.Duration { return backend.Tick(b.far) }

// AtOnce is that of the far backend.
func (b *Backend) AtOnce() int { return backend.AtOnce(b.far) }

// MayDelete is that of the far backend.
func (b *Backend) MayDelete(ctx context.Context) bool { return backend.MayDelete(ctx, b.far) }

// Protection is that of the far backend.
func (b *Backend) Protection(ctx context.Context) (backend.Protection, error) {
	if p, can := b.far.(backend.Protected); can {
		return p.Protection(ctx)
	}
	return backend.Protection{}, errors.ErrUnsupported
}

// Retain is that of the far backend.
func (b *Backend) Retain(ctx context.Context, name string, until time.Time) error {
	if r, can := b.far.(backend.Retainer); can {
		return r.Retain(ctx, name, until)
	}
	return errors.ErrUnsupported
}

// BringBack is that of the far backend.
func (b *Backend) BringBack(ctx context.Context, asOf time.Time, step func(int)) (int, error) {
	if r, can := b.far.(backend.Reviver); can {
		defer b.changed()
		return r.BringBack(ctx, asOf, step)
	}
	return 0, errors.ErrUnsupported
}

// Concerns are those of the far backend.
func (b *Backend) Concerns(ctx context.Context, sealed bool) []string {
	if e, exposed := b.far.(backend.Exposed); exposed {
		return e.Concerns(ctx, sealed)
	}
	return nil
}

// beside is the context of what goes on when the caller doesn't wait for it any more: it ends with the backend. mu is
// held.
func (b *Backend) beside(ctx context.Context) context.Context {
	if b.life == nil {
		b.life, b.end = context.WithCancel(context.WithoutCancel(ctx))
	}
	return b.life
}

// Close ends what is asked for ahead, and closes the far backend.
func (b *Backend) Close() error {
	b.mu.Lock()
	b.closed = true
	if b.end != nil {
		b.end()
	}
	b.mu.Unlock()
	b.warming.Wait()
	if c, open := b.far.(io.Closer); open {
		return c.Close()
	}
	return nil
}

// changed forgets what listings said: something was changed from here, or is about to be.
func (b *Backend) changed() {
	b.mu.Lock()
	defer b.mu.Unlock()
	clear(b.listings)
}

// Create begins an object.
func (b *Backend) Create(ctx context.Context, name string, o backend.Options) (backend.Upload, error) {
	b.changed()
	u, err := b.far.Create(ctx, name, o)
	if err != nil {
		return nil, err
	}
	return &upload{u, b}, nil
}

// upload is one of the far backend.
type upload struct {
	backend.Upload
	b *Backend
}

func (u *upload) Commit(ctx context.Context) error {
	defer u.b.changed() // also where it fails: it may have happened
	return u.Upload.Commit(ctx)
}

// Delete deletes an object.
func (b *Backend) Delete(ctx context.Context, name string) error {
	defer b.changed()
	b.changed()
	return b.far.Delete(ctx, name)
}

// Settle is that of the far backend.
func (b *Backend) Settle(ctx context.Context, folder string) error { return b.far.Settle(ctx, folder) }

// Sweep is that of the far backend.
func (b *Backend) Sweep(ctx context.Context, abandoned func(label string, changed time.Time) bool) error {
	return b.far.Sweep(ctx, abandoned)
}

// Free is that of the far backend.
func (b *Backend) Free(ctx context.Context) (int64, error) { return b.far.Free(ctx) }

// Stat is that of the far backend.
func (b *Backend) Stat(ctx context.Context, name string) (backend.Info, error) {
	return b.far.Stat(ctx, name)
}

// List gives the names in a folder. Locks are listed anew each time but the first, when a shelf is opened: whoever
// looks at them must see those of this moment.
func (b *Backend) List(ctx context.Context, folder string) ([]string, error) {
	if _, tells := b.far.(backend.Lister); !tells || folder == backend.LockFolder && !b.asked(folder) {
		return b.far.List(ctx, folder)
	}
	entries, err := b.Entries(ctx, folder)
	if folder == backend.LockFolder {
		b.forget(folder)
	}
	return backend.Names(entries, err)
}

// asked says whether a folder was asked for ahead.
func (b *Backend) asked(folder string) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.listings[folder] != nil
}

func (b *Backend) forget(folder string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.listings, folder)
}

// Entries gives what is in a folder; who asks while the answer is under way, or shortly after it, gets the same one.
func (b *Backend) Entries(ctx context.Context, folder string) ([]backend.Entry, error) {
	far, tells := b.far.(backend.Lister)
	if !tells {
		return nil, errors.ErrUnsupported
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	b.mu.Lock()
	if b.closed {
		b.mu.Unlock()
		return nil, fs.ErrClosed
	}
	l := b.listed(ctx, far, folder)
	b.mu.Unlock()
	select {
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-l.ready:
		return l.entries, l.err
	}
}

// listed is a listing of a folder that holds or is under way; it is asked for where there is none, and with it those
// that go along with it. mu is held.
func (b *Backend) listed(ctx context.Context, far backend.Lister, folder string) *listing {
	was := b.listings[folder]
	if was != nil && (!was.over() || was.err == nil && time.Since(was.when) <= holds) {
		return was
	}
	l := &listing{ready: make(chan struct{})}
	b.listings[folder] = l
	life := b.beside(ctx)
	b.warming.Go(func() { // not ended with the one who asked first: others may wait for it
		l.entries, l.err = b.ask(life, far, folder, l)
		b.tell(l.entries)
		l.when = time.Now()
		close(l.ready)
	})
	for _, in := range b.along(folder, was) {
		b.listed(ctx, far, in)
	}
	return l
}

// walked are folders that have a folder for each machine or twin: where one answer has them all, all are asked for.
var walked = []string{"twins", "copies/twins", "proofs"}

// ask asks for what is in a folder.
func (b *Backend) ask(ctx context.Context, far backend.Lister, folder string, of *listing) ([]backend.Entry, error) {
	w, can := b.far.(backend.Walker)
	if !can || !slices.Contains(walked, folder) {
		return far.Entries(ctx, folder)
	}
	all, err := w.Walk(ctx, folder)
	if err != nil {
		return nil, err
	}
	b.tell(all)
	var out []backend.Entry
	in := map[string]*listing{}
	now := time.Now()
	for _, e := range all {
		sub, name, below := strings.Cut(e.Name, "/")
		if !below {
			out = append(out, e)
			continue
		}
		l := in[sub]
		if l == nil {
			out = append(out, backend.Entry{Name: sub, Folder: true})
			l = &listing{ready: make(chan struct{}), when: now}
			close(l.ready)
			in[sub] = l
		}
		e.Name = name
		l.entries = append(l.entries, e)
	}
	slices.SortFunc(out, func(a, b backend.Entry) int { return strings.Compare(a.Name, b.Name) })
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.listings[folder] == of { // nothing was changed from here meanwhile
		for sub, l := range in {
			b.listings[folder+"/"+sub] = l
		}
	}
	return out, nil
}

// tell notes when things were put.
func (b *Backend) tell(entries []backend.Entry) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, e := range entries {
		if e.Changed.After(b.latest) {
			b.latest = e.Changed
		}
	}
}

// isSettled says whether nothing can be put any more at the time at which an object was.
func (b *Backend) isSettled(put time.Time) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.latest.Sub(put) > settled || time.Since(put) > apart
}

// over says whether the answer is there.
func (l *listing) over() bool {
	select {
	case <-l.ready:
		return true
	default:
		return false
	}
}

// known is what the latest listing says of an object; false where there is none that still holds.
func (b *Backend) known(name string) (backend.Entry, bool) {
	b.mu.Lock()
	l := b.listings[backend.Folder(name)]
	b.mu.Unlock()
	if l == nil || !l.over() || l.err != nil || time.Since(l.when) > copiesHold {
		return backend.Entry{}, false
	}
	i, found := slices.BinarySearchFunc(l.entries, path.Base(name), func(e backend.Entry, n string) int {
		return strings.Compare(e.Name, n)
	})
	if !found || l.entries[i].Folder {
		return backend.Entry{}, false
	}
	return l.entries[i], true
}

// copiesHold is for how long a listing says which copies are those of what lies far away.
const copiesHold = time.Minute
