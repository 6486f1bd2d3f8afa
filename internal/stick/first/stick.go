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
	// load loads modules that mounts need; nil where none can be loaded.
	load func(names ...string) error
	// rest loads what all other hardware asks for, on which the stick may be after all; nil where nothing can be
	// loaded.
	rest     func()
	system   string // the part that the system is on, in /dev; empty where it isn't known
	state    string // the folder for records
	keyboard string // the layout that was chosen
}

// Where records are kept that are lost when the machine is switched off, and how long the stick is waited for: drives
// on USB turn up late.
const (
	fleeting  = "/run/twinshelf/state"
	waitStick = 6 * time.Second
	waitPlain = 2 * time.Second // for one on what is driven first
	lookAgain = 100 * time.Millisecond
)

// find waits for the stick, and mounts its data part for the records. Without one they are kept in memory.
func (s *stick) find(ctx context.Context, class string) error {
	s.state = fleeting
	var system, data []string
	begun, rest := time.Now(), s.rest
	for until := begun.Add(waitStick); ; {
		if system, data = stickParts(class); len(system) > 0 || time.Now().After(until) || ctx.Err() != nil {
			break
		}
		if rest != nil && time.Since(begun) > waitPlain {
			rest()
			rest = nil
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
		s.ready(fatModules)
		s.keyboard = keyboardOn(s.system)
		return nil
	}
	if err := s.mountData("/dev/"+data[0], ramdisk.Records); err != nil {
		return fmt.Errorf("the stick's data part can't be mounted (%w): records are lost when the machine is switched "+
			"off", err)
	}
	s.state = ramdisk.Records
	return nil
}

// home is the home of who works at the machine: on the stick's data part where there is one.
func (s *stick) home() string {
	const fleetingHome = "/root"
	if s.state != ramdisk.Records {
		return fleetingHome
	}
	if err := os.MkdirAll(filepath.Join(ramdisk.Home, ".ssh"), 0o700); err != nil {
		return fleetingHome
	}
	return ramdisk.Home
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

// fatModules are what mounts of FAT need.
var fatModules = []string{"vfat", "nls_cp437", "nls_iso8859_1"}

// dataKinds are the file systems that data parts may have, with the mark that each bears at a byte of it, the kernel's
// options for them, and their modules.
var dataKinds = []struct {
	kind    string
	at      int64
	mark    string
	options string
	modules []string
}{{"exfat", 3, "EXFAT   ", "umask=0077", []string{"exfat"}}, {"ext4", 0x438, "\x53\xEF", "", []string{"ext4"}},
	{"vfat", 510, "\x55\xAA", "umask=0077", fatModules}}

// ready loads modules. What isn't loaded the kernel asks for by itself.
func (s *stick) ready(modules []string) {
	if s.load != nil {
		_ = s.load(modules...)
	}
}

// mountData mounts a data part as what it bears the mark of.
func (s *stick) mountData(node, at string) (err error) {
	if err := os.MkdirAll(at, 0o700); err != nil {
		return err
	}
	const flags, head = unix.MS_NOSUID | unix.MS_NODEV | unix.MS_NOEXEC, 4096
	begin := make([]byte, head)
	f, err := os.Open(node)
	if err != nil {
		return err
	}
	_, err = f.ReadAt(begin, 0)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	err = errors.New("its file system isn't known")
	for _, k := range dataKinds {
		if string(begin[k.at:k.at+int64(len(k.mark))]) != k.mark {
			continue
		}
		s.ready(k.modules)
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
