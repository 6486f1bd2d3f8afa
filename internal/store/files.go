package store

import (
	"context"
	"errors"
	"io/fs"
	"strings"

	"twinshelf/internal/store/backend"
)

// files puts the small files of a store.
type files struct {
	b    backend.Backend
	ring *keyring
}

// put puts a whole file: it is there completely or not at all. The lock, which may be nil, is held at the moment in
// which it appears.
func (f *files) put(ctx context.Context, l *Lock, name string, content []byte) error {
	return f.withRoom(ctx, func() error { return f.try(ctx, l, name, content, false) })
}

func (f *files) try(ctx context.Context, l *Lock, name string, content []byte, ifAbsent bool) error {
	o := backend.Options{Owner: l.owner(), IfAbsent: ifAbsent}
	return backend.Put(ctx, f.b, name, content, o, l.Held)
}

// A twin's description, the marks, the rules and the journal are small, and a date is lost without them: each has a
// copy under copies/, put before the file itself and removed after it. docs/shelf-format.md, "Copies".

// Files of the store that have copies, beside those in folders.
const (
	RulesFile   = "rules.note"
	RetiredFile = "retired.note"
)

// CopyOf is where the copy of a file lies; empty for files that have none.
func CopyOf(file string) string {
	for _, dir := range []string{"twins/", "marks/", "journal/"} {
		if strings.HasPrefix(file, dir) {
			return "copies/" + file
		}
	}
	if file == RulesFile || file == RetiredFile {
		return "copies/" + file
	}
	return ""
}

// PutKept puts a small file, its copy first.
func (f *files) PutKept(ctx context.Context, l *Lock, file string, content []byte) error {
	if c := CopyOf(file); c != "" {
		if err := f.put(ctx, l, c, content); err != nil {
			return err
		}
	}
	return f.put(ctx, l, file, content)
}

// PutCopy puts only one of the two: the file itself, or its copy.
func (f *files) PutCopy(ctx context.Context, l *Lock, at string, content []byte) error {
	return f.put(ctx, l, at, content)
}

// DeleteKept removes a small file for good, then its copy: a copy alone never counts as the file. It is no error when
// there is none.
func (f *files) DeleteKept(ctx context.Context, file string) error {
	if err := f.b.Delete(ctx, file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := f.b.Settle(ctx, backend.Folder(file)); err != nil {
		return err
	}
	if c := CopyOf(file); c != "" {
		if err := f.b.Delete(ctx, c); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// PutDocument frames a payload, which is used up, and puts it as a file; sealed where the store is.
func (f *files) PutDocument(ctx context.Context, l *Lock, file string, kind Kind, payload []byte) error {
	return f.put(ctx, l, file, f.ring.document(kind, payload))
}

// GetDocument reads the payload of a file of at most limit bytes; errors are *HurtError, ErrNewer, or the medium's.
func (f *files) GetDocument(ctx context.Context, file string, kind Kind, limit int64) ([]byte, error) {
	raw, err := getWhole(ctx, f.b, file, limit)
	if err != nil {
		return nil, err
	}
	return f.ring.payload(file, raw, kind)
}

// getWhole reads a small file; one that is too large is hurt.
func getWhole(ctx context.Context, b backend.Backend, file string, limit int64) ([]byte, error) {
	raw, err := backend.Get(ctx, b, file, limit)
	if size := new(backend.SizeError); errors.As(err, &size) {
		return nil, &HurtError{file, limit, "it is larger than it can be"}
	}
	return raw, err
}
