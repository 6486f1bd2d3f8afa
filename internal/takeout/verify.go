package takeout

import (
	"bytes"
	"errors"
	"fmt"
	"os"

	"github.com/zeebo/blake3"
	"golang.org/x/sys/unix"

	"twinshelf/internal/disk"
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

// Files are read back in lots: each lot is written to the medium first, and dropped from memory.
const (
	lotFiles = 4096
	lotBytes = 512 << 20
)

func (t *taker) remember(w written) error {
	if t.o.NoVerify {
		return nil
	}
	t.check = append(t.check, w)
	t.checkBytes += w.data.Total()
	if len(t.check) < lotFiles && t.checkBytes < lotBytes {
		return nil
	}
	return t.settle()
}

// settle makes what was written durable and reads it back.
func (t *taker) settle() error {
	if err := unix.Syncfs(int(t.root.Fd())); err != nil {
		return fmt.Errorf("what was written can't be made durable: %w", err)
	}
	for _, w := range t.check {
		if err := t.rc.Step(0); err != nil {
			return err
		}
		if err := t.readBack(w); err != nil {
			t.r.left(w.path, fmt.Errorf("it was written and reads back differently: %w", err))
			continue
		}
		t.r.Verified++
	}
	t.check, t.checkBytes = t.check[:0], 0
	return nil
}

func (t *taker) readBack(w written) error {
	fd, err := unix.Openat2(int(t.root.Fd()), w.name,
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
			b := t.buf[:sp.Len()]
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
