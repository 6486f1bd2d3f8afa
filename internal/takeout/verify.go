package takeout

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"sync"
	"sync/atomic"

	"github.com/zeebo/blake3"
	"golang.org/x/sys/unix"

	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
)

// written is a file that was written and not yet read back.
type written struct {
	name string // below the destination
	path string // in its part
	data span.Set
	size int64
	sum  []byte
}

// Files are read back in lots: each lot is written to the medium first, and dropped from memory. While one is read
// back the next one is written.
const (
	lotFiles = 1024
	lotBytes = 64 << 20
)

// lot is files that are read back together, several at the same time: of small ones the medium takes as long to find
// each as to read it.
type lot struct {
	files []written
	bytes int64
	done  chan struct{} // closed when the rest is known
	errs  []error       // by file
	err   error         // why not all could be read back
}

func (t *taker) remember(w written) error {
	if t.o.NoVerify {
		return nil
	}
	t.now.files = append(t.now.files, w)
	t.now.bytes += w.data.Total()
	if len(t.now.files) < lotFiles && t.now.bytes < lotBytes {
		return nil
	}
	return t.settle()
}

// settle has what was written last made durable and read back, once that is done for what was written before.
func (t *taker) settle() error {
	if err := t.finish(); err != nil {
		return err
	}
	l := &t.now
	t.before, t.now = &lot{files: l.files, errs: make([]error, len(l.files)), done: make(chan struct{})}, lot{}
	go t.before.readBack(t.rc, t.root)
	return nil
}

// finish waits for what is being read back, and reports it.
func (t *taker) finish() error {
	l := t.before
	if l == nil {
		return nil
	}
	<-l.done
	t.before = nil
	if l.err != nil {
		return l.err
	}
	for i, w := range l.files {
		if err := l.errs[i]; err != nil {
			t.r.left(w.path, fmt.Errorf("it was written and reads back differently: %w", err))
			continue
		}
		t.r.Verified++
	}
	return nil
}

func (l *lot) readBack(rc *run.Context, root *os.File) {
	defer close(l.done)
	if err := unix.Syncfs(int(root.Fd())); err != nil {
		l.err = fmt.Errorf("what was written can't be made durable: %w", err)
		return
	}
	var next atomic.Int64
	var all sync.WaitGroup
	for range readers {
		all.Go(func() {
			buf := make([]byte, chunk)
			for rc.Step(0) == nil {
				i := int(next.Add(1)) - 1
				if i >= len(l.files) {
					return
				}
				l.errs[i] = l.files[i].equal(root, buf)
			}
		})
	}
	all.Wait()
	l.err = rc.Err()
}

// equal reads a file back.
func (w *written) equal(root *os.File, buf []byte) error {
	fd, err := unix.Openat2(int(root.Fd()), w.name,
		&unix.OpenHow{Flags: unix.O_RDONLY | unix.O_NOFOLLOW | unix.O_CLOEXEC,
			Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS})
	if err != nil {
		return err
	}
	f := os.NewFile(uintptr(fd), w.name)
	defer f.Close()
	_ = unix.Fadvise(fd, 0, 0, unix.FADV_DONTNEED)
	if st, err := f.Stat(); err != nil || st.Size() != w.size {
		return errors.Join(err, fmt.Errorf("it doesn't have %d bytes", w.size))
	}
	h := blake3.New()
	for data := range w.data.All() {
		for sp := range disk.Chunks(data, chunk) {
			b := buf[:sp.Len()]
			if err := disk.ReadFull(f, b, sp.Start); err != nil {
				return err
			}
			h.Write(b)
		}
	}
	if !bytes.Equal(h.Sum(nil), w.sum) {
		return errors.New("its contents differ")
	}
	return nil
}
