package backend

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"time"

	"golang.org/x/sys/unix"

	"twinshelf/internal/durable"
)

// A folder keeps each object in a file. What is written lies in its subfolder tmp until it is renamed into place.
const (
	// networkLag is how long a network's file system may answer from its memory (nfs(5): acdirmax).
	networkLag = 60 * time.Second
	// flushEvery is after how many bytes writing back begins, so that a sync at the end is short.
	flushEvery = 16 << 20
)

type folder struct {
	root string
	// hasty says that nothing waits for the medium.
	hasty bool
	// thaw makes a file system writable that isn't; nil where that can't be.
	thaw func(ctx context.Context) error
}

// InFolder gives the backend in a folder of a file system.
func InFolder(path string) Backend { return folder{root: path} }

// InFolderHastily is InFolder for stand-ins that are made anew whenever they are wanted: nothing waits for the
// medium, so that a loss of power may cost everything.
func InFolderHastily(path string) Backend { return folder{root: path, hasty: true} }

// InFolderOnDemand is InFolder in a file system that can't be written to until thaw has made it so: that is called when
// something is to be written for the first time.
func InFolderOnDemand(path string, thaw func(ctx context.Context) error) Backend {
	return folder{root: path, thaw: thaw}
}

// thawed does what writes, and once more where the file system had to be made writable for it.
func (f folder) thawed(ctx context.Context, do func() error) error {
	err := do()
	if f.thaw == nil || !errors.Is(err, unix.EROFS) {
		return err
	}
	if problem := f.thaw(ctx); problem != nil {
		return fmt.Errorf("%w; %s can't be made writable: %w", err, f.root, problem)
	}
	return do()
}

func (f folder) Place() string           { return f.root }
func (f folder) path(name string) string { return filepath.Join(f.root, filepath.FromSlash(name)) }

// Lag is that of the file system's own memory of folders.
func (f folder) Lag() time.Duration {
	var st unix.Statfs_t
	if unix.Statfs(f.root, &st) != nil {
		return networkLag
	}
	switch uint32(st.Type) {
	case unix.NFS_SUPER_MAGIC, unix.SMB_SUPER_MAGIC, unix.SMB2_SUPER_MAGIC, unix.CIFS_SUPER_MAGIC,
		unix.FUSE_SUPER_MAGIC,
		unix.CEPH_SUPER_MAGIC, unix.AFS_FS_MAGIC, unix.V9FS_MAGIC, unix.OCFS2_SUPER_MAGIC, unix.CODA_SUPER_MAGIC:
		return networkLag
	}
	return 0
}

type folderObject struct {
	f    *os.File
	size int64
}

func (o folderObject) Size() int64  { return o.size }
func (o folderObject) Close() error { return o.f.Close() }

func (o folderObject) ReadAt(ctx context.Context, p []byte, off int64) (int, error) {
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	return o.f.ReadAt(p, off)
}

func (f folder) Open(ctx context.Context, name string) (Object, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	r, err := os.Open(f.path(name))
	if err != nil {
		return nil, err
	}
	st, err := r.Stat()
	if err == nil && st.IsDir() {
		err = fmt.Errorf("%s is a folder: %w", name, fs.ErrInvalid)
	}
	if err != nil {
		r.Close()
		return nil, err
	}
	return &folderObject{r, st.Size()}, nil
}

func (f folder) Stat(ctx context.Context, name string) (Info, error) {
	if err := ctx.Err(); err != nil {
		return Info{}, err
	}
	st, err := os.Stat(f.path(name))
	if err != nil {
		return Info{}, err
	}
	return Info{st.Size(), st.ModTime()}, nil
}

func (f folder) List(ctx context.Context, dir string) ([]string, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
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

func (f folder) Delete(ctx context.Context, name string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	return f.thawed(ctx, func() error { return os.Remove(f.path(name)) })
}

func (f folder) Settle(ctx context.Context, dir string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	err := f.syncDir(f.path(dir))
	if errors.Is(err, fs.ErrNotExist) {
		return nil // nothing in it can come back
	}
	return err
}

func (f folder) Sweep(ctx context.Context, abandoned func(label string, changed time.Time) bool) error {
	return SweepFolder(ctx, f, TempFolder, abandoned)
}

func (f folder) Free(ctx context.Context) (int64, error) {
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	var st unix.Statfs_t
	if err := unix.Statfs(f.root, &st); err != nil {
		return 0, err
	}
	return int64(st.Bavail) * st.Bsize, nil
}

// Concerns looks at the owner and the permissions of the folder.
func (f folder) Concerns(_ context.Context, sealed bool) []string {
	var out []string
	var st unix.Stat_t
	if unix.Stat(f.root, &st) != nil {
		return nil
	}
	if uid := os.Geteuid(); uid != 0 && int(st.Uid) != uid {
		out = append(out, fmt.Sprintf("the folder %s belongs to user %d, not to you: they can change or remove it",
			f.root, st.Uid))
	}
	if st.Mode&0o022 != 0 {
		out = append(out, fmt.Sprintf("others can write to the folder %s: \"chmod 700\" keeps it yours", f.root))
	} else if st.Mode&0o055 != 0 && !sealed {
		out = append(out,
			fmt.Sprintf("others can read the folder %s, and the shelf is open: \"chmod 700\" keeps it yours",
				f.root))
	}
	return out
}

func (f folder) Create(ctx context.Context, name string, o Options) (Upload, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	temp := f.path(TempFolder + "/" + o.Owner + "-" + randomID())
	var w *os.File
	err := f.thawed(ctx, func() (err error) {
		if err = os.MkdirAll(f.path(TempFolder), 0o700); err == nil {
			w, err = os.OpenFile(temp, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	return &folderUpload{folder: f, File: w, temp: temp, name: name, o: o}, nil
}

func randomID() string {
	var b [8]byte
	_, _ = rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

// folderUpload is a file in tmp.
type folderUpload struct {
	folder
	*os.File
	temp, name       string
	o                Options
	written, flushed int64
	synced           bool
	ended            bool
}

func (u *folderUpload) Write(p []byte) (int, error) {
	n, err := u.File.Write(p)
	u.synced = false
	u.written += int64(n)
	if u.written-u.flushed >= flushEvery {
		_ = unix.SyncFileRange(int(u.Fd()), u.flushed, u.written-u.flushed, unix.SYNC_FILE_RANGE_WRITE)
		u.flushed = u.written
	}
	return n, err
}

func (u *folderUpload) Sync(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if u.hasty {
		u.synced = true
		return nil
	}
	if err := u.File.Sync(); err != nil {
		return err
	}
	_ = unix.Fadvise(int(u.Fd()), 0, 0, unix.FADV_DONTNEED)
	u.synced = true
	return nil
}

func (u *folderUpload) Commit(ctx context.Context) error {
	if u.ended {
		return fs.ErrClosed
	}
	if !u.synced && !u.o.Fleeting {
		if err := u.Sync(ctx); err != nil {
			return err
		}
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	dir := filepath.Dir(u.path(u.name))
	if err := u.makeFolder(dir); err != nil {
		return err
	}
	move := os.Rename
	if u.o.IfAbsent {
		move = renameNew
	}
	if err := move(u.temp, u.path(u.name)); err != nil {
		return err
	}
	u.ended = true
	err := u.File.Close()
	if u.o.Fleeting {
		return err
	}
	return errors.Join(err, u.syncDir(dir))
}

func (u *folderUpload) Abort() error {
	if u.ended {
		return nil
	}
	u.ended = true
	return errors.Join(u.File.Close(), os.Remove(u.temp))
}

// renameNew renames without replacing. Where the file system can't do that a hard link does; where it has none either
// an empty file is put first, which only one can make.
func renameNew(from, to string) error {
	err := unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, to, unix.RENAME_NOREPLACE)
	if err == nil || errors.Is(err, fs.ErrExist) || errors.Is(err, fs.ErrNotExist) {
		return asPathError(to, err)
	}
	if err = os.Link(from, to); err == nil {
		return os.Remove(from)
	}
	if errors.Is(err, fs.ErrExist) {
		return err
	}
	f, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	return os.Rename(from, to)
}

func asPathError(name string, err error) error {
	if err == nil {
		return nil
	}
	return &fs.PathError{Op: "rename", Path: name, Err: err}
}

// makeFolder makes a folder with those above it. Each new one is in its parent on the medium afterwards.
func (f folder) makeFolder(dir string) error {
	if _, err := os.Stat(dir); err == nil || !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	parent := filepath.Dir(dir)
	if dir != filepath.Clean(f.root) && parent != dir {
		if err := f.makeFolder(parent); err != nil {
			return err
		}
	}
	if err := os.Mkdir(dir, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return f.syncDir(parent)
}

func (f folder) syncDir(dir string) error {
	if f.hasty {
		return nil
	}
	return durable.SyncFolder(dir)
}
