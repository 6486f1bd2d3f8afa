// Package mounts mounts parts read-only and unmounts them, by the kernel's own calls (mount(2), umount2(2), loop(4)).
// It needs root. Nothing here writes to a disk: ext volumes are mounted without replaying their journal. Only a drive
// that was made ready for a shelf is mounted writable, when that is asked for.
package mounts

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// Part is a part of a disk that is to be mounted.
type Part struct {
	Disk string // path of the device or image file
	Span span.Span
	Kind string // file system, as fsys names it
	// Drivers are those of the kernel that may mount it, the best first.
	Drivers []fsys.Driver
	Label   string
	Image   bool
}

// folderFor is where a part is mounted: in base, named by label or disk.
func folderFor(base string, p Part) (string, error) {
	name := strings.Map(func(r rune) rune {
		if r <= ' ' || r == '/' || r == 0x7F {
			return '-'
		}
		return r
	}, p.Label)
	if strings.Trim(name, ".-") == "" {
		name = filepath.Base(p.Disk)
	}
	if err := os.MkdirAll(base, 0o755); err != nil {
		return "", err
	}
	for i := range 100 {
		dir := filepath.Join(base, name)
		if i > 0 {
			dir = fmt.Sprintf("%s-%d", dir, i+1)
		}
		if err := os.Mkdir(dir, 0o755); !errors.Is(err, os.ErrExist) {
			return dir, err
		}
		if entries, err := os.ReadDir(dir); err == nil && len(entries) == 0 && !mountedAt(dir) {
			return dir, nil
		}
	}
	return "", fmt.Errorf("there are 100 folders named %s in %s already", name, base)
}

func mountedAt(dir string) bool {
	for _, m := range (disk.Host{}).Mounts() {
		if m.Point == dir {
			return true
		}
	}
	return false
}

// ReadOnly mounts a part read-only in a folder under base and returns the folder.
func ReadOnly(base string, p Part) (string, error) { return mount(base, p, false) }

// Writable mounts a part so that it can be written to; whether it may be is the caller's business.
func Writable(base string, p Part) (string, error) { return mount(base, p, true) }

// Shelf mounts a part that a shelf lies on, read-only until Thaw. What was cut off is put right by the kernel first,
// since it couldn't be made writable otherwise: nobody's system lies there.
func Shelf(base string, p Part) (string, error) {
	for i := range p.Drivers {
		p.Drivers[i].Quiet = ""
	}
	return mount(base, p, false)
}

// Thaw makes what Shelf mounted writable.
func Thaw(dir string) error {
	const flags = unix.MS_REMOUNT | unix.MS_NOSUID | unix.MS_NODEV | unix.MS_NOEXEC
	if err := unix.Mount("", dir, "", flags, ""); err != nil {
		return fmt.Errorf("%s can't be mounted writable: %w; the drive may be write-protected, or its file system "+
			"damaged", dir, err)
	}
	return nil
}

// PointOf is where a part of an attached drive is mounted; empty where it isn't.
func PointOf(p Part) string {
	node, err := partition(p)
	if err != nil {
		return ""
	}
	var st unix.Stat_t
	if unix.Stat(node, &st) != nil {
		return ""
	}
	number := fmt.Sprintf("%d:%d", unix.Major(st.Rdev), unix.Minor(st.Rdev))
	for _, m := range (disk.Host{}).Mounts() {
		if m.Device == number {
			return m.Point
		}
	}
	return ""
}

// Alone does something while no other program mounts below base.
func Alone(base string, do func() error) error {
	if err := os.MkdirAll(base, 0o755); err != nil {
		return err
	}
	f, err := os.Open(base)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX); err != nil {
		return fmt.Errorf("%s: %w", base, err)
	}
	return do()
}

// Briefly mounts a part that machines start from (FAT) so that do can write to it, and unmounts it again.
func Briefly(node string, do func(dir string) error) (err error) {
	dir, err := os.MkdirTemp("", "twinshelf-part-")
	if err != nil {
		return err
	}
	defer os.Remove(dir)
	const flags = unix.MS_NOSUID | unix.MS_NODEV | unix.MS_NOEXEC
	if err := unix.Mount(node, dir, "vfat", flags, ""); err != nil {
		return fmt.Errorf("%s can't be mounted: %w", node, err)
	}
	defer func() {
		unix.Sync()
		err = errors.Join(err, unix.Unmount(dir, 0))
	}()
	return do(dir)
}

// WriteSmall writes a small file onto a part that is mounted, and returns once the medium has it.
func WriteSmall(path string, b []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	_, err = f.Write(b)
	return errors.Join(err, f.Sync(), f.Close())
}

// LetGo takes away what is mounted in base from drives that are gone; what is still open there gives errors from then
// on.
func LetGo(base string) {
	for _, m := range (disk.Host{}).Mounts() {
		if filepath.Dir(m.Point) != filepath.Clean(base) || strings.HasPrefix(m.Device, "0:") {
			continue // not mounted here, or not from a drive
		}
		if _, err := os.Stat("/sys/dev/block/" + m.Device); !errors.Is(err, os.ErrNotExist) {
			continue
		}
		if unix.Unmount(m.Point, unix.MNT_DETACH) == nil {
			os.Remove(m.Point)
		}
	}
}

func mount(base string, p Part, writable bool) (string, error) {
	if os.Geteuid() != 0 {
		return "", errors.New("mounting needs root: start Twin Shelf as root, or mount it with your system's own tools")
	}
	if len(p.Drivers) == 0 {
		return "", fmt.Errorf("%s can't be mounted here: Twin Shelf mounts ext2/3/4, FAT, exFAT, NTFS and HFS+", p.Kind)
	}
	node, done, err := node(p, writable)
	if err != nil {
		return "", err
	}
	defer done()
	dir, err := folderFor(base, p)
	if err != nil {
		return "", fmt.Errorf("no folder to mount into: %w", err)
	}
	flags := uintptr(unix.MS_NOSUID | unix.MS_NODEV | unix.MS_NOEXEC)
	if !writable {
		flags |= unix.MS_RDONLY
	}
	for _, w := range p.Drivers {
		options := w.Options
		if !writable && w.Quiet != "" {
			options = strings.Trim(options+","+w.Quiet, ",")
		}
		if err = unix.Mount(node, dir, w.Name, flags, options); err == nil {
			return dir, nil
		}
	}
	os.Remove(dir)
	switch {
	case errors.Is(err, unix.ENODEV):
		return "", fmt.Errorf("this kernel has no driver for %s; \"modprobe %s\" may load it", p.Kind,
			p.Drivers[0].Name)
	case errors.Is(err, unix.EBUSY):
		return "", fmt.Errorf("%s is in use already: it is mounted or held by another program", node)
	}
	return "", fmt.Errorf("%s on %s can't be mounted: %w; the file system may be damaged, or wasn't shut down cleanly",
		p.Kind, node, err)
}

// Unmount unmounts what ReadOnly or the system mounted at dir; a folder under base is removed.
func Unmount(base, dir string) error {
	if os.Geteuid() != 0 {
		return errors.New("unmounting needs root: start Twin Shelf as root, or unmount it with your system's own tools")
	}
	switch err := unix.Unmount(dir, 0); {
	case errors.Is(err, unix.EBUSY):
		return fmt.Errorf("%s is in use: close the files and leave the folders that are open in it, then try "+
			"again", dir)
	case errors.Is(err, unix.EINVAL):
		return fmt.Errorf("nothing is mounted at %s", dir)
	case err != nil:
		return fmt.Errorf("%s can't be unmounted: %w", dir, err)
	}
	if filepath.Dir(dir) == filepath.Clean(base) {
		os.Remove(dir)
	}
	return nil
}

// node is the block device of a part: the kernel's own, or a loop device over the stretch
// of an image file. done lets go of it; a mounted one stays until it is unmounted.
func node(p Part, writable bool) (path string, done func(), err error) {
	if !p.Image {
		path, err = partition(p)
		return path, func() {}, err
	}
	mode, flags := os.O_RDONLY, uint32(unix.LO_FLAGS_READ_ONLY|unix.LO_FLAGS_AUTOCLEAR)
	if writable {
		mode, flags = os.O_RDWR, unix.LO_FLAGS_AUTOCLEAR
	}
	f, err := os.OpenFile(p.Disk, mode, 0)
	if err != nil {
		return "", nil, err
	}
	control, err := os.Open("/dev/loop-control")
	if err != nil {
		f.Close()
		return "", nil, fmt.Errorf("this system offers no loop devices: %w", err)
	}
	defer control.Close()
	for range 16 { // others may take the free one first
		n, err := unix.IoctlRetInt(int(control.Fd()), unix.LOOP_CTL_GET_FREE)
		if err != nil {
			break
		}
		path = fmt.Sprintf("/dev/loop%d", n)
		l, err := os.OpenFile(path, mode, 0)
		if err != nil {
			break
		}
		config := unix.LoopConfig{Fd: uint32(f.Fd()),
			Info: unix.LoopInfo64{Offset: uint64(p.Span.Start), Sizelimit: uint64(p.Span.Len()), Flags: flags}}
		copy(config.Info.File_name[:], p.Disk)
		if err = unix.IoctlLoopConfigure(int(l.Fd()), &config); err == nil {
			return path, func() { l.Close(); f.Close() }, nil
		}
		l.Close()
	}
	f.Close()
	return "", nil, errors.New("no loop device is free for the image file")
}

// partition is the kernel's device of a part; the disk itself for one that fills it.
func partition(p Part) (string, error) {
	real, err := filepath.EvalSymlinks(p.Disk)
	if err != nil {
		return "", err
	}
	name := filepath.Base(real)
	nodes := (disk.Host{}).Partitions(name)
	if p.Span.Start == 0 {
		return real, nil
	}
	for node, start := range nodes {
		if start == p.Span.Start {
			return "/dev/" + node, nil
		}
	}
	return "", fmt.Errorf("the kernel doesn't know the part at byte %d of %s: take the disk out and put it in "+
		"again, so that it reads the table", p.Span.Start, p.Disk)
}
