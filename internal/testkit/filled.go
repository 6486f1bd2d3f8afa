package testkit

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"twinshelf/internal/fsys"
)

// FilledByKernel has the kernel's own driver fill a volume with about n files, in an emulated machine, and gives what
// that driver then sees in it. The modules are those that the driver needs, the options those of its first mount.
func FilledByKernel(t testing.TB, img, driver, options string, n int, modules ...string) []Seen {
	t.Helper()
	return WorkedOnByKernel(t, img, driver, options, fmt.Sprint("filler fill /mnt ", n), modules...)
}

// WorkedOnByKernel has a script work on a volume that the kernel's driver has mounted at /mnt with options, and gives
// what the driver sees in it then.
func WorkedOnByKernel(t testing.TB, img, driver, options, script string, modules ...string) []Seen {
	t.Helper()
	return kernelAt(t, img, modules, fmt.Sprintf(`mount -t %[1]s -o %[2]s /dev/vda /mnt && %[3]s
umount /mnt
mount -t %[1]s -o ro /dev/vda /mnt && filler list /mnt >/dev/vdb`, driver, options, script))
}

// Seen is a file or folder as the kernel has it; see package main in the folder filler.
type Seen struct {
	Path     string
	Mode     uint32
	UID, GID uint32
	Links    uint64
	Size     int64
	Second   int64
	Device   uint64
	Sum      uint32
	Target   string
	Attrs    map[string][]byte
}

// listRoom is how much a list may have, in bytes.
const listRoom = 64 << 20

func kernelAt(t testing.TB, img string, modules []string, script string) []Seen {
	t.Helper()
	dir := t.TempDir()
	program, listed := filepath.Join(dir, "filler"), filepath.Join(dir, "list")
	c := exec.Command("go", "build", "-o", program, "twinshelf/internal/testkit/filler")
	c.Env = append(c.Environ(), "CGO_ENABLED=0")
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	Sparse(t, listed, listRoom)
	said := Guest{Kernel: "*[0-9]-amd64", Files: map[string]string{"bin/filler": program},
		Modules: append([]string{"virtio_pci", "virtio_blk"}, modules...), Within: 3 * time.Minute,
		Devices: []string{"-drive", "if=virtio,format=raw,file=" + img, "-drive", "if=virtio,format=raw,file=" +
			listed},
		Script: "mkdir /mnt\n" + script + "\numount /mnt\nsync\ndmesg | tail -5\n"}.Run(t)
	raw, err := os.ReadFile(listed)
	if err != nil {
		t.Fatal(err)
	}
	var out []Seen
	lines := bufio.NewScanner(bytes.NewReader(raw))
	lines.Buffer(nil, 1<<20)
	for lines.Scan() && len(lines.Bytes()) > 0 {
		var s Seen
		if err := json.Unmarshal(lines.Bytes(), &s); err != nil {
			t.Fatalf("%v; the guest said:\n%s", err, said)
		}
		out = append(out, s)
	}
	if len(out) == 0 {
		t.Fatalf("nothing was listed; the guest said:\n%s", said)
	}
	return out
}

// Driver is how a driver of the kernel differs from our reader.
type Driver struct {
	// Name gives names that are written in another way the same form.
	Name func(string) string
	// Attr gives an attribute the name by which our reader knows it; "" leaves it out.
	Attr func(string) string
	// OtherDevices says that it keeps the numbers of devices in a way of its own.
	OtherDevices bool
}

// SameAsSeen holds a tree to what the kernel saw: every path, kind, size, time, owner, contents, target and attribute.
// d says how the driver differs.
func SameAsSeen(t testing.TB, tree fsys.Tree, all []Seen, d Driver) {
	t.Helper()
	missing := map[string]bool{}
	for _, s := range all {
		missing[d.Name(s.Path)] = true
		it, err := fsys.Find(tree, s.Path)
		if err == nil {
			err = d.same(tree, it, s)
		}
		if err != nil {
			t.Errorf("%s: %v", s.Path, err)
		}
	}
	root, err := tree.Root()
	if err != nil {
		t.Fatal(err)
	}
	if err := fsys.Walk(tree, root, ".", func(at string, _ fsys.Item, entries []fsys.Entry, err error) error {
		delete(missing, d.Name(at))
		for _, e := range entries {
			name := d.Name(fsys.Join(at, e.Name))
			if !missing[name] {
				t.Errorf("the kernel doesn't have %s (%v)", name, e.Err)
			}
			if !e.IsDir() {
				delete(missing, name)
			}
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	for name := range missing {
		t.Errorf("%s isn't listed", name)
	}
}

// kinds are types of files as stat(2) has them.
var kinds = map[uint32]fs.FileMode{0o100000: 0, 0o040000: fs.ModeDir, 0o120000: fs.ModeSymlink, 0o060000: fs.ModeDevice,
	0o020000: fs.ModeDevice | fs.ModeCharDevice, 0o010000: fs.ModeNamedPipe, 0o140000: fs.ModeSocket}

func (d Driver) same(tree fsys.Tree, it fsys.Item, s Seen) error {
	more, err := tree.More(it)
	if err != nil {
		return err
	}
	switch {
	case it.Mode.Type() != kinds[s.Mode&0o170000] || uint32(it.Mode.Perm()) != s.Mode&0o777:
		return fmt.Errorf("its mode is %o, not %v", s.Mode, it.Mode)
	case it.UID != s.UID || it.GID != s.GID:
		return fmt.Errorf("it belongs to %d:%d, not %d:%d", s.UID, s.GID, it.UID, it.GID)
	case it.Mode.IsRegular() && it.Links != int(s.Links):
		return fmt.Errorf("it has %d names, not %d", s.Links, it.Links)
	case it.Modified.Unix() != s.Second:
		return fmt.Errorf("it was changed at %d, not %d", s.Second, it.Modified.Unix())
	case more.Target != s.Target:
		return fmt.Errorf("it leads to %q, not %q", s.Target, more.Target)
	case !d.OtherDevices && it.Mode&fs.ModeDevice != 0 && uint64(it.Major)<<8|uint64(it.Minor) != s.Device:
		return fmt.Errorf("it is device %#x, not %d:%d", s.Device, it.Major, it.Minor)
	}
	have := map[string]string{}
	for _, x := range more.XAttrs {
		have[x.Name] = string(x.Value)
	}
	for name, value := range s.Attrs {
		if name = d.Attr(name); name != "" && have[name] != string(value) {
			return fmt.Errorf("its attribute %s is %q, not %q", name, value, have[name])
		}
	}
	if !it.Mode.IsRegular() {
		return nil
	}
	c, err := tree.Open(it, "")
	if err != nil {
		return err
	}
	h := crc32.New(crc32.MakeTable(crc32.Castagnoli))
	n, err := io.Copy(h, io.NewSectionReader(c, 0, c.Size()))
	if err == nil && (n != s.Size || it.Size != s.Size || h.Sum32() != s.Sum) {
		err = fmt.Errorf("%d bytes (%d listed), not %d, or others", n, it.Size, s.Size)
	}
	return err
}
