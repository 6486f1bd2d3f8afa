package fsys_test

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"twinshelf/internal/fsys"
)

// shape is what a file system keeps of a file, and so what is compared.
type shape struct {
	unix   bool          // owner, permissions, links, devices
	xattrs bool          // extended attributes; user attributes are streams when streams is set too
	stream bool          // user attributes are alternate streams
	fine   time.Duration // of modification times
	holes  bool
}

// sameFiles compares every file of an image, as we read it, with what the system reads at point.
func sameFiles(t *testing.T, img, point string, s shape) (files int) {
	t.Helper()
	c, _ := examine(t, img)
	tr, err := fsys.TreeOf(c.Volume)
	if err != nil {
		t.Fatal(err)
	}
	root, err := tr.Root()
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	err = fsys.Walk(tr, root, ".", func(at string, _ fsys.Item, entries []fsys.Entry, err error) error {
		if err != nil {
			t.Errorf("%s: %v", at, err)
		}
		for _, e := range entries {
			p := fsys.Join(at, e.Name)
			seen[p] = true
			if e.Err != nil {
				t.Errorf("%s: %v", p, e.Err)
				continue
			}
			if err := sameItem(tr, e.Item, filepath.Join(point, p), s); err != nil {
				t.Errorf("%s: %v", p, err)
			}
		}
		if t.Failed() && len(seen) > 100 {
			return fs.SkipAll
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	err = filepath.WalkDir(point, func(p string, e fs.DirEntry, err error) error {
		if err != nil || p == point {
			return err
		}
		name, _ := filepath.Rel(point, p)
		if !seen[name] {
			t.Errorf("%s is missing", name)
		}
		delete(seen, name)
		files++
		return nil
	})
	if err != nil || len(seen) > 0 {
		t.Errorf("the system has %d fewer (%v)", len(seen), err)
	}
	return files
}

func sameItem(tr fsys.Tree, it fsys.Item, path string, s shape) error {
	st, err := os.Lstat(path)
	if err != nil {
		return err
	}
	if it.Mode.Type() != st.Mode().Type() {
		return fmt.Errorf("it is %v, not %v", st.Mode(), it.Mode)
	}
	if d := it.Modified.Sub(st.ModTime()); it.Mode.Type()&fs.ModeSymlink == 0 && (d >= s.fine || d <= -s.fine) &&
		s.fine > 0 {
		return fmt.Errorf("it was changed at %v, not %v", st.ModTime(), it.Modified)
	}
	if s.unix {
		var x unix.Statx_t
		if err := unix.Statx(unix.AT_FDCWD, path, unix.AT_SYMLINK_NOFOLLOW, unix.STATX_ALL, &x); err != nil {
			return err
		}
		moment := func(t unix.StatxTimestamp) time.Time { return time.Unix(t.Sec, int64(t.Nsec)) }
		switch {
		case it.Mode != st.Mode():
			return fmt.Errorf("its mode is %v, not %v", st.Mode(), it.Mode)
		case it.UID != x.Uid || it.GID != x.Gid:
			return fmt.Errorf("it belongs to %d:%d, not %d:%d", x.Uid, x.Gid, it.UID, it.GID)
		case uint32(it.Links) != x.Nlink:
			return fmt.Errorf("it has %d links, not %d", x.Nlink, it.Links)
		case !it.Changed.Equal(moment(x.Ctime)) || !it.Modified.Equal(moment(x.Mtime)):
			return fmt.Errorf("its times are %v %v, not %v %v", moment(x.Ctime), moment(x.Mtime), it.Changed,
				it.Modified)
		case x.Mask&unix.STATX_BTIME != 0 && !it.Created.Equal(moment(x.Btime)):
			return fmt.Errorf("it was made at %v, not %v", moment(x.Btime), it.Created)
		case it.Mode&fs.ModeDevice != 0 && (it.Major != x.Rdev_major || it.Minor != x.Rdev_minor):
			return fmt.Errorf("it is device %d:%d, not %d:%d", x.Rdev_major, x.Rdev_minor, it.Major, it.Minor)
		}
	}
	more, err := tr.More(it)
	if err != nil {
		return err
	}
	if it.Mode.Type() == fs.ModeSymlink {
		if want, err := os.Readlink(path); err != nil || want != more.Target {
			return fmt.Errorf("it leads to %q, not %q (%v)", want, more.Target, err)
		}
	}
	if s.xattrs {
		if err := sameAttributes(tr, it, more, path, s); err != nil {
			return err
		}
	}
	if !it.Mode.IsRegular() {
		return nil
	}
	if it.Size != st.Size() {
		return fmt.Errorf("it has %d bytes, not %d", st.Size(), it.Size)
	}
	return sameContents(tr, it, path, s)
}

func sameAttributes(tr fsys.Tree, it fsys.Item, more fsys.More, path string, s shape) error {
	have := map[string][]byte{}
	for _, x := range more.XAttrs {
		if !strings.HasPrefix(x.Name, "system.ntfs") {
			have[x.Name] = x.Value
			continue
		}
		b := make([]byte, 64<<10) // it isn't listed, and is there, with zeros after it
		if n, err := unix.Lgetxattr(path, x.Name, b); err != nil || !bytes.HasPrefix(b[:n], x.Value) {
			return fmt.Errorf("%s is %d bytes to the system, and %d here: %w", x.Name, n, len(x.Value), err)
		}
	}
	if s.stream {
		for _, x := range more.Streams {
			c, err := tr.Open(it, x.Name)
			if err != nil {
				return err
			}
			b := make([]byte, x.Size)
			if n, err := c.ReadAt(b, 0); n < len(b) {
				return err
			}
			have["user."+x.Name] = b
		}
	}
	names := make([]byte, 64<<10)
	n, err := unix.Llistxattr(path, names)
	if err != nil {
		return err
	}
	for name := range strings.SplitSeq(strings.TrimRight(string(names[:n]), "\x00"), "\x00") {
		if name == "" || s.stream && !strings.HasPrefix(name, "user.") {
			continue
		}
		b := make([]byte, 64<<10)
		n, err := unix.Lgetxattr(path, name, b)
		if got, ok := have[name]; err != nil || !ok || !bytes.Equal(got, b[:n]) {
			return fmt.Errorf("attribute %s is %q, not %q (%v, %v)", name, b[:min(n, 40)], got[:min(len(got), 40)],
				ok, err)
		}
		delete(have, name)
	}
	if len(have) > 0 {
		return fmt.Errorf("the system doesn't see the attributes %v", have)
	}
	return nil
}

func sameContents(tr fsys.Tree, it fsys.Item, path string, s shape) error {
	c, err := tr.Open(it, "")
	if err != nil {
		return err
	}
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	ours, theirs := sha256.New(), sha256.New()
	if _, err := io.Copy(ours, io.NewSectionReader(c, 0, c.Size())); err != nil {
		return err
	}
	if _, err := io.Copy(theirs, f); err != nil {
		return err
	}
	if !bytes.Equal(ours.Sum(nil), theirs.Sum(nil)) || c.Size() != it.Size {
		return fmt.Errorf("its contents differ (%d bytes)", it.Size)
	}
	data := c.Data()
	if bounds := data.Bounds(); bounds.End > c.Size() {
		return fmt.Errorf("its data %v goes beyond its %d bytes", bounds, c.Size())
	}
	if hole := it.Size - data.Total(); s.holes && strings.Contains(path, "sparse") && hole < it.Size/2 {
		return fmt.Errorf("only %d of %d bytes are holes", hole, it.Size)
	}
	// In the middle, and over the end.
	if it.Size > 3 {
		b, w := make([]byte, 70_000), make([]byte, 70_000)
		n, err := c.ReadAt(b, it.Size/2)
		m, _ := f.ReadAt(w, it.Size/2)
		if n != m || !bytes.Equal(b[:n], w[:m]) || n < len(b) && err != io.EOF {
			return fmt.Errorf("from its middle %d bytes are read, not %d: %v", n, m, err)
		}
	}
	return nil
}
