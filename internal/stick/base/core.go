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

// composer is the program that composes a second stage.
const composer = "usr/bin/grub-mkimage"

// early is what the second stage does: it looks for the part by its label, and starts the kernel from it.
const early = "search.fs_label " + Label + " root\n" + Script

// inside are the modules that the second stage needs for that.
var inside = []string{"biosdisk", "part_gpt", "fat", "search_label", "linux", "boot"}

// composed is a root with the second stage in it, made of the root's own modules.
func composed(ctx context.Context, root Root) (Root, error) {
	for _, n := range []string{"boot.img", "diskboot.img", "kernel.img"} {
		if !has(root, biosDir+n) {
			return root, &Missing{biosDir + n, "grub-pc-bin"}
		}
	}
	tool, err := exec.LookPath(filepath.Base(composer))
	if err != nil {
		return root, &Missing{composer, packageOf[composer]}
	}
	dir, err := os.MkdirTemp("", "twinshelf-core-")
	if err != nil {
		return root, err
	}
	defer os.RemoveAll(dir)
	script, out := filepath.Join(dir, "early.cfg"), filepath.Join(dir, "core.img")
	if err := os.WriteFile(script, []byte(early), 0o600); err != nil {
		return root, err
	}
	args := append([]string{"-d", filepath.Join(root.Dir, biosDir), "-O", "i386-pc", "-p", "/boot/grub", "-c", script,
		"-o", out}, inside...)
	var said bytes.Buffer
	c := exec.CommandContext(ctx, tool, args...)
	c.Stderr = &said
	if err := c.Run(); err != nil {
		return root, fmt.Errorf("the second stage for a BIOS can't be composed: %w: %s", err,
			bytes.TrimSpace(said.Bytes()))
	}
	core, err := os.ReadFile(out)
	if err != nil {
		return root, err
	}
	root.core = core
	return root, nil
}

// open opens a piece.
func (r Root) open(name string) (io.ReadCloser, error) {
	if name == Core && r.core != nil {
		return io.NopCloser(bytes.NewReader(r.core)), nil
	}
	return r.FS.Open(name)
}

// owner is the package that a piece belongs to, with its version; the second stage is made of what has the first one.
func (r Root) owner(name string) (pkg, version string) {
	if name == Core {
		name = BootCode
	}
	return r.Owner(name)
}
