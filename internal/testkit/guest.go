package testkit

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// Guest is an emulated machine that runs one script as root and is switched off. It has busybox, the files that it is
// given, and modules of its kernel.
type Guest struct {
	// Kernel is a pattern for the version of another kernel in /boot; empty for the cloud kernel.
	Kernel string
	// Files are put into the guest: where, and from where.
	Files map[string]string
	// Modules are loaded before the script runs, and what they need before them.
	Modules []string
	// Devices are arguments for the emulator.
	Devices []string
	// Script is run by busybox's shell; its output comes back.
	Script string
	// Within is how long it may take on a quiet machine; a loaded one gets several times that.
	Within time.Duration
}

// Run starts the guest and gives what its script said.
func (g Guest) Run(t testing.TB) string {
	t.Helper()
	Need(t, "qemu-system-x86_64", "busybox", "cpio", "gzip")
	kernels, _ := filepath.Glob("/boot/vmlinuz-" + cmp.Or(g.Kernel, "*-cloud-amd64"))
	if len(kernels) == 0 {
		Lacks(t, "linux-image-cloud-amd64 or linux-image-amd64")
	}
	initrd := g.initrd(t, strings.TrimPrefix(kernels[0], "/boot/vmlinuz-"))
	qemu, _ := Path("qemu-system-x86_64")
	ctx, cancel := context.WithTimeout(context.WithoutCancel(t.Context()), 8*g.Within)
	defer cancel()
	args := append([]string{"-m", "1024", "-display", "none", "-serial", "stdio", "-no-reboot", "-net", "none",
		"-accel",
		"tcg", "-cpu", "max", "-kernel", kernels[0], "-initrd", initrd, "-append",
		"console=ttyS0 quiet panic=-1"}, g.Devices...)
	var out bytes.Buffer
	c := exec.CommandContext(ctx, qemu, args...)
	c.Stdout, c.Stderr = &out, &out
	_ = c.Run()
	said := strings.ReplaceAll(out.String(), "\r\n", "\n")
	_, said, began := strings.Cut(said, "\nBEGIN\n")
	said, _, ended := strings.Cut(said, "\nEND\n")
	if !began || !ended {
		t.Fatalf("the guest didn't come to the end of its script in %v:\n%s", 8*g.Within, out.String())
	}
	return said
}

func (g Guest) initrd(t testing.TB, kernel string) string {
	t.Helper()
	dir := t.TempDir()
	root := filepath.Join(dir, "root")
	busybox, _ := Path("busybox")
	files := map[string]string{"bin/busybox": busybox}
	for at, from := range g.Files {
		files[at] = from
	}
	script := "#!/bin/busybox sh\n/bin/busybox mkdir -p /proc /dev /sys /tmp\n/bin/busybox --install -s /bin\n" +
		"export PATH=/bin HOME=/tmp\nmount -t proc proc /proc\nmount -t sysfs sys /sys\nmount -t devtmpfs dev /dev\n"
	for _, m := range modulesOf(t, kernel, g.Modules) {
		files["modules/"+filepath.Base(m)] = m
		script += "insmod /modules/" + filepath.Base(m) + "\n"
	}
	script += "sleep 1\necho; echo BEGIN\n" + g.Script + "\necho; echo END\npoweroff -f\n"
	for at, from := range files {
		b, err := os.ReadFile(from)
		if err != nil {
			t.Fatal(err)
		}
		write(t, filepath.Join(root, at), b)
	}
	write(t, filepath.Join(root, "init"), []byte(script))
	out := filepath.Join(dir, "initrd")
	Do(t, "sh", "-c", fmt.Sprintf("cd %s && find . | cpio -o -H newc --quiet | gzip -1 >%s", root, out))
	return out
}

func write(t testing.TB, path string, b []byte) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, b, 0o755); err != nil {
		t.Fatal(err)
	}
}

// modulesOf are the files of modules in the order in which they are loaded, by the kernel's modules.dep.
func modulesOf(t testing.TB, kernel string, names []string) []string {
	t.Helper()
	folder := "/lib/modules/" + kernel
	list, err := os.ReadFile(folder + "/modules.dep")
	if err != nil {
		Lacks(t, "the modules of "+kernel)
	}
	var out []string
	for _, n := range names {
		found := false
		for line := range strings.Lines(string(list)) {
			file, needs, _ := strings.Cut(strings.TrimSpace(line), ":")
			if filepath.Base(file) != n+".ko" && filepath.Base(file) != n+".ko.xz" {
				continue
			}
			found = true
			all := strings.Fields(needs) // what is needed first comes last
			slices.Reverse(all)
			for _, f := range append(all, file) {
				if f = filepath.Join(folder, f); !slices.Contains(out, f) {
					out = append(out, f)
				}
			}
		}
		if !found {
			t.Fatalf("%s has no module %s", kernel, n)
		}
	}
	return out
}
