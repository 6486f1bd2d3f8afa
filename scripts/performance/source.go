package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
)

// What the disk that is captured says of itself.
const (
	sourceModel  = "Sandmartin S"
	sourceSerial = "SM64-C3E9"
)

// bench is where everything is measured.
type bench struct {
	setting
	dir     string
	program string // the built twinshelf
	image   string // the disk that is captured
	stretch string // what is used on it, one stretch after another, as a plain file
	length  int64  // bytes of that
	held    bool   // the kernel's memory holds the disk before each command, so that it is never waited for
	root    bool   // file systems can be mounted
	cold    bool   // the kernel's memory is emptied before each command
}

// roots is where the disk's files come from, so that programs, texts and what is packed already are all among them.
var roots = []string{"/usr/bin", "/usr/share", "/usr/lib", "/var", "/usr/local"}

// prepare builds the program and makes the disk: an ext4 with what this machine has.
func prepare(ctx context.Context, s setting, dir string) (*bench, error) {
	b := &bench{setting: s, dir: dir, program: filepath.Join(dir, "twinshelf"), image: filepath.Join(dir, "kiosk.img"),
		stretch: filepath.Join(dir, "used"), root: os.Geteuid() == 0, cold: os.Geteuid() == 0}
	tree := filepath.Join(dir, "tree")
	if err := gather(tree, s.used); err != nil {
		return nil, err
	}
	if err := create(b.image, 4*s.used/4096*4096); err != nil {
		return nil, err
	}
	for _, line := range [][]string{
		{"go", "build", "-o", b.program, "twinshelf/cmd/twinshelf"},
		{"mkfs.ext4", "-q", "-F", "-d", tree, b.image},
	} {
		if out, err := exec.CommandContext(ctx, line[0], line[1:]...).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("%s: %w: %s", line[0], err, out)
		}
	}
	if err := label(b.image, sourceModel, sourceSerial, 0); err != nil {
		return nil, err
	}
	n, err := b.line(ctx)
	if b.length = n; err != nil {
		return nil, err
	}
	return b, os.RemoveAll(tree)
}

// gather copies files of this machine, about n bytes of them.
func gather(to string, n int64) error {
	left := n
	for i, root := range roots {
		share := left
		if i < 2 {
			share = n / 5 // some of each kind
		}
		err := filepath.WalkDir(root, func(p string, e fs.DirEntry, err error) error {
			if err != nil || !e.Type().IsRegular() {
				return nil // what can't be read isn't needed
			}
			st, err := e.Info()
			if err != nil || st.Size() > n/10 {
				return nil
			}
			if share -= st.Size(); share < 0 {
				return filepath.SkipAll
			}
			content, err := os.ReadFile(p)
			if err != nil {
				return nil
			}
			left -= st.Size()
			dest := filepath.Join(to, p)
			return errors.Join(os.MkdirAll(filepath.Dir(dest), 0o755), os.WriteFile(dest, content, 0o644))
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// create makes an empty file of a size, in bytes.
func create(path string, size int64) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	return errors.Join(f.Truncate(size), f.Close())
}

// label says what drive an image stands for, and how many bytes a second it gives and takes; 0 for as many as it can.
func label(image, model, serial string, rate int64) error {
	l := disk.Label{Model: model, Serial: serial}
	if rate > 0 {
		l.Faults = &disk.Faults{Slow: span.Of(span.At(0, 1<<62)), SlowRate: rate}
	}
	raw, err := json.Marshal(l)
	if err != nil {
		return err
	}
	return os.WriteFile(disk.LabelPath(image), raw, 0o644)
}

// line writes what is used on the disk into a plain file, and says how much that is.
func (b *bench) line(ctx context.Context) (n int64, err error) {
	f, err := os.Create(b.stretch)
	if err != nil {
		return 0, err
	}
	n, err = b.read(ctx, f)
	return n, errors.Join(err, f.Close())
}

// read reads what a capture reads of the disk, in its order and from the same stand-in, and does nothing else with it.
func (b *bench) read(ctx context.Context, to io.Writer) (n int64, err error) {
	d, err := disk.Open(b.image, disk.Identity{})
	if err != nil {
		return 0, err
	}
	defer d.Close()
	sv, err := survey.Of(ctx, d, nil)
	if err != nil {
		return 0, err
	}
	buf := make([]byte, 1<<20)
	for i := range sv.Areas {
		a := &sv.Areas[i]
		for sp, err := range a.Content.Spans() {
			if err != nil {
				return 0, err
			}
			sp = sp.Shift(a.Span.Start)
			done, err := io.CopyBuffer(struct{ io.Writer }{to}, disk.Section(d, sp.Start, sp.Len()), buf)
			if n += done; err != nil {
				return 0, err
			}
		}
	}
	return n, nil
}
