package near

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/cespare/xxhash/v2"

	"twinshelf/internal/store/backend"
)

// A copy is a file of the same name: the object's bytes, what it was, and at the end the length of that (2 bytes), an
// XXH64 of all before it (8) and a mark (8). Numbers are little-endian.
const (
	copyMark = "TSNEAR01"
	tailLen  = 2 + 8 + 8
	mostWas  = 4096 // bytes of what it was
)

// copies are the copies of one shelf in a folder, which processes share.
type copies struct {
	dir  string
	most int64 // bytes together

	mu    sync.Mutex
	total int64 // bytes, as far as is known; 0 before they were counted
	count bool
}

// was says in a line which object a copy is of.
func was(e backend.Entry) string {
	return fmt.Sprintf("%d %d %s", e.Size, e.Changed.UnixNano(), e.Tag)
}

// open opens a copy that is whole and of that object.
func (c *copies) open(name, was string) (*os.File, int64, error) {
	at := filepath.Join(c.dir, filepath.FromSlash(name))
	f, err := os.Open(at)
	if err != nil {
		return nil, 0, err
	}
	size, err := verify(f, was)
	if err != nil {
		_ = os.Remove(at)
		return nil, 0, errors.Join(err, f.Close())
	}
	now := time.Now()
	_ = os.Chtimes(at, now, now) // those that were used last are kept longest
	return f, size, nil
}

// errNotThat means that a copy is of another object, or isn't whole.
var errNotThat = errors.New("the copy isn't that of the object")

// verify reads a copy through, and gives the size of the object.
func verify(f *os.File, was string) (int64, error) {
	st, err := f.Stat()
	if err != nil {
		return 0, err
	}
	if st.Size() < tailLen {
		return 0, errNotThat
	}
	var tail [tailLen]byte
	if _, err := f.ReadAt(tail[:], st.Size()-tailLen); err != nil {
		return 0, err
	}
	n := int64(binary.LittleEndian.Uint16(tail[:]))
	size := st.Size() - tailLen - n
	if string(tail[10:]) != copyMark || n > mostWas || size < 0 {
		return 0, errNotThat
	}
	said := make([]byte, n)
	if _, err := f.ReadAt(said, size); err != nil {
		return 0, err
	}
	h := xxhash.New()
	if _, err := io.Copy(h, io.NewSectionReader(f, 0, size+n+2)); err != nil {
		return 0, err
	}
	if string(said) != was || h.Sum64() != binary.LittleEndian.Uint64(tail[2:]) {
		return 0, errNotThat
	}
	return size, nil
}

// put keeps a copy. Where it can't be kept, nothing is lost.
func (c *copies) put(name, was string, content io.Reader, size int64) error {
	if len(was) > mostWas || !c.room(size) {
		return errors.ErrUnsupported
	}
	at := filepath.Join(c.dir, filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(at), "part-*")
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(f, 1<<16)
	err = write(w, was, content, size)
	if err = errors.Join(err, w.Flush(), f.Close()); err == nil {
		err = os.Rename(f.Name(), at) // not synced: one that a loss of power hurt is fetched again
	}
	if err != nil {
		_ = os.Remove(f.Name())
	}
	return err
}

// write writes a copy.
func write(w io.Writer, was string, content io.Reader, size int64) error {
	h := xxhash.New()
	both := io.MultiWriter(w, h)
	n, err := io.Copy(both, content)
	if err == nil && n != size {
		err = io.ErrUnexpectedEOF
	}
	if err != nil {
		return err
	}
	tail := append([]byte(was), 0, 0)
	binary.LittleEndian.PutUint16(tail[len(was):], uint16(len(was)))
	if _, err := both.Write(tail); err != nil {
		return err
	}
	_, err = w.Write(append(binary.LittleEndian.AppendUint64(nil, h.Sum64()), copyMark...))
	return err
}

// putBytes is put of what is in memory.
func (c *copies) putBytes(name, was string, content []byte) {
	_ = c.put(name, was, bytes.NewReader(content), int64(len(content)))
}

// room says whether there may be so much more, and makes room by those that were used longest ago.
func (c *copies) room(more int64) bool {
	if more > c.most/4 {
		return false
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.count {
		c.total, c.count = c.clean(c.most), true
	}
	if c.total += more; c.total > c.most {
		c.total = c.clean(c.most/2) + more
	}
	return true
}

// oldCopy is a copy that may go.
type oldCopy struct {
	path string
	size int64
	used time.Time
}

// clean removes copies until they take at most so much, and gives how much they take.
func (c *copies) clean(most int64) (total int64) {
	var all []oldCopy
	_ = filepath.WalkDir(c.dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return nil
		}
		if st, err := e.Info(); err == nil {
			all = append(all, oldCopy{path, st.Size(), st.ModTime()})
			total += st.Size()
		}
		return nil
	})
	slices.SortFunc(all, func(a, b oldCopy) int {
		return cmp.Or(a.used.Compare(b.used), strings.Compare(a.path, b.path))
	})
	for _, o := range all {
		if total <= most {
			break
		}
		if os.Remove(o.path) == nil {
			total -= o.size
		}
	}
	return total
}
