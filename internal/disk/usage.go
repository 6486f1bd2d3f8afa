package disk

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// Host is the running system as the guard sees it. Root is the folder that
// holds proc and sys; empty means "/". Tests put a made-up system there.
type Host struct{ Root string }

func (h Host) path(p string) string { return filepath.Join("/", h.Root, p) }

// Mount is one mounted file system.
type Mount struct {
	Device   string `json:"device"` // major:minor
	Point    string `json:"point"`
	ReadOnly bool   `json:"read_only"`
}

// Mounts reads the mount table of this process (proc(5), mountinfo).
func (h Host) Mounts() []Mount {
	var out []Mount
	for _, m := range h.mountsOf("self", true) {
		out = append(out, m.Mount)
	}
	return out
}

// Use is one way in which a disk is in use now.
type Use struct {
	What   string `json:"what"` // in words: "mounted at /srv"
	System bool   `json:"system,omitempty"`
	// Writes says whether somebody may be writing to it.
	Writes bool `json:"writes"`
	// Point is where it is mounted; empty for other uses.
	Point string `json:"point,omitempty"`
	// Part is the number of the part in use; 0 for the whole disk.
	Part int `json:"part,omitempty"`
}

// UsesOfBlock tells how the block device with the kernel name (such as "sda") or one of its partitions is in use:
// mounts, swap, devices on top of it, and whatever reaches the same bytes by another way.
func (h Host) UsesOfBlock(name string) []Use {
	a := h.atlas()
	n := a.byName[name]
	if n == nil {
		return nil
	}
	return a.uses(n, a.grounds(n, n.whole(), 0))
}

// nodes maps the kernel names of a disk and its partitions to their sysfs folders.
func (h Host) nodes(name string) map[string]string {
	dir := h.path("sys/class/block/" + name)
	out := map[string]string{name: dir}
	for _, part := range partitionsIn(dir) {
		out[part] = filepath.Join(dir, part)
	}
	return out
}

// partitionsIn are the kernel names of the partitions in a disk's sysfs folder.
func partitionsIn(dir string) (out []string) {
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		if !e.IsDir() { // most are files, and this is asked every few seconds
			continue
		}
		if _, err := os.Stat(filepath.Join(dir, e.Name(), "partition")); err == nil {
			out = append(out, e.Name())
		}
	}
	return out
}

// Partitions maps the kernel names of a disk's partitions to where they begin, in bytes.
func (h Host) Partitions(name string) map[string]int64 {
	out := map[string]int64{}
	for node, dir := range h.nodes(name) {
		if n, err := strconv.ParseInt(readLine(filepath.Join(dir, "start")), 10, 64); err == nil {
			out[node] = n * 512 // sysfs counts in 512 bytes, whatever the sector
		}
	}
	return out
}

// UsesOfImage tells how an image file is in use: attached as a loop device, mounted directly, as swap.
func (h Host) UsesOfImage(path string) []Use {
	a := h.atlas()
	g, n := a.groundsOf(path, 0)
	if len(g) == 0 {
		return nil
	}
	return a.uses(n, g)
}

// HoldsFolder says whether the folder lies on what a block device or an image file holds, through any number of layers.
func (h Host) HoldsFolder(path, folder string) bool {
	a := h.atlas()
	g, _ := a.groundsOf(path, 0)
	if n := a.byName[filepath.Base(path)]; len(g) == 0 && n != nil {
		g = a.grounds(n, n.whole(), 0)
	}
	return meet(g, a.under(folder, h.mounts()))
}

// KernelName is what the kernel calls the block device that a node stands for, whatever the node's name.
func (h Host) KernelName(path string) string {
	if _, n := h.atlas().groundsOf(path, 0); n != nil {
		return n.name
	}
	return filepath.Base(path)
}

func readLine(path string) string {
	b, _ := os.ReadFile(path)
	return strings.TrimSpace(string(b))
}
