// Package door serves folders with shelves by SFTP (draft-ietf-secsh-filexfer-02), with a right for each key: to
// read, to add, or to keep. It knows as much of a shelf as that takes: that objects are written in tmp and put in
// place from there, that locks are replaced by their own holders, and that everything else only ever appears.
package door

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/pkg/sftp"
	"golang.org/x/sys/unix"

	"twinshelf/internal/store/backend"
)

// Right is what a key may do.
type Right int

const (
	// Read looks at everything and changes nothing.
	Read Right = iota + 1
	// Add also puts new objects where none are, and replaces and removes its own locks and what it didn't finish.
	Add
	// Keep does everything.
	Keep
)

var rightNames = map[Right]string{Read: "read", Add: "add", Keep: "keep"}

func (r Right) String() string { return rightNames[r] }

// ParseRight reads a right.
func ParseRight(text string) (Right, error) {
	for r, name := range rightNames {
		if text == name {
			return r, nil
		}
	}
	return 0, fmt.Errorf("a right is read, add or keep, not %q", text)
}

// Key is whoever comes in.
type Key struct {
	Name   string // for the log, and to know again what it put
	Right  Right
	Quota  int64  // bytes that it may have put; 0 for as many as there is room for
	Folder string // below the door's; empty for all of it
}

// mostName bounds a key's name, in bytes.
const mostName = 64

func (k Key) check() error {
	switch {
	case k.Name == "" || len(k.Name) > mostName || strings.ContainsFunc(k.Name, func(r rune) bool { return r <= ' ' }):
		return fmt.Errorf("a key needs a name of up to %d letters, without spaces", mostName)
	case rightNames[k.Right] == "":
		return errors.New("a key needs a right: read, add or keep")
	case k.Quota < 0:
		return errors.New("a quota can't be less than nothing")
	case k.Folder != "" && !filepath.IsLocal(k.Folder):
		return fmt.Errorf("%q isn't a folder below the door's", k.Folder)
	}
	return nil
}

// ErrNoMarks means that the file system of a folder can't keep whose an object is.
var ErrNoMarks = errors.New("the file system keeps no attributes of users (xattr(7)), so whose an object is couldn't " +
	"be told: keys with the right to add need one that does, such as ext4, XFS or btrfs")

// Door is a folder that is served.
type Door struct {
	dir string
	log *Log

	mu     sync.Mutex
	usages map[Key]*usage
}

// New gives the door of a folder.
func New(dir string, log *Log) (*Door, error) {
	st, err := os.Stat(dir)
	if err == nil && !st.IsDir() {
		err = fmt.Errorf("%s is no folder", dir)
	}
	if err != nil {
		return nil, fmt.Errorf("the door has nothing to serve: %w", err)
	}
	return &Door{dir: dir, log: log, usages: map[Key]*usage{}}, nil
}

// Serve serves one session over a connection until it ends. from says where it comes from, for the log.
func (d *Door) Serve(ctx context.Context, conn io.ReadWriteCloser, k Key, from string) error {
	s, err := d.session(k, from)
	if err != nil {
		return err
	}
	defer s.close()
	s.note(Entry{Op: "come in"})
	server := sftp.NewRequestServer(conn, sftp.Handlers{FileGet: s, FilePut: s, FileCmd: s, FileList: s})
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	err = errors.Join(server.Serve(), server.Close())
	if !stop() || errors.Is(err, io.EOF) || errors.Is(err, os.ErrClosed) { // as visits end
		err = nil
	}
	s.note(Entry{Op: "leave", Bytes: s.read.Load()})
	return err
}

// session begins one.
func (d *Door) session(k Key, from string) (*session, error) {
	if err := k.check(); err != nil {
		return nil, err
	}
	dir := filepath.Join(d.dir, k.Folder)
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, fmt.Errorf("the folder of this key can't be opened: %w", err)
	}
	s := &session{key: k, dir: dir, root: root, log: d.log, from: from, writers: map[*writer]bool{}}
	if k.Right == Add {
		if err := s.canMark(); err != nil {
			return nil, errors.Join(err, root.Close())
		}
	}
	if s.usage, err = d.usageOf(k, dir); err != nil {
		return nil, errors.Join(err, root.Close())
	}
	return s, nil
}

// ownerMark is the attribute of a file that says which key put it.
const ownerMark = "user.twinshelf.key"

// canMark looks whether the file system keeps attributes.
func (s *session) canMark() error {
	f, err := os.CreateTemp(s.dir, ".twinshelf-door-*")
	if err != nil {
		return err
	}
	problem := unix.Fsetxattr(int(f.Fd()), ownerMark, []byte(s.key.Name), 0)
	err = errors.Join(f.Close(), os.Remove(f.Name()))
	if problem != nil {
		return fmt.Errorf("%w (%s: %w)", ErrNoMarks, s.dir, problem)
	}
	return err
}

// ownerAt is whose a file is; empty where nothing says.
func ownerAt(path string) string {
	b := make([]byte, mostName)
	n, err := unix.Lgetxattr(path, ownerMark, b)
	if err != nil {
		return ""
	}
	return string(b[:n])
}

// ownerOf is that of an open file.
func ownerOf(f *os.File) string {
	b := make([]byte, mostName)
	n, err := unix.Fgetxattr(int(f.Fd()), ownerMark, b)
	if err != nil {
		return ""
	}
	return string(b[:n])
}

// What a shelf is made of, as far as the door knows (docs/shelf-format.md): folders into which keys that add may put
// new objects, and files beside them. Notes that rule over the others' work aren't among them.
var (
	addFolders = []string{"packs", "parity", "index", "twins", "proofs", "marks", "unlocking", "journal", "jobs",
		"names", "tried", "unfinished", "copies", backend.LockFolder}
	addFiles  = []string{"head", "head.copy", "reserve", backend.ProbeName}
	ruleFiles = []string{"rules.note", "retired.note", "checked.note"} // and their copies
)

// addableFolder says whether a key may make a folder that adds: one of a shelf, or for a shelf below the door's own.
// What has a dot would stand where a shelf has a file.
func addableFolder(name string) bool {
	base := path.Base(name)
	return base == backend.TempFolder || slices.Contains(addFolders, base) || addable(name+"/.") ||
		!strings.ContainsAny(name, "./")
}

// addable says whether a name is one that a key may add.
func addable(name string) bool {
	steps := strings.Split(name, "/")
	folders, file := steps[:len(steps)-1], steps[len(steps)-1]
	if slices.Contains(ruleFiles, file) {
		return false
	}
	known := func(step string) bool { return slices.Contains(addFolders, step) }
	return slices.Contains(addFiles, file) || slices.ContainsFunc(folders, known)
}
