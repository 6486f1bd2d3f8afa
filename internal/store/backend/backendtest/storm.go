// Package backendtest serves tests of backends and of what stands on them: the suite that every backend must pass, and
// a backend in memory that behaves as badly as real ones may.
package backendtest

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"twinshelf/internal/store/backend"
)

// Weather says what goes wrong. Calls that change something are counted from 1; 0 is never.
type Weather struct {
	// DieAt is the call from which on every process is dead: nothing that they do reaches the medium any more.
	DieAt int
	// FailAt is the call that fails with Err.
	FailAt int
	Err    error
	// HappenAt is the commit, counted by itself, that reports a failure though it happened.
	HappenAt int
	// Stale is one in how many reads fails as those through stale handles do; Short one in how many ends early.
	Stale, Short int
	// Lag is for how long listings don't show what other processes put or deleted.
	Lag time.Duration
}

// Storm is a medium that lies until it is asked to sync: bytes and deletions that weren't synced may be lost when the
// power fails. Each process has a view of its own.
type Storm struct {
	mu       sync.Mutex
	r        *rand.Rand
	objects  map[string]*object
	deleted  map[string]*object // and not settled
	changes  map[string]change  // the latest of each name
	uploads  map[string]*upload // by label
	weather  Weather
	calls    int
	commits  int
	epoch    int // ends with each loss of power
	born     int // processes
	ahead    time.Duration
	uploaded int
}

type object struct {
	data     []byte
	changed  time.Time
	fleeting bool
}

// change is what a process did to a name.
type change struct {
	by   int
	when time.Time
	was  bool // whether the name was there before
}

// ErrDead is what every call of a dead process comes to.
var ErrDead = errors.New("the process is dead")

// NewStorm makes an empty medium.
func NewStorm(r *rand.Rand) *Storm {
	return &Storm{r: r, objects: map[string]*object{}, deleted: map[string]*object{}, changes: map[string]change{},
		uploads: map[string]*upload{}}
}

// Set changes the weather, and counts calls from 1 again.
func (s *Storm) Set(w Weather) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.weather, s.calls, s.commits = w, 0, 0
}

// Crash is a loss of power: all processes are dead, and the weather is fine afterwards. An hour goes by, so that locks
// of the dead are stale.
func (s *Storm) Crash() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.epoch++
	for name, o := range s.deleted {
		if s.objects[name] == nil && s.r.IntN(2) == 0 {
			s.objects[name] = o
		}
	}
	s.deleted, s.changes = map[string]*object{}, map[string]change{}
	for _, o := range s.objects {
		if o.fleeting {
			o.data = o.data[:s.r.IntN(len(o.data)+1)]
		}
	}
	for _, u := range s.uploads {
		u.data = u.data[:u.synced+s.r.IntN(len(u.data)-u.synced+1)]
	}
	s.weather, s.calls = Weather{}, 0
	s.ahead += time.Hour
}

// Process is the medium as a new process sees it, beside those that live.
func (s *Storm) Process() backend.Backend {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.born++
	return &view{s, s.epoch, s.born}
}

func (s *Storm) now() time.Time { return time.Now().Add(s.ahead) }

// change counts a call that changes something, and has it fail when its time has come.
func (s *Storm) change() error {
	s.calls++
	switch {
	case s.weather.DieAt > 0 && s.calls >= s.weather.DieAt:
		return ErrDead
	case s.calls == s.weather.FailAt:
		return s.weather.Err
	}
	return nil
}

// view is what one process sees. It lives until the next loss of power.
type view struct {
	s     *Storm
	epoch int
	id    int
}

// enter locks the storm for a call of a live process.
func (v *view) enter(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	return v.lock()
}

// lock does the same for a call that brings no context, as io.Writer's.
func (v *view) lock() error {
	v.s.mu.Lock()
	if v.epoch != v.s.epoch {
		v.s.mu.Unlock()
		return ErrDead
	}
	return nil
}

// Place names it for messages.
func (v *view) Place() string { return "the storm" }

// Lag is that of the weather.
func (v *view) Lag() time.Duration {
	v.s.mu.Lock()
	defer v.s.mu.Unlock()
	return v.s.weather.Lag
}

// Free is always plenty.
func (v *view) Free(ctx context.Context) (int64, error) { return 1 << 40, ctx.Err() }

// Stat describes an object.
func (v *view) Stat(ctx context.Context, name string) (backend.Info, error) {
	if err := v.enter(ctx); err != nil {
		return backend.Info{}, err
	}
	defer v.s.mu.Unlock()
	o := v.s.objects[name]
	if o == nil {
		return backend.Info{}, missing("stat", name)
	}
	return backend.Info{Size: int64(len(o.data)), Changed: o.changed}, nil
}

func missing(op, name string) error { return &fs.PathError{Op: op, Path: name, Err: fs.ErrNotExist} }

// List gives the names in a folder, as they were when others changed something lately.
func (v *view) List(ctx context.Context, folder string) ([]string, error) {
	if err := v.enter(ctx); err != nil {
		return nil, err
	}
	defer v.s.mu.Unlock()
	in := func(name string) (string, bool) {
		rest, ok := strings.CutPrefix(name, folder+"/")
		if folder == "" {
			rest, ok = name, true
		}
		first, _, _ := strings.Cut(rest, "/")
		return first, ok
	}
	seen := map[string]bool{}
	for name := range v.s.objects {
		if first, ok := in(name); ok && v.shows(name, true) {
			seen[first] = true
		}
	}
	for name := range v.s.changes {
		if first, ok := in(name); ok && v.s.objects[name] == nil && v.shows(name, false) {
			seen[first] = true
		}
	}
	names := make([]string, 0, len(seen))
	for n := range seen {
		names = append(names, n)
	}
	slices.Sort(names)
	return names, nil
}

// shows says whether a listing shows a name that is there, or isn't.
func (v *view) shows(name string, there bool) bool {
	c, changed := v.s.changes[name]
	if !changed || c.by == v.id || v.s.now().Sub(c.when) >= v.s.weather.Lag {
		return there
	}
	return c.was
}

// Delete deletes an object.
func (v *view) Delete(ctx context.Context, name string) error {
	if err := v.enter(ctx); err != nil {
		return err
	}
	defer v.s.mu.Unlock()
	if err := v.s.change(); err != nil {
		return err
	}
	o := v.s.objects[name]
	if o == nil {
		return missing("remove", name)
	}
	delete(v.s.objects, name)
	v.s.deleted[name] = o
	v.s.changes[name] = change{v.id, v.s.now(), true}
	return nil
}

// Settle makes deletions in a folder durable.
func (v *view) Settle(ctx context.Context, folder string) error {
	if err := v.enter(ctx); err != nil {
		return err
	}
	defer v.s.mu.Unlock()
	if err := v.s.change(); err != nil {
		return err
	}
	for name := range v.s.deleted {
		if backend.Folder(name) == folder {
			delete(v.s.deleted, name)
		}
	}
	return nil
}

// Sweep deletes abandoned uploads.
func (v *view) Sweep(ctx context.Context, abandoned func(label string, changed time.Time) bool) error {
	if err := v.enter(ctx); err != nil {
		return err
	}
	left := map[string]time.Time{}
	for label, u := range v.s.uploads {
		left[label] = u.changed
	}
	v.s.mu.Unlock()
	for label, changed := range left {
		if !abandoned(label, changed) {
			continue
		}
		if err := v.enter(ctx); err != nil {
			return err
		}
		delete(v.s.uploads, label)
		v.s.mu.Unlock()
	}
	return nil
}

// Open opens an object.
func (v *view) Open(ctx context.Context, name string) (backend.Object, error) {
	if err := v.enter(ctx); err != nil {
		return nil, err
	}
	defer v.s.mu.Unlock()
	o := v.s.objects[name]
	if o == nil {
		return nil, missing("open", name)
	}
	return &opened{v: v, o: o}, nil
}

type opened struct {
	v      *view
	o      *object
	closed bool
}

func (o *opened) Size() int64 { return int64(len(o.o.data)) }

func (o *opened) Close() error {
	o.v.s.mu.Lock()
	defer o.v.s.mu.Unlock()
	o.closed = true
	return nil
}

// ReadAt reads; in bad weather it fails or ends early now and then.
func (o *opened) ReadAt(ctx context.Context, p []byte, off int64) (int, error) {
	if err := o.v.enter(ctx); err != nil {
		return 0, err
	}
	s := o.v.s
	defer s.mu.Unlock()
	if o.closed {
		return 0, fs.ErrClosed
	}
	if s.weather.Stale > 0 && s.r.IntN(s.weather.Stale) == 0 {
		return 0, syscall.ESTALE
	}
	return readAt(o.o.data, p, off, func(n int) int {
		if s.weather.Short > 0 && n > 1 && s.r.IntN(s.weather.Short) == 0 {
			return 1 + s.r.IntN(n-1)
		}
		return n
	})
}

// readAt reads from memory; less may have fewer bytes read, which is no error then.
func readAt(data, p []byte, off int64, less func(int) int) (int, error) {
	if off < 0 {
		return 0, fs.ErrInvalid
	}
	if len(p) == 0 {
		return 0, nil
	}
	if off >= int64(len(data)) {
		return 0, io.EOF
	}
	n := min(len(p), len(data)-int(off))
	if k := less(n); k < n {
		return copy(p[:k], data[off:]), nil
	}
	copy(p[:n], data[off:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}
