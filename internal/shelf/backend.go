package shelf

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"time"

	"golang.org/x/sys/unix"
)

// Backend is where a shelf's files lie. Names are slash-separated and relative.
type Backend interface {
	// Place names the backend for messages.
	Place() string
	// ReadFile reads a file of at most limit bytes.
	ReadFile(name string, limit int64) ([]byte, error)
	Open(name string) (Reader, error)
	// Create makes a new file; its folder is made when missing.
	Create(name string) (Writer, error)
	// Rename moves a file atomically, replacing; the folder is synced.
	Rename(from, to string) error
	// Remove removes a file; only SyncDir makes sure that it stays away.
	Remove(name string) error
	// SyncDir returns once the names in a folder are on the medium.
	SyncDir(dir string) error
	// List gives the names in a folder in ascending order; none if it is missing.
	List(dir string) ([]string, error)
	// Free is the room left, in bytes.
	Free() (int64, error)
	// Stat gives the size in bytes and when the file was last changed, by the clock of the folder.
	Stat(name string) (size int64, changed time.Time, err error)
}

// Reader reads a file of the shelf at any place.
type Reader interface {
	io.ReaderAt
	io.Closer
	Size() int64
}

// Writer writes a new file of the shelf.
type Writer interface {
	io.Writer
	// Sync returns once everything written is on the medium.
	Sync() error
	io.Closer
}

// ErrBusy means that another process writes to the shelf.
var ErrBusy = errors.New("another process writes to this shelf")

// folder is a Backend in a folder of a local file system.
type folder struct{ root string }

// Folder gives the backend for a shelf in a folder.
func Folder(path string) Backend { return folder{path} }

func (f folder) Place() string           { return f.root }
func (f folder) path(name string) string { return filepath.Join(f.root, filepath.FromSlash(name)) }

func (f folder) ReadFile(name string, limit int64) ([]byte, error) {
	r, err := os.Open(f.path(name))
	if err != nil {
		return nil, err
	}
	defer r.Close()
	b, err := io.ReadAll(io.LimitReader(r, limit+1))
	if err == nil && int64(len(b)) > limit {
		err = &Hurt{name, limit, fmt.Sprintf("it is larger than %d bytes", limit)}
	}
	return b, err
}

type folderReader struct {
	*os.File
	size int64
}

func (r folderReader) Size() int64 { return r.size }

func (f folder) Open(name string) (Reader, error) {
	r, err := os.Open(f.path(name))
	if err != nil {
		return nil, err
	}
	st, err := r.Stat()
	if err != nil {
		r.Close()
		return nil, err
	}
	return folderReader{r, st.Size()}, nil
}

// folderWriter starts writing back early, so that a Sync at the end is short.
type folderWriter struct {
	*os.File
	written, flushed int64
}

const flushEvery = 16 << 20

func (w *folderWriter) Write(p []byte) (int, error) {
	n, err := w.File.Write(p)
	w.written += int64(n)
	if w.written-w.flushed >= flushEvery {
		_ = unix.SyncFileRange(int(w.Fd()), w.flushed, w.written-w.flushed, unix.SYNC_FILE_RANGE_WRITE)
		w.flushed = w.written
	}
	return n, err
}

func (w *folderWriter) Sync() error {
	if err := w.File.Sync(); err != nil {
		return err
	}
	_ = unix.Fadvise(int(w.Fd()), 0, 0, unix.FADV_DONTNEED)
	return nil
}

func (f folder) Create(name string) (Writer, error) {
	p := f.path(name)
	if err := os.MkdirAll(filepath.Dir(p), 0o700); err != nil {
		return nil, err
	}
	w, err := os.OpenFile(p, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	return &folderWriter{File: w}, nil
}

func (f folder) Rename(from, to string) error {
	dir := filepath.Dir(f.path(to))
	if err := f.makeFolder(dir); err != nil {
		return err
	}
	if err := os.Rename(f.path(from), f.path(to)); err != nil {
		return err
	}
	return syncDir(dir)
}

// makeFolder makes a folder with those above it. Each new one is in its parent on the medium afterwards.
func (f folder) makeFolder(dir string) error {
	if _, err := os.Stat(dir); err == nil || !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	parent := filepath.Dir(dir)
	if len(dir) > len(f.root) {
		if err := f.makeFolder(parent); err != nil {
			return err
		}
	}
	if err := os.Mkdir(dir, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return syncDir(parent)
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

func (f folder) Remove(name string) error { return os.Remove(f.path(name)) }

func (f folder) SyncDir(dir string) error { return syncDir(f.path(dir)) }

func (f folder) List(dir string) ([]string, error) {
	entries, err := os.ReadDir(f.path(dir))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	names := make([]string, 0, len(entries))
	for _, e := range entries {
		names = append(names, e.Name())
	}
	sort.Strings(names)
	return names, err
}

func (f folder) Free() (int64, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(f.root, &st); err != nil {
		return 0, err
	}
	return int64(st.Bavail) * st.Bsize, nil
}

func (f folder) Stat(name string) (int64, time.Time, error) {
	st, err := os.Stat(f.path(name))
	if err != nil {
		return 0, time.Time{}, err
	}
	return st.Size(), st.ModTime(), nil
}
