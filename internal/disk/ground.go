package disk

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"twinshelf/internal/span"
)

// A name says little about where bytes lie: two loop devices may stand over one file, a node may have any name, a
// folder may be mounted twice. Ground is where they really lie.

// Ground is a stretch of a file, or of a block device with nothing known below it.
type Ground struct {
	// Key is "file MAJOR:MINOR:INODE" or "disk MAJOR:MINOR".
	Key  string
	Span span.Span // bytes
}

// meets says whether two grounds share a byte.
func (g Ground) meets(o Ground) bool { return g.Key == o.Key && g.Span.Overlaps(o.Span) }

// meet says whether two sets of grounds share a byte.
func meet(a, b []Ground) bool {
	return slices.ContainsFunc(a, func(g Ground) bool { return slices.ContainsFunc(b, g.meets) })
}

// everything is the span of what has no end that is known.
var everything = span.Span{End: 1 << 62}

const (
	// sysSector is what sysfs counts in, whatever the disk's sectors, in bytes.
	sysSector = 512
	maxLayers = 16
)

// node is a block device as sysfs shows it.
type node struct {
	name, num string // "sdb1", "8:17"
	dir       string // in sysfs
	size      int64  // bytes
	part      int    // number of a partition; 0 for none
	parent    *node  // of a partition
	start     int64  // of a partition in its parent, bytes
	slaves    []string
	loop      bool
}

// atlas is the block devices of a host at one moment.
type atlas struct {
	h      Host
	byName map[string]*node
	byNum  map[string]*node
}

func (h Host) atlas() *atlas {
	a := &atlas{h: h, byName: map[string]*node{}, byNum: map[string]*node{}}
	for _, class := range []string{"sys/class/block", "sys/block"} {
		entries, _ := os.ReadDir(h.path(class))
		for _, e := range entries {
			dir := filepath.Join(h.path(class), e.Name())
			if a.byName[e.Name()] == nil {
				a.add(e.Name(), dir)
			}
		}
	}
	for _, n := range maps.Clone(a.byName) { // partitions lie below their disks
		for _, part := range partitionsIn(n.dir) {
			p := a.byName[part]
			if p == nil {
				p = a.add(part, filepath.Join(n.dir, part))
			}
			p.parent = n
		}
	}
	for _, n := range a.byName {
		holders, _ := os.ReadDir(filepath.Join(n.dir, "holders"))
		for _, e := range holders {
			if above := a.byName[e.Name()]; above != nil && !slices.Contains(above.slaves, n.name) {
				above.slaves = append(above.slaves, n.name)
			}
		}
	}
	return a
}

func (a *atlas) add(name, dir string) *node {
	number := func(file string) int64 {
		n, _ := strconv.ParseInt(readLine(filepath.Join(dir, file)), 10, 64)
		return n
	}
	n := &node{name: name, dir: dir, num: readLine(filepath.Join(dir, "dev")), size: number("size") * sysSector,
		part: int(number("partition")), start: number("start") * sysSector}
	slaves, _ := os.ReadDir(filepath.Join(dir, "slaves"))
	for _, s := range slaves {
		n.slaves = append(n.slaves, s.Name())
	}
	_, err := os.Stat(filepath.Join(dir, "loop"))
	n.loop = err == nil
	a.byName[name] = n
	if n.num != "" {
		a.byNum[n.num] = n
	}
	return n
}

// parts are a disk's partitions; a file has none.
func (a *atlas) parts(n *node) []*node {
	if n == nil {
		return nil
	}
	var out []*node
	for _, p := range a.byName {
		if p.parent == n {
			out = append(out, p)
		}
	}
	return out
}

// whole is the span of a device; one whose size isn't known has no end.
func (n *node) whole() span.Span {
	if n.size > 0 {
		return span.Span{End: n.size}
	}
	return everything
}

// grounds follows a stretch of a device down to where it lies.
func (a *atlas) grounds(n *node, sp span.Span, layers int) []Ground {
	if layers > maxLayers {
		return nil
	}
	switch {
	case n.parent != nil:
		return a.grounds(n.parent, sp.Shift(n.start), layers+1)
	case n.loop:
		if g := a.behindLoop(n, sp, layers); len(g) > 0 {
			return g
		}
	case len(n.slaves) > 0:
		var out []Ground
		for _, s := range n.slaves {
			if below := a.byName[s]; below != nil {
				out = append(out, a.grounds(below, below.whole(), layers+1)...) // where in it isn't known
			}
		}
		return out
	}
	return []Ground{{"disk " + n.num, sp}}
}

// behindLoop is what a loop device stands over: a file or another device. The kernel tells both exactly; the name in
// sysfs is taken only where it can't be asked.
func (a *atlas) behindLoop(n *node, sp span.Span, layers int) []Ground {
	offset, _ := strconv.ParseInt(readLine(filepath.Join(n.dir, "loop/offset")), 10, 64)
	name := readLine(filepath.Join(n.dir, "loop/backing_file"))
	info := a.loopInfo(n)
	if info == nil {
		if name == "" {
			return nil
		}
		g, _ := a.groundsOf(name, layers+1)
		return shifted(g, sp, offset)
	}
	offset = int64(info.Offset)
	if info.Rdevice != 0 {
		if below := a.byNum[devNumber(info.Rdevice)]; below != nil {
			return a.grounds(below, sp.Shift(offset), layers+1)
		}
	}
	key := fmt.Sprintf("file %s:%d", devNumber(info.Device), info.Inode)
	var st unix.Stat_t
	// some file systems show another number outside than in the kernel
	if unix.Stat(name, &st) == nil && st.Ino == info.Inode {
		key = fileKey(&st)
	}
	return []Ground{{key, sp.Shift(offset)}}
}

// shifted is what a stretch of a loop device is of the grounds after it.
func shifted(g []Ground, sp span.Span, offset int64) []Ground {
	out := slices.Clone(g)
	for i := range out {
		at := out[i].Span.Start + offset
		out[i].Span = sp.Shift(at)
	}
	return out
}

// loopInfo asks the kernel what a loop device stands over; nil where it can't be asked.
func (a *atlas) loopInfo(n *node) *unix.LoopInfo64 {
	if a.h.Root != "" {
		return nil
	}
	fd, err := unix.Open("/dev/"+n.name, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil
	}
	defer unix.Close(fd)
	info, err := unix.IoctlLoopGetStatus64(fd)
	if err != nil || info.Inode == 0 && info.Rdevice == 0 {
		return nil
	}
	return info
}

// devNumber decodes a device number as the kernel hands it out in structures (new_encode_dev).
func devNumber(d uint64) string {
	return fmt.Sprintf("%d:%d", d>>8&0xFFF, d&0xFF|d>>12&0xFFF00)
}

func fileKey(st *unix.Stat_t) string {
	return fmt.Sprintf("file %d:%d:%d", unix.Major(st.Dev), unix.Minor(st.Dev), st.Ino)
}

// groundsOf follows a file or device node, whatever its name, down to where its bytes lie. The node is nil for files.
func (a *atlas) groundsOf(path string, layers int) ([]Ground, *node) {
	var st unix.Stat_t
	if unix.Stat(path, &st) != nil {
		return nil, nil
	}
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		return []Ground{{fileKey(&st), span.Span{End: max(st.Size, 1)}}}, nil
	case unix.S_IFBLK:
		if n := a.byNum[fmt.Sprintf("%d:%d", unix.Major(st.Rdev), unix.Minor(st.Rdev))]; n != nil {
			return a.grounds(n, n.whole(), layers), n
		}
	}
	return nil, nil
}

// under are the grounds of the file system that a folder or file lies on, by the number that stat gives it.
func (a *atlas) under(path string, mounts []mount) []Ground {
	var st unix.Stat_t
	if unix.Stat(path, &st) != nil {
		return nil
	}
	num := fmt.Sprintf("%d:%d", unix.Major(st.Dev), unix.Minor(st.Dev))
	if n := a.byNum[num]; n != nil {
		return a.grounds(n, n.whole(), 0)
	}
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return nil
	}
	best := mount{}
	for _, m := range mounts { // the last one of the longest name stands in front
		if m.own && lies(real, m.Point) && len(m.Point) >= len(best.Point) {
			best = m
		}
	}
	_, g := a.mounted(best)
	return g
}

// lies says whether a path is a folder or lies in it.
func lies(path, folder string) bool {
	return path == folder || strings.HasPrefix(path, strings.TrimSuffix(folder, "/")+"/")
}

// Overlap says whether what two names stand for shares a byte: one image under two names, a disk and one of its
// partitions, two loop devices over one file.
func (h Host) Overlap(x, y string) bool {
	a := h.atlas()
	g, _ := a.groundsOf(x, 0)
	o, _ := a.groundsOf(y, 0)
	return meet(g, o) || sameFile(x, y)
}

// sameFile says whether two names are of one file or device.
func sameFile(x, y string) bool {
	sx, err := os.Stat(x)
	if err != nil {
		return false
	}
	sy, err := os.Stat(y)
	if err != nil {
		return false
	}
	if sx.Mode()&os.ModeDevice != 0 && sy.Mode()&os.ModeDevice != 0 {
		return sx.Sys().(*syscall.Stat_t).Rdev == sy.Sys().(*syscall.Stat_t).Rdev
	}
	return os.SameFile(sx, sy)
}

// inFolder says whether a file is one of those in a folder, by any name: hard links and mounts of parts of it too.
func inFolder(path, folder string) bool {
	var want, root unix.Stat_t
	if unix.Stat(path, &want) != nil || unix.Stat(folder, &root) != nil || want.Dev != root.Dev {
		return false
	}
	found := false
	_ = filepath.WalkDir(folder, func(p string, _ os.DirEntry, err error) error {
		var st unix.Stat_t
		if err == nil && unix.Lstat(p, &st) == nil && st.Ino == want.Ino && st.Dev == want.Dev {
			found = true
			return filepath.SkipAll
		}
		return nil
	})
	return found
}

// unescaped undoes the octal escapes of mountinfo and swaps (proc(5)).
func unescaped(s string) string {
	return strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`).Replace(s)
}
