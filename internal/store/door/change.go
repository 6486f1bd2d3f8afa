package door

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"syscall"

	"github.com/pkg/sftp"
	"golang.org/x/sys/unix"

	"twinshelf/internal/store/backend"
)

// Filecmd does what changes names.
func (s *session) Filecmd(r *sftp.Request) error {
	name, to := clean(r.Filepath), clean(r.Target)
	if s.key.Right == Read {
		return s.denied(r.Method, name, "this key may only read")
	}
	switch r.Method {
	case "Setstat":
		return s.setstat(r, name)
	case "Mkdir":
		return s.makeFolder(name)
	case "Rmdir":
		return s.removeFolder(name)
	case "Remove":
		return s.remove(name)
	case "Rename", "Link":
		return s.place(name, to, false)
	}
	return s.denied(r.Method, name, "nobody does that here")
}

// PosixRename puts a file in place of another.
func (s *session) PosixRename(r *sftp.Request) error {
	name, to := clean(r.Filepath), clean(r.Target)
	if s.key.Right == Read {
		return s.denied("replace", name, "this key may only read")
	}
	return s.place(name, to, true)
}

// setstat takes no rights and times from afar: files are their owner's alone.
func (s *session) setstat(r *sftp.Request, name string) error {
	if r.AttrFlags().Size {
		return s.denied("truncate", name, "nobody does that here")
	}
	_, err := s.root.Stat(name)
	return plain(err)
}

func (s *session) makeFolder(name string) error {
	if s.key.Right == Add && !addableFolder(name) {
		return s.denied("make a folder", name, "this key may only add what belongs to a shelf")
	}
	if err := s.root.Mkdir(name, 0o700); err != nil {
		return plain(err)
	}
	return s.syncFolder(path.Dir(name))
}

func (s *session) removeFolder(name string) error {
	st, err := s.root.Lstat(name)
	if err == nil && !st.IsDir() {
		err = syscall.ENOTDIR
	}
	if err == nil && s.key.Right != Keep {
		return s.denied("remove", name, "this key may only add")
	}
	if err == nil {
		err = s.root.Remove(name)
	}
	if err == nil {
		s.note(Entry{Op: "remove", Name: name})
	}
	return plain(err)
}

// remove removes a file: any, or one that isn't finished, or a lock, where the key itself put it.
func (s *session) remove(name string) error {
	st, err := s.root.Lstat(name)
	if err != nil {
		return plain(err)
	}
	if st.IsDir() {
		return syscall.EISDIR
	}
	mine := s.isMine(name)
	if s.key.Right != Keep && !(mine && (inFolder(name, backend.TempFolder) || inFolder(name, backend.LockFolder))) {
		return s.denied("remove", name, "this key may only add")
	}
	if err := s.root.Remove(name); err != nil {
		return plain(err)
	}
	if mine {
		s.usage.giveBack(st.Size())
	}
	s.note(Entry{Op: "remove", Name: name, Bytes: st.Size()})
	return s.syncFolder(path.Dir(name))
}

// isMine says whether the key put a file.
func (s *session) isMine(name string) bool {
	f, err := s.root.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	return ownerOf(f) == s.key.Name
}

// place puts a file in place: where none is, or with replace in the place of another.
func (s *session) place(from, to string, replace bool) error {
	f, err := s.finish(from, to)
	if err != nil {
		return err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return plain(err)
	}
	op := "put"
	err = s.root.Link(from, to) // fails where there is one
	if errors.Is(err, fs.ErrExist) && replace {
		if s.key.Right != Keep && !(inFolder(to, backend.LockFolder) && s.isMine(to)) {
			return s.denied("replace", to, "this key may only add")
		}
		op = "replace"
		err = s.root.Rename(from, to)
	} else if err == nil {
		err = s.root.Remove(from)
	}
	if err != nil {
		return plain(err)
	}
	s.note(Entry{Op: op, Name: to, Bytes: st.Size()})
	return errors.Join(s.syncFolder(path.Dir(to)), s.syncFolder(path.Dir(from)))
}

// finish has a file ready to be put in place: nobody writes to it any more, and it survives a loss of power.
func (s *session) finish(from, to string) (*os.File, error) {
	if s.key.Right == Add && (!inFolder(from, backend.TempFolder) || !addable(to)) {
		return nil, s.denied("put", to, "this key may only add what belongs to a shelf, from tmp")
	}
	s.endWriting(from)
	f, err := s.root.OpenFile(from, os.O_RDWR, 0)
	if err != nil {
		return nil, plain(err)
	}
	problem := func() error {
		if st, err := f.Stat(); err != nil || !st.Mode().IsRegular() {
			return errors.Join(sftp.ErrSSHFxFailure, plain(err))
		}
		if s.key.Right == Add && ownerOf(f) != s.key.Name {
			return s.denied("put", to, "another key put it")
		}
		// Held until it is in place under its name alone: see OpenFile.
		if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
			return s.denied("put", to, "somebody is writing to it")
		}
		if s.key.Right == Add && inFolder(to, backend.LockFolder) && alone(f) {
			return s.denied("put", to, "this key may only add: it can't keep everybody else from working")
		}
		return plain(f.Sync())
	}()
	if problem != nil {
		return nil, errors.Join(problem, f.Close())
	}
	return f, nil
}

// endWriting closes what this session has open of a file.
func (s *session) endWriting(name string) {
	s.mu.Lock()
	var open []*writer
	for w := range s.writers {
		if w.name == name {
			open = append(open, w)
		}
	}
	s.mu.Unlock()
	for _, w := range open {
		_ = w.Close()
	}
}

// alone says whether a lock wants to be alone, or can't be understood.
func alone(f *os.File) bool {
	b := make([]byte, mostLock)
	n, _ := f.ReadAt(b, 0)
	var lock struct {
		Alone bool `json:"alone"`
	}
	return n == len(b) || json.Unmarshal(b[:n], &lock) != nil || lock.Alone
}

// syncFolder has names survive a loss of power.
func (s *session) syncFolder(name string) error {
	d, err := s.root.Open(name)
	if err != nil {
		return plain(err)
	}
	return errors.Join(plain(d.Sync()), d.Close())
}

// StatVFS tells how much room there is: that of the folder, or what is left of the quota.
func (s *session) StatVFS(*sftp.Request) (*sftp.StatVFS, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(filepath.Clean(s.dir), &st); err != nil {
		return nil, err
	}
	const unit = 4096
	free, all := st.Bavail*uint64(st.Bsize)/unit, st.Blocks*uint64(st.Bsize)/unit
	if s.usage != nil {
		free, all = min(free, uint64(s.usage.left())/unit), uint64(s.key.Quota)/unit
	}
	return &sftp.StatVFS{Bsize: unit, Frsize: unit, Blocks: all, Bfree: free, Bavail: free, Files: st.Files,
		Ffree: st.Ffree, Favail: st.Ffree, Namemax: 255}, nil
}
