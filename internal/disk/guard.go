package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"

	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Refusal is a writing that was refused for safety. Nothing was written.
type Refusal struct {
	Disk   string // which disk, in words
	Reason string // why, in words
	Remedy string // what to do
}

func (r *Refusal) Error() string {
	return fmt.Sprintf("%s is not written: %s; %s", r.Disk, r.Reason, r.Remedy)
}

// Target is the disk a plan wants to write, as it was when the plan was made.
type Target struct {
	Path        string   `json:"path"`
	Identity    Identity `json:"identity"`
	Fingerprint string   `json:"fingerprint"`
}

// Guard is the one door through which a disk or an image file is opened for
// writing. It can't be told to look away.
type Guard struct {
	Host Host
	// Shelves are the folders of the shelves that are open now.
	Shelves []string
	// Sources are the paths that the present work reads from.
	Sources []string
	// Others are the paths of the other targets of the same work.
	Others []string
	// OutOfReach says whether the person put the disk out of reach.
	OutOfReach func(Identity) bool
}

// Check says, as a *Refusal, why the target must not be written now; nil when
// it may be.
func (g *Guard) Check(t Target) error {
	d, err := Open(t.Path, t.Identity)
	var none *NoDisk
	if errors.As(err, &none) {
		return g.refuse(t, "it is neither a disk nor an image file", "name a disk or a file")
	}
	if err != nil {
		return err
	}
	defer d.Close()
	return g.check(t, d)
}

// Open opens the target for writing after Check, held exclusively, and
// compares it with the plan once more through the handle that will write.
func (g *Guard) Open(t Target) (*WritableFile, error) {
	if err := g.Check(t); err != nil {
		return nil, err
	}
	flag := os.O_RDWR
	if isBlock(t.Path) {
		flag |= unix.O_EXCL // refuses while the disk or a partition of it is mounted or held
	}
	d, err := open(t.Path, t.Identity, flag)
	switch {
	case errors.Is(err, unix.EBUSY):
		return nil, g.refuse(t, "somebody else holds it", "unmount it and end the programs that use it")
	case errors.Is(err, unix.EROFS), errors.Is(err, unix.EACCES), errors.Is(err, fs.ErrPermission):
		return nil, g.refuse(t, "it is write-protected or you have no permission to write it",
			"check the write-protect switch, or run as root")
	case err != nil:
		return nil, err
	}
	if err := unix.Flock(d.fd(), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		d.Close()
		return nil, g.refuse(t, "another Twin Shelf or another program has locked it", "wait until that one is done")
	}
	if err := g.check(t, d); err != nil {
		d.Close()
		return nil, err
	}
	return &WritableFile{d}, nil
}

func (g *Guard) refuse(t Target, reason, remedy string) error {
	return &Refusal{Disk: Sticker(t.Identity) + " at " + t.Path, Reason: reason, Remedy: remedy}
}

// Sticker names a disk as its sticker does: model, size, serial.
func Sticker(id Identity) string {
	s := strings.TrimSpace(id.Model)
	if s == "" {
		s = "unnamed disk"
	}
	s += ", " + units.Bytes(id.Size)
	if id.Serial != "" {
		s += ", serial " + id.Serial
	}
	return s
}

func (g *Guard) check(t Target, d *File) error {
	if t.Fingerprint == "" {
		return g.refuse(t, "the plan doesn't say what was on it", "plan again")
	}
	if g.OutOfReach != nil && g.OutOfReach(t.Identity) {
		return g.refuse(t, "you put it out of reach", "put it back within reach on the Bench if this is really the "+
			"disk to write")
	}
	if err := g.checkUse(t, d); err != nil {
		return err
	}
	for _, s := range g.Sources {
		if g.Host.Overlap(s, t.Path) {
			return g.refuse(t, "it is also the disk that is read, or shares bytes with it ("+s+")",
				"choose another target")
		}
	}
	for _, o := range g.Others {
		if g.Host.Overlap(o, t.Path) {
			return g.refuse(t, "it shares bytes with the other target "+o, "choose another target")
		}
	}
	if d.Size() != t.Identity.Size {
		return g.refuse(t, fmt.Sprintf("it has %s now and had %s when the plan was made", units.Exact(d.Size()),
			units.Exact(t.Identity.Size)), "plan again")
	}
	print, err := Fingerprint(d)
	if err != nil {
		return fmt.Errorf("%s: %w", t.Path, err)
	}
	if print != t.Fingerprint {
		return g.refuse(t, "its contents changed since the plan was made",
			"look at it again on the Bench and plan again")
	}
	return nil
}

// checkUse resolves the target down to where its bytes lie, and compares that with everything that is in use.
func (g *Guard) checkUse(t Target, d *File) error {
	a := g.Host.atlas()
	grounds, n := a.groundsOf(t.Path, 0)
	if d.block && n != nil && n.parent != nil {
		return g.refuse(t, "it is a partition of "+n.parent.name, "name the whole disk")
	}
	if d.block && n != nil && readLine(filepath.Join(n.dir, "ro")) == "1" {
		return g.refuse(t, "it is write-protected", "check the write-protect switch")
	}
	mounts := g.Host.mounts()
	for _, s := range g.Shelves {
		if meet(grounds, a.under(s, mounts)) {
			return g.refuse(t, "it holds the open shelf "+s, "choose another target; the disk with the shelf is "+
				"never written")
		}
		if !d.block && inFolder(t.Path, s) {
			return g.refuse(t, "it lies inside the open shelf "+s, "choose a file outside the shelf")
		}
	}
	uses := a.uses(n, grounds)
	for _, u := range uses {
		if u.System {
			return g.refuse(t, "this system runs from it ("+u.What+")", "choose another target")
		}
	}
	if len(uses) > 0 {
		return g.refuse(t, "it is in use ("+uses[0].What+")", "unmount it or end that use, then plan again")
	}
	if why := a.writers(n, grounds); why != "" {
		return g.refuse(t, why, "end that program, then plan again")
	}
	if len(grounds) == 0 {
		return g.refuse(t, "where its bytes lie can't be told, so whether it is in use can't be told either",
			"look whether /sys is mounted and shows it")
	}
	if len(mounts) == 0 {
		return g.refuse(t, "what is mounted can't be told", "look whether /proc is mounted and can be read")
	}
	return nil
}

func isBlock(path string) bool {
	st, err := os.Stat(path)
	return err == nil && st.Mode()&os.ModeDevice != 0 && st.Mode()&os.ModeCharDevice == 0
}

// WritableFile is a disk or image file that passed the guard.
type WritableFile struct{ *File }

// WriteAt writes to the disk; it can't write beyond the end.
func (w *WritableFile) WriteAt(p []byte, off int64) (int, error) {
	if off < 0 || off+int64(len(p)) > w.size {
		return 0, fmt.Errorf("%s: write of %d bytes at byte %d would go beyond its end at %d", w.Path(), len(p),
			off, w.size)
	}
	at := w.at.Load()
	at.faults.slowed(span.At(off, int64(len(p))))
	n, err := at.faults.wrapped(at.f.WriteAt, p, off)
	if err != nil {
		err = fmt.Errorf("%s: write at byte %d: %w", w.Path(), off+int64(n), rootOf(err))
	}
	return n, err
}

// Apart says that no two places of it are one: so it is in an image file, unless that stands for a drive which begins
// again at its start before its size is reached.
func (w *WritableFile) Apart() bool {
	f := w.at.Load().faults
	return !w.block && (f == nil || f.Wraps == 0)
}

// Reread has the kernel read the disk's table again, and says when it doesn't show the parts that begin at
// the given bytes: it may take the order and not know this kind of table. nil for image files.
func (w *WritableFile) Reread(starts []int64) error {
	if !w.block {
		return nil
	}
	if err := unix.IoctlSetInt(w.fd(), unix.BLKRRPART, 0); err != nil {
		return err
	}
	real, err := filepath.EvalSymlinks(w.Path())
	if err != nil {
		return err
	}
	shown := slices.Collect(maps.Values(Host{}.Partitions(filepath.Base(real))))
	for _, at := range starts {
		if !slices.Contains(shown, at) {
			return fmt.Errorf("it read the table again and doesn't know the part at byte %d", at)
		}
	}
	return nil
}

// Discard tells the disk that nobody needs a stretch any more: BLKDISCARD on a
// block device, a hole in an image file. What the stretch reads as afterwards is
// the device's own affair.
func (w *WritableFile) Discard(sp span.Span) error {
	var err error
	if w.block {
		err = blockRange(w.fd(), unix.BLKDISCARD, sp)
	} else {
		err = unix.Fallocate(w.fd(), unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, sp.Start, sp.Len())
	}
	if err != nil {
		return fmt.Errorf("%s: discard of %s: %w", w.Path(), sp, err)
	}
	return nil
}

// blockRange calls an ioctl that takes a byte offset and a length.
func blockRange(fd int, request uint, sp span.Span) error {
	arg := [2]uint64{uint64(sp.Start), uint64(sp.Len())}
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), uintptr(request),
		uintptr(unsafe.Pointer(&arg))); errno != 0 {
		return errno
	}
	return nil
}
