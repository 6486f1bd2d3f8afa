package first

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"twinshelf/internal/mounts"
	"twinshelf/internal/stick/ramdisk"
)

// stick is the one that the machine was started from, as far as it is known.
type stick struct {
	system   string // the part that the system is on, in /dev; empty where it isn't known
	state    string // the folder for records
	keyboard string // the layout that was chosen
}

// Where records are kept that are lost when the machine is switched off, and how long the stick is waited for: drives
// on USB turn up late.
const (
	fleeting  = "/run/twinshelf/state"
	waitStick = 6 * time.Second
	lookAgain = 100 * time.Millisecond
)

// find waits for the stick, and mounts its data part for the records. Without one they are kept in memory.
func (s *stick) find(ctx context.Context, class string) error {
	s.state = fleeting
	var system, data []string
	for until := time.Now().Add(waitStick); ; {
		if system, data = stickParts(class); len(system) > 0 || time.Now().After(until) || ctx.Err() != nil {
			break
		}
		time.Sleep(lookAgain)
	}
	switch {
	case len(system) == 0:
		return nil // the machine was started in another way, or the stick was pulled out
	case len(system) > 1:
		return errors.New("several starting sticks are attached, and which one this machine was started from " +
			"can't be told: records are lost when it is switched off")
	}
	s.system = "/dev/" + system[0]
	data = slices.DeleteFunc(data, func(d string) bool { return driveOf(class, d) != driveOf(class, system[0]) })
	if len(data) == 0 {
		s.keyboard = keyboardOn(s.system)
		return nil
	}
	if err := mountData("/dev/"+data[0], ramdisk.Records); err != nil {
		return fmt.Errorf("the stick's data part can't be mounted (%w): records are lost when the machine is switched "+
			"off", err)
	}
	s.state = ramdisk.Records
	return nil
}

// driveOf is the folder of the drive that a part is on.
func driveOf(class, part string) string {
	real, err := filepath.EvalSymlinks(filepath.Join(class, part))
	if err != nil {
		return ""
	}
	return filepath.Dir(real)
}

// stickParts are the parts that bear the names of a stick's (kernel documentation, uevent: PARTNAME).
func stickParts(class string) (system, data []string) {
	entries, _ := os.ReadDir(class)
	for _, e := range entries {
		b, _ := os.ReadFile(filepath.Join(class, e.Name(), "uevent"))
		for line := range strings.Lines(string(b)) {
			name, _ := strings.CutPrefix(strings.TrimSpace(line), "PARTNAME=")
			switch name {
			case ramdisk.SystemName:
				system = append(system, e.Name())
			case ramdisk.DataName:
				data = append(data, e.Name())
			}
		}
	}
	return system, data
}

// dataKinds are the file systems that data parts may have, with the kernel's options for them.
var dataKinds = []struct{ kind, options string }{{"exfat", "umask=0077"}, {"ext4", ""}, {"vfat", "umask=0077"}}

func mountData(node, at string) (err error) {
	if err := os.MkdirAll(at, 0o700); err != nil {
		return err
	}
	const flags = unix.MS_NOSUID | unix.MS_NODEV | unix.MS_NOEXEC
	for _, k := range dataKinds {
		if err = unix.Mount(node, at, k.kind, flags, k.options); err == nil {
			return nil
		}
	}
	return err
}

// mostLayout bounds the name of a layout, in bytes.
const mostLayout = 64

// keyboardOn is the layout that was remembered beside the system.
func keyboardOn(part string) (layout string) {
	_ = mounts.Briefly(part, func(dir string) error {
		b, err := os.ReadFile(filepath.Join(dir, ramdisk.KeyboardFile))
		if err == nil && len(b) <= mostLayout {
			layout = strings.TrimSpace(string(b))
		}
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	})
	return layout
}
