package disk

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/sys/unix"
)

// Attendant looks after a drive while it is read: it lets a hot one rest, and waits for one that vanished.
type Attendant interface {
	// Before is called before each read and may wait; the read ends with its error.
	Before() error
	// Vanished is called when the drive is gone, and waits until it is there again, maybe elsewhere; the read goes on
	// there. Its error says that nobody waits any more.
	Vanished(cause error) (*File, error)
}

// attended is who looks after a drive. Others may read it meanwhile.
type attended struct {
	by    atomic.Pointer[attendance] // nil for nobody
	waits atomic.Int32               // readers that an attendant has wait
}

type attendance struct {
	Attendant
	// mu has one of several readers call for a drive that is gone.
	mu   sync.Mutex
	left error // nobody waits any more, because of this
}

// AttendBy has the drive looked after from now on; nil ends it.
func (d *File) AttendBy(a Attendant) {
	if a == nil {
		d.attended.by.Store(nil)
		return
	}
	d.attended.by.Store(&attendance{Attendant: a})
}

// attendedRead reads, and where the drive vanishes reads again once it is back.
func (d *File) attendedRead(p []byte, off int64, lent bool) (int, error) {
	for {
		a := d.attended.by.Load()
		if a == nil {
			return d.patientRead(p, off, lent)
		}
		d.attended.waits.Add(1)
		err := a.Before()
		d.attended.waits.Add(-1)
		if err != nil {
			return 0, err
		}
		from := d.at.Load()
		n, err := d.patientRead(p, off, lent)
		if !Gone(err) {
			return n, err
		}
		if err := d.comeBack(a, from, err); err != nil {
			return n, err
		}
	}
}

func (d *File) patientRead(p []byte, off int64, lent bool) (int, error) {
	if d.patience.limit > 0 {
		return d.limited(p, off, lent)
	}
	return d.readAt(p, off)
}

// comeBack takes the seat that the drive has when it is there again. Readers that come later find it taken.
func (d *File) comeBack(a *attendance, from *seat, cause error) error {
	d.attended.waits.Add(1)
	defer d.attended.waits.Add(-1)
	a.mu.Lock()
	defer a.mu.Unlock()
	if d.at.Load() != from {
		return nil
	}
	if a.left != nil {
		return a.left
	}
	back, err := a.Vanished(cause)
	if err != nil {
		a.left = err
		return err
	}
	if back.size != d.size {
		_ = back.Close()
		a.left = fmt.Errorf("%s came back with another size (%d bytes, not %d): %w", back.Path(), back.size, d.size,
			cause)
		return a.left
	}
	d.at.Store(back.at.Load()) // this File owns it now
	_ = from.f.Close()
	return nil
}

// lost says whether a block device isn't there any more although it is open. Reads of one that was pulled out end as
// if its medium were bad, or as if it ended there (Documentation/ABI/stable/sysfs-block, sysfs-bus-scsi: state).
func (s *seat) lost(sys string) bool {
	fd := int(s.f.Fd())
	if size, err := unix.IoctlGetInt(fd, unix.BLKGETSIZE64); err != nil || size == 0 {
		return true
	}
	var st unix.Stat_t
	if unix.Fstat(fd, &st) != nil {
		return false
	}
	return numberLost(sys, unix.Major(st.Rdev), unix.Minor(st.Rdev))
}

// numberLost says whether the kernel has given up the device with a number, or knows none with it.
func numberLost(sys string, major, minor uint32) bool {
	if _, err := os.Stat(filepath.Join(sys, "dev/block")); err != nil {
		return false // nothing can be told
	}
	dir := filepath.Join(sys, "dev/block", fmt.Sprintf("%d:%d", major, minor))
	if _, err := os.Stat(dir); os.IsNotExist(err) {
		return true
	}
	state, _ := os.ReadFile(filepath.Join(dir, "device/state"))
	switch strings.TrimSpace(string(state)) {
	case "offline", "transport-offline", "deleted", "cancel", "dead":
		return true
	}
	return false
}
