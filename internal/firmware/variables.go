package firmware

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// Variables are the firmware's, as files in a folder.
type Variables struct{ Dir string }

// Usual is where the kernel has them.
const Usual = "/sys/firmware/efi/efivars"

const (
	// global is the vendor of the specification's own variables (section 3.3).
	global = "-8be4df61-93ca-11d2-aa0d-00e098032b8c"
	// kept is what a variable has that stays and can be read at any time (section 8.2: non-volatile, boot service and
	// runtime access).
	kept = 7
	// mostVariable bounds what is read of one, in bytes; mostEntries how many entries are read.
	mostVariable, mostEntries = 64 << 10, 1024
)

// ErrNone means that there is no firmware here that keeps such variables.
var ErrNone = errors.New("this machine wasn't started by UEFI firmware, or its variables can't be reached: only such " +
	"firmware keeps start entries")

func (v Variables) path(name string) string { return filepath.Join(v.Dir, name+global) }

// get reads a variable; fs.ErrNotExist where there is none.
func (v Variables) get(name string) ([]byte, error) {
	f, err := os.Open(v.path(name))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, mostVariable+1))
	switch {
	case err != nil:
		return nil, fmt.Errorf("the firmware's %s can't be read: %w", name, err)
	case len(b) < 4 || len(b) > mostVariable:
		return nil, fmt.Errorf("the firmware's %s has %d bytes, which can't be", name, len(b))
	}
	return b[4:], nil // its attributes come first
}

// set writes a variable in one piece, as the firmware wants it, and reads it back.
func (v Variables) set(name string, b []byte) error {
	path := v.path(name)
	if err := v.soften(path); err != nil {
		return err
	}
	whole := append(binary.LittleEndian.AppendUint32(nil, kept), b...)
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
	if err == nil {
		_, err = f.Write(whole)
		err = errors.Join(err, f.Close())
	}
	if err != nil {
		return fmt.Errorf("the firmware doesn't take %s: %w", name, err)
	}
	now, err := v.get(name)
	if err == nil && string(now) != string(b) {
		err = errors.New("it reads otherwise")
	}
	if err != nil {
		return fmt.Errorf("the firmware took %s and doesn't have it now: %w", name, err)
	}
	return nil
}

// remove takes a variable away.
func (v Variables) remove(name string) error {
	path := v.path(name)
	if err := v.soften(path); err != nil {
		return err
	}
	if err := os.Remove(path); err != nil {
		return fmt.Errorf("the firmware doesn't give up %s: %w", name, err)
	}
	return nil
}

// soften takes the mark off by which the kernel keeps variables from being removed by accident.
func (v Variables) soften(path string) error {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	flags, err := unix.IoctlGetInt(int(f.Fd()), unix.FS_IOC_GETFLAGS)
	if err != nil || flags&unix.STATX_ATTR_IMMUTABLE == 0 {
		return nil //nolint:nilerr // a file system without such marks
	}
	flags &^= unix.STATX_ATTR_IMMUTABLE // the same bit as FS_IMMUTABLE_FL
	if err := unix.IoctlSetPointerInt(int(f.Fd()), unix.FS_IOC_SETFLAGS, flags); err != nil {
		return fmt.Errorf("%s can't be changed: %w", path, err)
	}
	return nil
}

// names are the variables that begin so, without their vendor.
func (v Variables) names(begin string) ([]string, error) {
	entries, err := os.ReadDir(v.Dir)
	if err != nil {
		return nil, fmt.Errorf("%w (%w)", ErrNone, err)
	}
	var out []string
	for _, e := range entries {
		if n, ok := strings.CutSuffix(e.Name(), global); ok && strings.HasPrefix(n, begin) && len(out) < mostEntries {
			out = append(out, n)
		}
	}
	return out, nil
}
