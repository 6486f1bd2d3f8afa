package door

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"

	"github.com/pkg/sftp"
	"golang.org/x/sys/unix"

	"twinshelf/internal/store/backend"
)

// StatementFile is a file that isn't there and says, in JSON, what the key may do.
const StatementFile = ".twinshelf-door"

// Statement is what it says.
type Statement struct {
	Door  int    `json:"door"` // version: 1
	Key   string `json:"key"`
	Right string `json:"right"`
	Quota int64  `json:"quota,omitempty"` // bytes
	Used  int64  `json:"used,omitempty"`  // bytes
	// Syncs says that what is put in place survives a loss of power.
	Syncs bool `json:"syncs"`
}

const (
	// mostListed bounds how many entries a folder may have that is listed.
	mostListed = 10_000_000
	// mostLock bounds a lock that is looked into, in bytes.
	mostLock = 64 << 10
)

// session is one visit of a key.
type session struct {
	key  Key
	dir  string
	root *os.Root
	log  *Log
	from string
	read atomic.Int64 // bytes

	usage *usage // nil without a quota

	mu      sync.Mutex
	writers map[*writer]bool
}

func (s *session) close() { _ = s.root.Close() }

func (s *session) note(e Entry) {
	e.Key, e.From = s.key.Name, s.from
	s.log.Note(e)
}

// denied refuses something, and has the log say so.
func (s *session) denied(op, name, why string) error {
	s.note(Entry{Op: op, Name: name, Refused: why})
	return fmt.Errorf("%s: %w", why, sftp.ErrSSHFxPermissionDenied)
}

// clean is a path below the root; "." for the root itself.
func clean(name string) string {
	name = strings.TrimPrefix(path.Clean("/"+name), "/")
	if name == "" {
		return "."
	}
	return name
}

func inFolder(name, folder string) bool { return path.Base(path.Dir(name)) == folder }

// Fileread opens a file for reading.
func (s *session) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	name := clean(r.Filepath)
	if name == StatementFile {
		b, err := s.statement()
		return strings.NewReader(string(b)), err
	}
	f, err := s.root.Open(name)
	if err != nil {
		return nil, plain(err)
	}
	st, err := f.Stat()
	if err == nil && !st.Mode().IsRegular() {
		err = sftp.ErrSSHFxFailure
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return &reader{f, s}, nil
}

// reader counts what is read.
type reader struct {
	*os.File
	s *session
}

func (r *reader) ReadAt(p []byte, off int64) (int, error) {
	n, err := r.File.ReadAt(p, off)
	r.s.read.Add(int64(n))
	return n, err
}

func (s *session) statement() ([]byte, error) {
	said := Statement{Door: 1, Key: s.key.Name, Right: s.key.Right.String(), Quota: s.key.Quota, Syncs: true}
	if s.usage != nil {
		said.Used = s.key.Quota - s.usage.left()
	}
	return json.Marshal(said)
}

// plain keeps the server's own paths to itself.
func plain(err error) error {
	var at *fs.PathError
	var link *os.LinkError
	switch {
	case errors.As(err, &at):
		err = at.Err
	case errors.As(err, &link):
		err = link.Err
	}
	if errors.Is(err, fs.ErrNotExist) {
		return syscall.ENOENT
	}
	if errors.Is(err, fs.ErrPermission) {
		return sftp.ErrSSHFxPermissionDenied
	}
	return err
}

// Filewrite opens a file for writing.
func (s *session) Filewrite(r *sftp.Request) (io.WriterAt, error) { return s.OpenFile(r) }

// OpenFile opens a file for reading and writing.
func (s *session) OpenFile(r *sftp.Request) (sftp.WriterAtReaderAt, error) {
	name, flags := clean(r.Filepath), r.Pflags()
	switch {
	case s.key.Right == Read:
		return nil, s.denied("write", name, "this key may only read")
	case s.key.Right == Add && !inFolder(name, backend.TempFolder):
		return nil, s.denied("write", name, "this key may only add: what it writes is put in place from tmp")
	}
	f, err := s.openMine(name, flags)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB); err != nil || !s.still(f, name) {
		_ = f.Close()
		return nil, s.denied("write", name, "it is being put in place")
	}
	if flags.Trunc {
		if err := f.Truncate(0); err != nil {
			return nil, errors.Join(plain(err), f.Close())
		}
	}
	w := &writer{s: s, name: name, f: f}
	if st, err := f.Stat(); err == nil {
		w.end = st.Size()
	}
	s.mu.Lock()
	s.writers[w] = true
	s.mu.Unlock()
	return w, nil
}

// openMine opens a file that the key made, or makes it.
func (s *session) openMine(name string, flags sftp.FileOpenFlags) (*os.File, error) {
	const fresh = os.O_RDWR | os.O_CREATE | os.O_EXCL
	if flags.Creat {
		f, err := s.root.OpenFile(name, fresh, 0o600)
		if err == nil {
			if err := unix.Fsetxattr(int(f.Fd()), ownerMark, []byte(s.key.Name), 0); err != nil && s.key.Right == Add {
				return nil, errors.Join(ErrNoMarks, f.Close(), s.root.Remove(name))
			}
			return f, nil
		}
		if !errors.Is(err, fs.ErrExist) || flags.Excl {
			return nil, plain(err)
		}
	}
	f, err := s.root.OpenFile(name, os.O_RDWR, 0)
	if err != nil {
		return nil, plain(err)
	}
	if s.key.Right == Add && ownerOf(f) != s.key.Name {
		_ = f.Close()
		return nil, s.denied("write", name, "another key put it")
	}
	if s.key.Right == Add && links(f) != 1 { // the door was cut off between the two steps of place
		_ = f.Close()
		return nil, s.denied("write", name, "it is in place already")
	}
	return f, nil
}

// links is how many names a file has.
func links(f *os.File) uint64 {
	var st unix.Stat_t
	if unix.Fstat(int(f.Fd()), &st) != nil {
		return 0
	}
	return uint64(st.Nlink)
}

// still says whether an open file is the one of that name.
func (s *session) still(f *os.File, name string) bool {
	open, err1 := f.Stat()
	there, err2 := s.root.Lstat(name)
	return err1 == nil && err2 == nil && os.SameFile(open, there)
}

// writer is a file that is being written.
type writer struct {
	s    *session
	name string

	mu     sync.Mutex
	f      *os.File
	end    int64 // bytes
	closed bool
}

func (w *writer) WriteAt(p []byte, off int64) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.closed {
		return 0, fs.ErrClosed
	}
	if more := off + int64(len(p)) - w.end; more > 0 {
		if !w.s.usage.take(more) {
			_ = w.s.denied("write", w.name, "the quota of this key is used up")
			return 0, syscall.EDQUOT
		}
		w.end += more
	}
	return w.f.WriteAt(p, off)
}

func (w *writer) ReadAt(p []byte, off int64) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.closed {
		return 0, fs.ErrClosed
	}
	return w.f.ReadAt(p, off)
}

// Close closes it.
func (w *writer) Close() error {
	w.s.mu.Lock()
	delete(w.s.writers, w)
	w.s.mu.Unlock()
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.closed {
		return nil
	}
	w.closed = true
	return w.f.Close()
}
