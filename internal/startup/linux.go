package startup

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"

	"github.com/zeebo/blake3"

	"twinshelf/internal/startup/image"
	"twinshelf/internal/startup/script"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

const maxKernel = 512 << 20 // bytes of a kernel, or of one with all that it needs

// looked is what was found out about a file that is started.
type looked struct {
	checked string
	err     error
	sum     [32]byte // of its bytes; zero where it couldn't be read
}

// menu follows a loader's script to what it starts.
func (c *checker) menu(way, loader string, g *image.Grub, o script.Options) {
	platform := map[string]string{UEFI: "x86_64-efi", BIOS: "i386-pc"}[way]
	o.Config, o.Prefix, o.Entries = g.Config, g.Prefix, c.specs
	s := c.standFor(g, platform)
	c.compareModules(way, s, o.Loaded.Device)
	b, err := script.Run(c.ctx, s, o)
	var f *script.Fault
	switch {
	case errors.As(err, &f) && f.Unsure:
		c.add(Finding{Way: way, Verdict: Doubt,
			Says: fmt.Sprintf("%s can't be followed to a kernel: %s", loader, f.Why)})
	case errors.As(err, &f):
		c.followed = true
		c.add(Finding{Way: way, Verdict: Bad, Says: fmt.Sprintf("%s finds no kernel: %s", loader, f.Why)})
	case err != nil: // cancelled
	case b.Chained.Path != "":
		c.chained(way, b.Chained)
	default:
		where := b.Menu.Path
		if p := c.partOf(b.Menu.Device); p != nil {
			where = fmt.Sprintf("%s on part %d", strings.TrimPrefix(b.Menu.Path, "/"), p.Number)
		}
		c.boots(way, where, b)
	}
}

// moduleFolders are where systems keep the loader's modules, by platform.
var moduleFolders = []string{"boot/grub/", "boot/grub2/", "grub/", "grub2/"}

// compareModules compares the modules in a loader with those that its system keeps: of one that was put there by
// another version, or is damaged, nobody can tell whether it starts.
func (c *checker) compareModules(way string, s *stand, device string) {
	if s.g.Files == nil {
		return
	}
	for i := range c.parts {
		p := &c.parts[i]
		for _, dir := range moduleFolders {
			for name, is := range s.g.Files {
				b, err := p.read(dir+s.platform+"/"+name+".mod", maxMenu)
				if err != nil {
					continue
				}
				if len(b) > len(is) || string(is[:len(b)]) != string(b) {
					c.add(Finding{Way: way, Verdict: Doubt,
						Says: "the loader's module " + name + " isn't the one that its system keeps: it may be " +
							"damaged, or of another version",
						Evidence: fmt.Sprintf("%s%s/%s.mod on part %d", dir, s.platform, name, p.Number)})
					return
				}
			}
		}
	}
}

// boots looks at what a menu starts: kernel, initial RAM disks, and the root that the kernel is told.
func (c *checker) boots(way, menu string, b *script.Boot) {
	c.followed = true
	whole := c.started(way, menu, "the kernel", b.Kernel, func(r io.Reader) (string, error) {
		all, err := limited(r, b.Kernel.Path, maxKernel)
		if err != nil {
			return "", err
		}
		return image.Kernel(all)
	})
	for _, r := range b.Initrds {
		whole = c.started(way, menu, "the initial RAM disk", r, image.RAMDisk) && whole
	}
	root := c.root(way, menu, b.Args, len(b.Initrds) > 0)
	if whole && root {
		c.add(Finding{Way: way, Verdict: Good,
			Says:     fmt.Sprintf("%s starts the kernel %s, and what that needs is there", menu, b.Kernel.Path),
			Evidence: b.Args})
	}
}

// through looks through a file, unless a disk that should hold the same has one with the same bytes.
func (c *checker) through(p *part, name string, look func(io.Reader) (string, error)) (out looked) {
	if c.o.Alike != nil {
		if out.err = p.each(name, func(f io.Reader) error { return hashed(f, &out.sum) }); out.err != nil {
			return looked{err: out.err}
		}
		for _, k := range c.o.Alike.seen {
			if k.sum == out.sum {
				return k
			}
		}
	}
	h := blake3.New()
	out.err = p.each(name, func(f io.Reader) (err error) {
		if out.checked, err = look(io.TeeReader(f, h)); err == nil && c.o.Alike == nil {
			if _, failed := io.Copy(h, f); failed == nil {
				h.Sum(out.sum[:0])
			}
		}
		return err
	})
	return out
}

// each opens a file for work on its contents.
func (p *part) each(name string, work func(io.Reader) error) error {
	f, err := p.open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	return work(f)
}

func hashed(r io.Reader, sum *[32]byte) error {
	h := blake3.New()
	_, err := io.Copy(h, r)
	h.Sum(sum[:0])
	return err
}

// started looks at a file that a menu starts, once, and says whether it is there and whole as far as it can be told.
func (c *checker) started(way, menu, what string, at script.Place, look func(io.Reader) (string, error)) bool {
	p := c.partOf(at.Device)
	known, seen := c.report.seen[at]
	if !seen {
		switch {
		case p == nil:
			known.err = c.noPart(at.Device)
		default:
			known = c.through(p, at.Path, look)
		}
		c.report.seen[at] = known
	}
	name := strings.TrimPrefix(at.Path, "/")
	switch {
	case known.err == nil && known.checked != "":
		return true
	case known.err == nil:
		c.add(Finding{Way: way, Verdict: Doubt, Says: fmt.Sprintf("whether %s %s is whole can't be told", what, name),
			Evidence: "nothing in it is a checksum that is known here"})
	case errors.Is(known.err, script.ErrUnread):
		c.add(Finding{Way: way, Verdict: Doubt,
			Says: fmt.Sprintf("%s starts %s %s, which is on something that isn't read here", menu, what, name)})
	case errors.Is(known.err, fs.ErrNotExist):
		c.add(Finding{Way: way, Verdict: Bad,
			Says: fmt.Sprintf("%s starts %s %s, which isn't there", menu, what, name)})
	default:
		c.add(Finding{Way: way, Verdict: Bad, Says: fmt.Sprintf("%s %s can't be started", what, name),
			Evidence: known.err.Error()})
	}
	return false
}

// root looks for the root that a kernel is told, and says whether it is there.
func (c *checker) root(way, menu, args string, ramdisk bool) bool {
	var named []reference
	for word := range strings.FieldsSeq(args) {
		if value, ok := strings.CutPrefix(word, "root="); ok {
			named = mentions("root=" + value)
			if i := slices.IndexFunc(c.inner, func(p part) bool { return p.path(value) }); i >= 0 {
				return c.rootPart(way, &c.inner[i])
			}
			if len(named) == 0 {
				c.add(Finding{Way: way, Verdict: Doubt,
					Says: fmt.Sprintf("%s names a root in a way that isn't known here, %s", menu, value)})
				return false
			}
		}
	}
	if len(named) == 0 {
		if ramdisk && slices.ContainsFunc(c.parts, func(p part) bool {
			return p.Type == table.TypeLinuxRootX64 && p.files != nil
		}) {
			return true // found by the part's type (Discoverable Partitions Specification)
		}
		c.add(Finding{Way: way, Verdict: Doubt, Says: menu + " doesn't say where the kernel finds its root",
			Evidence: args})
		return false
	}
	r := named[0]
	for _, p := range slices.Concat(c.parts, c.inner) {
		if r.kind != "DEVICE" && c.named(&p, r) {
			return c.rootPart(way, &p)
		}
	}
	f := Finding{Way: way, Verdict: Doubt, Evidence: args}
	elsewhere := slices.ContainsFunc(c.o.Elsewhere, func(id string) bool { return strings.EqualFold(id, r.value) })
	switch {
	case r.kind == "DEVICE":
		f.Says = fmt.Sprintf("%s names the root by the name that the old machine's kernel gave it, %s", menu, r.value)
	case r.kind == "MAPPER":
		f.Says = fmt.Sprintf("%s names a root that can't be looked into, %s", menu, r.value)
	case elsewhere:
		f.Says = menu + " names a root on another disk of the machine"
	case c.unread():
		f.Says = fmt.Sprintf("%s names the root %s=%s, which may be on something that isn't read here", menu, r.kind,
			r.value)
	default:
		f.Verdict, f.Says = Bad, fmt.Sprintf("%s names the root %s=%s, which isn't on this disk%s", menu, r.kind,
			r.value, c.leftOut(r.value))
	}
	c.add(f)
	return false
}

// leftOut says so where an identity is that of a part that was left out.
func (c *checker) leftOut(id string) string {
	for gone, title := range c.o.Gone {
		if strings.EqualFold(gone, id) {
			return ": " + title + " is left out"
		}
	}
	return ""
}

// inits are what a kernel or its RAM disk starts on the root, in their order.
var inits = []string{"sbin/init", "etc/init", "bin/init", "bin/sh", "usr/lib/systemd/systemd", "lib/systemd/systemd"}

// rootPart looks whether the root can be read and holds a system.
func (c *checker) rootPart(way string, p *part) bool {
	if p.files == nil {
		kind := "nothing that is known"
		if p.volume != nil {
			kind = p.volume.Info().Kind
		}
		c.add(Finding{Way: way, Verdict: Doubt,
			Says: fmt.Sprintf("%s, the root, holds %s, and that isn't read here", p.where(), kind)})
		return false
	}
	for _, name := range inits {
		_, err := p.resolve(name)
		if err == nil && p.inner != "" {
			c.add(Finding{Way: way, Verdict: Doubt,
				Says: fmt.Sprintf("the root is %s, and a system is on it; whether the initial RAM disk brings that "+
					"up can't be told", p.where())})
			return false
		}
		if err == nil {
			return true
		}
	}
	c.add(Finding{Way: way, Verdict: Doubt,
		Says:     fmt.Sprintf("%s is the root, and no system is found on it", p.where()),
		Evidence: "none of " + strings.Join(inits, ", ")})
	return false
}

// unified looks at a kernel with all that it needs in one EFI program (UAPI Group Specifications, "Unified Kernel
// Image").
func (c *checker) unified(way, name string, p *image.Program) {
	c.followed = true
	kernel, ramdisk := p.Section(".linux"), p.Section(".initrd")
	checked, err := image.Kernel(kernel)
	if err != nil {
		c.add(Finding{Way: way, Verdict: Bad,
			Says: fmt.Sprintf("the kernel in \\%s can't be started", backslashed(name)), Evidence: err.Error()})
		return
	}
	if ramdisk != nil {
		if inner, err := image.RAMDisk(bytes.NewReader(ramdisk)); err != nil {
			c.add(Finding{Way: way, Verdict: Bad,
				Says:     fmt.Sprintf("the initial RAM disk in \\%s can't be used", backslashed(name)),
				Evidence: err.Error()})
			return
		} else if inner == "" {
			checked = ""
		}
	}
	if checked == "" && p.Checked == "" {
		c.add(Finding{Way: way, Verdict: Doubt,
			Says: fmt.Sprintf("whether what \\%s holds is whole can't be told", backslashed(name))})
	}
	args, _, _ := strings.Cut(string(p.Section(".cmdline")), "\x00")
	if c.root(way, "\\"+backslashed(name), strings.TrimSpace(args), ramdisk != nil) {
		c.add(Finding{Way: way, Verdict: Good,
			Says:     fmt.Sprintf("\\%s holds a kernel and what it needs", backslashed(name)),
			Evidence: fmt.Sprintf("a kernel of %s; %s", units.Bytes(int64(len(kernel))), args)})
	}
}
