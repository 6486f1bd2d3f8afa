package routine

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"twinshelf/internal/durable"
)

const (
	// workFile is shared by all who work on disks.
	workFile = "work.lock"
	// disksFolder has a lock for each disk that a routine uses now. No routine has a name that begins so.
	disksFolder = ".disks"
)

// Working says, until it is closed, that somebody works on disks here. Where there are no routines nobody asks.
func (b *Book) Working() io.Closer {
	lock, err := durable.Share(filepath.Join(b.dir, workFile))
	if err != nil {
		return io.NopCloser(nil)
	}
	return lock
}

// Idle says whether nobody works on disks now.
func (b *Book) Idle() bool {
	lock, err := durable.Lock(filepath.Join(b.dir, workFile), false)
	if err != nil {
		return !errors.Is(err, unix.EWOULDBLOCK)
	}
	return lock.Close() == nil
}

// DiskBusyError means that another routine uses a disk now.
type DiskBusyError struct{ Disk Disk }

func (e *DiskBusyError) Error() string {
	return fmt.Sprintf("another routine uses %s now", e.Disk)
}

// locks are closed together.
type locks []io.Closer

func (l locks) Close() (err error) {
	for _, x := range l {
		err = errors.Join(err, x.Close())
	}
	return err
}

// LockDisks keeps other routines from using the disks and spares of one; a DiskBusyError says which one does. It ends
// with the process.
func (b *Book) LockDisks(r *Routine) (io.Closer, error) {
	dir := filepath.Join(b.dir, disksFolder)
	if err := os.Mkdir(dir, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, fmt.Errorf("the disks of %s can't be locked: %w", r.Name, err)
	}
	var all locks
	for _, disks := range [][]Disk{r.Disks, r.Spares} {
		for _, d := range disks {
			lock, err := durable.Lock(filepath.Join(dir, sum(d.String())), false)
			if errors.Is(err, unix.EWOULDBLOCK) {
				err = &DiskBusyError{d}
			}
			if err != nil {
				return nil, errors.Join(err, all.Close())
			}
			all = append(all, lock)
		}
	}
	return all, nil
}
