package base

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
)

// composer is the program that composes loaders.
const composer = "usr/bin/grub-mkimage"

// early is what the second stage does: it looks for the part by its label, and starts the kernel from it.
const early = "search.fs_label " + Label + " root\n" + Script

// tooNarrow is what a machine with firmware of 32 bits says.
const tooNarrow = `echo
echo "Twin Shelf: the UEFI firmware of this machine has 32 bits, and this stick starts machines of 64."
echo "Set it to start as a BIOS does (legacy, CSM) if it can, or put its disk into a dock at another machine."
echo "Switch this machine off with its power button."
sleep 86400
halt
`

// composition is a loader that is composed of a package's modules while a base is collected.
type composition struct {
	name, format, dir, pkg string
	script                 string
	modules                []string
	needs                  []string // files in dir, so that a missing package is named
}

var compositions = []composition{
	{Core, "i386-pc", biosDir, "grub-pc-bin", early,
		[]string{"biosdisk", "part_gpt", "fat", "search_label", "linux", "boot"},
		[]string{"boot.img", "diskboot.img", "kernel.img"}},
	{Narrow, "i386-efi", narrowDir, "grub-efi-ia32-bin", tooNarrow, []string{"echo", "sleep", "halt"},
		[]string{"kernel.img"}},
}

// composed is a root with the loaders in it that are composed of the root's own modules.
func composed(ctx context.Context, root Root) (Root, error) {
	root.made = map[string][]byte{}
	for _, c := range compositions {
		for _, n := range c.needs {
			if !has(root, c.dir+n) {
				return root, &Missing{c.dir + n, c.pkg}
			}
		}
		b, err := c.compose(ctx, root.Dir)
		if err != nil {
			return root, err
		}
		root.made[c.name] = b
	}
	return root, nil
}

func (c composition) compose(ctx context.Context, root string) ([]byte, error) {
	tool, err := exec.LookPath(filepath.Base(composer))
	if err != nil {
		return nil, &Missing{composer, packageOf[composer]}
	}
	dir, err := os.MkdirTemp("", "twinshelf-core-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	script, out := filepath.Join(dir, "early.cfg"), filepath.Join(dir, "core.img")
	if err := os.WriteFile(script, []byte(c.script), 0o600); err != nil {
		return nil, err
	}
	args := append([]string{"-d", filepath.Join(root, c.dir), "-O", c.format, "-p", "/boot/grub", "-c", script, "-o",
		out},
		c.modules...)
	var said bytes.Buffer
	cmd := exec.CommandContext(ctx, tool, args...)
	cmd.Stderr = &said
	if err := cmd.Run(); err != nil {
		return nil, fmt.Errorf("the loader of %s can't be composed: %w: "+
			"%s", c.format, err, bytes.TrimSpace(said.Bytes()))
	}
	return os.ReadFile(out)
}

// open opens a piece.
func (r Root) open(name string) (io.ReadCloser, error) {
	if b := r.made[name]; b != nil {
		return io.NopCloser(bytes.NewReader(b)), nil
	}
	return r.FS.Open(name)
}

// owner is the package that a piece belongs to, with its version; what is composed has those of what it is made of.
func (r Root) owner(name string) (pkg, version string) {
	for _, c := range compositions {
		if c.name == name {
			name = c.dir + c.needs[0]
		}
	}
	return r.Owner(name)
}
