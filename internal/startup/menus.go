package startup

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"twinshelf/internal/fsys"
)

// entry is what a menu entry of a loader starts, as paths on some file system.
type entry struct {
	kernel  string
	initrds []string
}

// menus are the files in which loaders find their entries: GNU GRUB's configuration, and entries of the Boot Loader Specification.
var menus = []string{"boot/grub/grub.cfg", "grub/grub.cfg", "boot/grub2/grub.cfg", "grub2/grub.cfg", "loader/entries/*", "boot/loader/entries/*"}

const (
	headOfKernel = 1 << 10
	kernelMarkAt = 0x202 // "HdrS" (Linux x86 boot protocol)
	armMarkAt    = 56    // "ARMd" (Linux arm64 booting)
	maxEntries   = 64
)

// menus looks whether the kernel that the first entry of a menu starts is there and looks like one, and its initial RAM disks.
func (c *checker) menus() {
	for i := range c.parts {
		p := &c.parts[i]
		files, err := fsys.TreeOf(p.volume)
		if err != nil {
			continue
		}
		tree := fsys.FS(files)
		for _, name := range expandAll(tree, menus) {
			b, err := readFile(tree, name, maxConfig)
			if err != nil {
				continue // told by the references
			}
			if entries := entriesOf(string(b)); len(entries) > 0 {
				c.startsFrom(p, name, entries[0])
			}
		}
	}
}

// entriesOf finds what a menu starts, in its order. Paths with variables in them can't be told and are left out.
func entriesOf(text string) []entry {
	var out []entry
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		if len(f) < 2 || len(out) > maxEntries || strings.ContainsAny(f[1], "$(") {
			continue
		}
		switch f[0] {
		case "linux", "linux16", "linuxefi":
			out = append(out, entry{kernel: f[1]})
		case "initrd", "initrd16", "initrdefi":
			if k := len(out) - 1; k >= 0 {
				for _, name := range f[1:] {
					if !strings.ContainsAny(name, "$(") {
						out[k].initrds = append(out[k].initrds, name)
					}
				}
			}
		}
	}
	return out
}

// startsFrom looks for the files of an entry on all parts that can be read: the menu says elsewhere on which they are.
func (c *checker) startsFrom(on *part, menu string, e entry) {
	where := fmt.Sprintf("%s on part %d", menu, on.Number)
	for i, name := range append([]string{e.kernel}, e.initrds...) {
		head, err := c.headOf(name)
		what := "the kernel"
		if i > 0 {
			what = "an initial RAM disk"
		}
		switch {
		case errors.Is(err, fs.ErrNotExist) && c.unread():
			c.add(Finding{Way: References, Verdict: Doubt, Says: fmt.Sprintf("%s starts %s %s, which may be on a part that isn't read here", where, what, name)})
		case errors.Is(err, fs.ErrNotExist):
			c.add(Finding{Way: References, Verdict: Bad, Says: fmt.Sprintf("%s starts %s %s, which isn't on this disk", where, what, name)})
		case err != nil:
			c.add(Finding{Way: References, Verdict: Bad, Says: fmt.Sprintf("%s %s can't be read", what, name), Evidence: err.Error()})
		case i == 0 && !isKernel(head):
			c.add(Finding{Way: References, Verdict: Bad, Says: fmt.Sprintf("%s %s isn't a kernel any more", what, name), Evidence: "none of the marks that kernels bear is at its start"})
		case bytes.Count(head, []byte{0}) == len(head):
			c.add(Finding{Way: References, Verdict: Bad, Says: fmt.Sprintf("%s %s begins with zeros", what, name)})
		}
	}
}

// headOf reads the start of a file that some part has at that path, with or without the folder boot.
func (c *checker) headOf(name string) ([]byte, error) {
	name = strings.TrimPrefix(path.Clean(strings.ReplaceAll(name, "\\", "/")), "/")
	for i := range c.parts {
		files, err := fsys.TreeOf(c.parts[i].volume)
		if err != nil {
			continue
		}
		tree := fsys.FS(files)
		for _, at := range []string{name, "boot/" + name, strings.TrimPrefix(name, "boot/")} {
			f, err := tree.Open(at)
			if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrInvalid) {
				continue
			}
			if err != nil {
				return nil, err
			}
			head := make([]byte, headOfKernel)
			n, err := io.ReadFull(f, head)
			f.Close()
			if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
				err = nil
			}
			return head[:n], err
		}
	}
	return nil, fs.ErrNotExist
}

// unread says whether some part holds a system that isn't read here.
func (c *checker) unread() bool {
	for _, p := range c.parts {
		if p.volume != nil && p.volume.Info().Opaque != "" || p.volume == nil && p.why != "" {
			return true
		}
	}
	return false
}

// isKernel knows Linux kernels by their marks: of x86, of 64-bit ARM, EFI programs, and packed ones.
func isKernel(b []byte) bool {
	has := func(at int, mark string) bool { return at+len(mark) <= len(b) && string(b[at:at+len(mark)]) == mark }
	return has(kernelMarkAt, "HdrS") || has(armMarkAt, "ARMd") || has(0, "MZ") || has(0, "\x1f\x8b") || has(0, "\x7fELF") || has(0, "\x28\xb5\x2f\xfd") || has(0, "\x27\x05\x19\x56")
}
