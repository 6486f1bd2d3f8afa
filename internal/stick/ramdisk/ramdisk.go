// Package ramdisk makes the first file system of a started machine: Twin Shelf as its first process, with the modules
// and the firmware of a base. It is a cpio archive in the kernel's newc form (Documentation/driver-api/early-userspace/
// buffer-format.rst), packed by zstd.
package ramdisk

import (
	"bytes"
	"context"
	"debug/elf"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strings"

	"github.com/cavaliergopher/cpio"
	"github.com/klauspost/compress/zstd"

	"twinshelf/internal/stick/base"
	"twinshelf/internal/stick/keys"
)

// Where things stand in the started system.
const (
	Program  = "init" // the first process, and all others
	Modprobe = "sbin/modprobe"
	Manifest = "base.json"
	// Notice is the variable in which the first process says what went wrong while the machine started.
	Notice = "TWINSHELF_NOTICE"
	// Console is the variable with the console that a program is on; Display is the one on the machine's own screen.
	Console, Display = "TWINSHELF_CONSOLE", "/dev/tty1"
	// Records is where the stick's data part is mounted, on which records, logs and papers are kept.
	Records = "/run/twinshelf/stick"
	// Home is the home of who works there, where the stick has a data part: keys for servers are looked for in its
	// folder .ssh, and those of servers kept.
	Home = Records + "/twinshelf/home"
	// SystemPart is the variable with the stick's part that the system is on, KeyboardFile the file on it in which the
	// layout of the keyboard is remembered where there is no data part, and Keyboard the variable with that layout.
	SystemPart, KeyboardFile, Keyboard = "TWINSHELF_SYSTEM_PART", "KEYBOARD.TXT", "TWINSHELF_KEYBOARD"
	// News is the file with what went wrong since the full screen was opened.
	News = "/run/twinshelf/news"
	// End is the file in which the full screen says what the machine is to do when it is left: off or restart.
	End = "/run/twinshelf/end"
	// SystemName and DataName are the parts' names in the table, by which a stick is known again.
	SystemName, DataName = "Twin Shelf start", "Twin Shelf data"
)

// Started says whether this system was started from such a file system.
func Started() bool {
	st, err := os.Stat("/" + Manifest)
	return err == nil && st.Mode().IsRegular()
}

// mostProgram bounds the program, in bytes.
const mostProgram = 256 << 20

// ErrProgram means that a program can't be the first process of a machine.
var ErrProgram = errors.New("this program can't start a machine by itself")

// CheckProgram refuses a program that isn't one for the machine, or needs libraries.
func CheckProgram(b []byte) error {
	e, err := elf.NewFile(bytes.NewReader(b))
	if err != nil {
		return fmt.Errorf("%w: it is no Linux program (%w)", ErrProgram, err)
	}
	if e.Machine != elf.EM_X86_64 || e.Type != elf.ET_EXEC && e.Type != elf.ET_DYN {
		return fmt.Errorf("%w: it is for %v, and sticks are for 64-bit PCs", ErrProgram, e.Machine)
	}
	for _, p := range e.Progs {
		if p.Type == elf.PT_INTERP {
			return fmt.Errorf("%w: it needs libraries; build it with CGO_ENABLED=0", ErrProgram)
		}
	}
	return nil
}

// Kept are the pieces of a base that the started system has.
func Kept(name string) bool {
	for _, dir := range []string{"lib/modules/", "lib/firmware/", base.FontsDir, keys.Dir} {
		if strings.HasPrefix(name, dir) {
			return true
		}
	}
	return false
}

// Building is a first file system that is being written.
type Building struct {
	z    *zstd.Encoder
	c    *cpio.Writer
	dirs map[string]bool
	m    *base.Manifest
}

// Begin begins a first file system with the program, which is checked, and the manifest of a base.
func Begin(w io.Writer, program []byte, m *base.Manifest) (*Building, error) {
	if len(program) > mostProgram {
		return nil, fmt.Errorf("%w: it has %d bytes", ErrProgram, len(program))
	}
	if err := CheckProgram(program); err != nil {
		return nil, err
	}
	z, err := zstd.NewWriter(w, zstd.WithEncoderLevel(zstd.SpeedBetterCompression), zstd.WithWindowSize(8<<20))
	if err != nil {
		return nil, err
	}
	b := &Building{z: z, c: cpio.NewWriter(z), dirs: map[string]bool{}, m: m}
	list, err := json.Marshal(m)
	if err == nil {
		err = b.file(Program, 0o755, int64(len(program)), bytes.NewReader(program))
	}
	if err == nil {
		err = b.file(Manifest, 0o644, int64(len(list)), bytes.NewReader(list))
	}
	if err == nil {
		err = b.link(Modprobe, "/"+Program)
	}
	for _, d := range []string{"dev", "proc", "sys", "run", "tmp", "mnt", "root", "etc"} {
		if err == nil {
			err = b.dir(d)
		}
	}
	return b, err
}

// Add adds a piece that is kept.
func (b *Building) Add(p base.Piece, r io.Reader) error { return b.file(p.Name, 0o644, p.Size, r) }

// End ends the archive.
func (b *Building) End() error { return errors.Join(b.c.Close(), b.z.Close()) }

func (b *Building) header(name string, mode cpio.FileMode, size int64) *cpio.Header {
	return &cpio.Header{Name: name, Mode: mode, Size: size, ModTime: b.m.Made, Links: 1}
}

func (b *Building) dir(name string) error {
	if name == "." || b.dirs[name] {
		return nil
	}
	if err := b.dir(path.Dir(name)); err != nil {
		return err
	}
	b.dirs[name] = true
	h := b.header(name, cpio.TypeDir|0o755, 0)
	h.Links = 2
	return b.c.WriteHeader(h)
}

func (b *Building) file(name string, mode cpio.FileMode, size int64, r io.Reader) error {
	if err := b.dir(path.Dir(name)); err != nil {
		return err
	}
	if err := b.c.WriteHeader(b.header(name, cpio.TypeReg|mode, size)); err != nil {
		return err
	}
	if _, err := io.CopyN(b.c, r, size); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}

func (b *Building) link(name, to string) error {
	if err := b.dir(path.Dir(name)); err != nil {
		return err
	}
	if err := b.c.WriteHeader(b.header(name, cpio.TypeSymlink|0o777, int64(len(to)))); err != nil {
		return err
	}
	_, err := io.WriteString(b.c, to)
	return err
}

// Files are the kernel and the first file system that start a machine in whatever way.
type Files struct {
	Manifest *base.Manifest
	Kernel   []byte
}

// Make writes the first file system made from a base onto w, and gives the kernel. Nothing of either is to be used
// when it fails. others, if any, is called with the pieces that go into neither.
func Make(ctx context.Context, w io.Writer, from io.Reader, program []byte,
	others func(base.Piece, io.Reader) error) (*Files, error) {
	var f Files
	var b *Building
	err := base.Read(ctx, from, func(m *base.Manifest) (err error) {
		f.Manifest = m
		b, err = Begin(w, program, m)
		return err
	}, func(p base.Piece, r io.Reader) (err error) {
		switch {
		case p.Name == base.KernelImage(f.Manifest.Kernel):
			f.Kernel, err = io.ReadAll(r)
		case Kept(p.Name):
			err = b.Add(p, r)
		case others != nil:
			err = others(p, r)
		}
		return err
	})
	if err != nil {
		if b != nil {
			_ = b.End()
		}
		return nil, err
	}
	if f.Kernel == nil {
		return nil, errors.Join(&base.Hurt{Piece: base.KernelImage(f.Manifest.Kernel), Why: "it has no kernel"},
			b.End())
	}
	return &f, b.End()
}
