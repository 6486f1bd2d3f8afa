package disk

import (
	"bufio"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
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

// Mounts reads the mount table (proc(5), mountinfo).
func (h Host) Mounts() []Mount {
	f, err := os.Open(h.path("proc/self/mountinfo"))
	if err != nil {
		return nil
	}
	defer f.Close()
	var out []Mount
	for sc := bufio.NewScanner(f); sc.Scan(); {
		w := strings.Fields(sc.Text())
		if len(w) < 6 {
			continue
		}
		point := strings.NewReplacer(`\040`, " ", `\011`, "\t", `\134`, `\`).Replace(w[4])
		ro := strings.HasPrefix(w[5]+",", "ro,")
		out = append(out, Mount{w[2], point, ro})
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

// UsesOfBlock tells how the block device with the kernel name (such as "sda")
// or one of its partitions is in use: mounts, swap, and devices on top of it.
func (h Host) UsesOfBlock(name string) []Use {
	var uses []Use
	mounts := h.Mounts()
	swaps, _ := os.ReadFile(h.path("proc/swaps"))
	for node, dir := range h.nodes(name) {
		part, _ := strconv.Atoi(readLine(filepath.Join(dir, "partition")))
		num := readLine(filepath.Join(dir, "dev"))
		for _, m := range mounts {
			if m.Device == num && num != "" {
				uses = append(uses, Use{What: fmt.Sprintf("%s is mounted at %s", node, m.Point), System: m.Point == "/", Point: m.Point, Writes: !m.ReadOnly, Part: part})
			}
		}
		for line := range strings.Lines(string(swaps)) {
			if strings.HasPrefix(line, "/dev/"+node+" ") || strings.HasPrefix(line, "/dev/"+node+"\t") {
				uses = append(uses, Use{What: node + " is in use as swap", System: true, Writes: true, Part: part})
			}
		}
		holders, _ := os.ReadDir(filepath.Join(dir, "holders"))
		for _, holder := range holders {
			above := h.UsesOfBlock(holder.Name())
			use := Use{What: fmt.Sprintf("%s carries %s", node, holder.Name()), Writes: true, Part: part}
			for _, a := range above {
				use.System = use.System || a.System
			}
			uses = append(uses, use)
		}
	}
	return uses
}

// nodes maps the kernel names of a disk and its partitions to their sysfs folders.
func (h Host) nodes(name string) map[string]string {
	dir := h.path("sys/class/block/" + name)
	out := map[string]string{name: dir}
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		if _, err := os.Stat(filepath.Join(dir, e.Name(), "partition")); err == nil {
			out[e.Name()] = filepath.Join(dir, e.Name())
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

// UsesOfImage tells how an image file is in use: attached as a loop device.
func (h Host) UsesOfImage(path string) []Use {
	loops, _ := filepath.Glob(h.path("sys/block/loop*/loop/backing_file"))
	want, err := os.Stat(path)
	if err != nil {
		return nil
	}
	var uses []Use
	for _, l := range loops {
		backing := strings.TrimSuffix(readLine(l), " (deleted)")
		if st, err := os.Stat(backing); err != nil || !os.SameFile(st, want) {
			continue
		}
		name := filepath.Base(filepath.Dir(filepath.Dir(l)))
		use := Use{What: "attached as /dev/" + name}
		for _, u := range h.UsesOfBlock(name) {
			use.What += ", " + u.What
			use.Writes = use.Writes || u.Writes
			if u.Point != "" {
				use.Point = u.Point
			}
		}
		uses = append(uses, use)
	}
	return uses
}

// HoldsFolder says whether the folder lies on the block device or one of its partitions.
func (h Host) HoldsFolder(name, folder string) bool {
	var st unix.Stat_t
	if unix.Stat(folder, &st) != nil {
		return false
	}
	num := fmt.Sprintf("%d:%d", unix.Major(st.Dev), unix.Minor(st.Dev))
	for _, dir := range h.nodes(name) {
		if readLine(filepath.Join(dir, "dev")) == num {
			return true
		}
	}
	return false
}

func readLine(path string) string {
	b, _ := os.ReadFile(path)
	return strings.TrimSpace(string(b))
}
