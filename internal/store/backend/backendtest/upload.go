package backendtest

import (
	"context"
	"fmt"
	"io/fs"
	"syscall"
	"time"

	"twinshelf/internal/store/backend"
)

// upload is an object of a Storm that is being written.
type upload struct {
	v           *view
	name, label string
	o           backend.Options
	data        []byte
	synced      int
	changed     time.Time
	ended       bool
}

// Create begins an object.
func (v *view) Create(ctx context.Context, name string, o backend.Options) (backend.Upload, error) {
	if err := v.enter(ctx); err != nil {
		return nil, err
	}
	defer v.s.mu.Unlock()
	if err := v.s.change(); err != nil {
		return nil, err
	}
	v.s.uploaded++
	u := &upload{v: v, name: name, label: fmt.Sprint(o.Owner, "-", v.s.uploaded), o: o, changed: v.s.now()}
	v.s.uploads[u.label] = u
	return u, nil
}

func (u *upload) Write(p []byte) (int, error) {
	if err := u.v.lock(); err != nil {
		return 0, err
	}
	defer u.v.s.mu.Unlock()
	if u.ended {
		return 0, fs.ErrClosed
	}
	if err := u.v.s.change(); err != nil {
		return 0, err
	}
	u.data, u.changed = append(u.data, p...), u.v.s.now()
	return len(p), nil
}

func (u *upload) ReadAt(p []byte, off int64) (int, error) {
	if err := u.v.lock(); err != nil {
		return 0, err
	}
	defer u.v.s.mu.Unlock()
	if u.ended {
		return 0, fs.ErrClosed
	}
	return readAt(u.data, p, off, func(n int) int { return n })
}

func (u *upload) Sync(ctx context.Context) error {
	if err := u.v.enter(ctx); err != nil {
		return err
	}
	defer u.v.s.mu.Unlock()
	if err := u.v.s.change(); err != nil {
		return err
	}
	u.synced = len(u.data)
	return nil
}

// Commit makes the object visible, and durable unless it is fleeting.
func (u *upload) Commit(ctx context.Context) error {
	if err := u.v.enter(ctx); err != nil {
		return err
	}
	s := u.v.s
	defer s.mu.Unlock()
	if u.ended {
		return fs.ErrClosed
	}
	if err := s.change(); err != nil {
		return err
	}
	if u.o.IfAbsent && s.objects[u.name] != nil {
		return &fs.PathError{Op: "put", Path: u.name, Err: fs.ErrExist}
	}
	_, known := s.uploads[u.label]
	if !known {
		return missing("commit", u.label) // somebody swept it away
	}
	delete(s.uploads, u.label)
	u.ended = true
	s.changes[u.name] = change{u.v.id, s.now(), s.objects[u.name] != nil}
	s.objects[u.name] = &object{data: u.data, changed: s.now(), fleeting: u.o.Fleeting}
	delete(s.deleted, u.name)
	s.commits++
	if s.commits == s.weather.HappenAt {
		return syscall.EIO
	}
	return nil
}

func (u *upload) Abort() error {
	u.v.s.mu.Lock()
	defer u.v.s.mu.Unlock()
	if u.ended || u.v.epoch != u.v.s.epoch {
		return nil
	}
	u.ended = true
	delete(u.v.s.uploads, u.label)
	return nil
}
