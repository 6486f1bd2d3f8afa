package disk

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// mount is a line of a mount table (proc(5), mountinfo).
type mount struct {
	Mount
	source, kind, options string
	own                   bool // in this process's own namespace
}

// mounts reads the mount tables of all namespaces that can be seen, this process's own first.
func (h Host) mounts() []mount {
	out := h.mountsOf("self", true)
	if h.Root != "" {
		return out
	}
	own, _ := os.Readlink("/proc/self/ns/mnt")
	seen := map[string]bool{own: true}
	for _, pid := range processes() {
		ns, err := os.Readlink("/proc/" + pid + "/ns/mnt")
		if err != nil || seen[ns] {
			continue
		}
		seen[ns] = true
		for _, m := range h.mountsOf(pid, false) {
			if !slices.ContainsFunc(out, func(o mount) bool { return o.Mount == m.Mount && o.source == m.source }) {
				out = append(out, m)
			}
		}
	}
	return out
}

func (h Host) mountsOf(pid string, own bool) []mount {
	b, err := os.ReadFile(h.path("proc/" + pid + "/mountinfo"))
	if err != nil {
		return nil // of this process: Guard.checkUse refuses
	}
	var out []mount
	for line := range strings.Lines(string(b)) { // of any length: layered file systems have long ones
		w := strings.Fields(line)
		sep := slices.Index(w, "-")
		if len(w) < 6 {
			continue
		}
		m := mount{Mount: Mount{w[2], unescaped(w[4]), strings.HasPrefix(w[5]+",", "ro,")}, own: own}
		if sep > 0 && len(w) > sep+3 {
			m.kind, m.source, m.options = w[sep+1], unescaped(w[sep+2]), w[sep+3]
		}
		out = append(out, m)
	}
	return out
}

// processes are the numbers of all processes.
func processes() []string {
	entries, _ := os.ReadDir("/proc")
	var out []string
	for _, e := range entries {
		if _, err := strconv.Atoi(e.Name()); err == nil {
			out = append(out, e.Name())
		}
	}
	return out
}

// mounted are the devices that a mounted file system stands on, or the grounds of the file that it is in.
func (a *atlas) mounted(m mount) (nodes []*node, grounds []Ground) {
	add := func(n *node) {
		if n != nil && !slices.Contains(nodes, n) {
			nodes = append(nodes, n)
			grounds = append(grounds, a.grounds(n, n.whole(), 0)...)
		}
	}
	add(a.byNum[m.Device])
	if len(nodes) == 0 && strings.HasPrefix(m.source, "/") {
		g, n := a.groundsOf(m.source, 0)
		if add(n); n == nil {
			grounds = append(grounds, g...)
		}
	}
	if m.kind == "btrfs" { // it knows its members itself
		for _, n := range a.btrfsMembers(nodes) {
			add(n)
		}
	}
	for o := range strings.SplitSeq(m.options, ",") { // logs and journals on devices of their own
		key, value, _ := strings.Cut(o, "=")
		switch key {
		case "logdev", "rtdev", "journal_path":
			_, n := a.groundsOf(unescaped(value), 0)
			add(n)
		case "journal_dev":
			if d, err := strconv.ParseUint(value, 0, 64); err == nil {
				add(a.byNum[devNumber(d)])
			}
		}
	}
	return nodes, grounds
}

// btrfsMembers are all devices of the file systems that have one of the given ones.
func (a *atlas) btrfsMembers(some []*node) []*node {
	var out []*node
	sets, _ := filepath.Glob(a.h.path("sys/fs/btrfs/*/devices"))
	for _, set := range sets {
		entries, _ := os.ReadDir(set)
		var members []*node
		hit := false
		for _, e := range entries {
			if n := a.byName[e.Name()]; n != nil {
				members = append(members, n)
				hit = hit || slices.Contains(some, n)
			}
		}
		if hit {
			out = append(out, members...)
		}
	}
	return out
}

// claim is one use of some ground.
type claim struct {
	Use
	nodes   []*node // that are used directly; none for a file
	grounds []Ground
}

// claims are all mounts, swap areas and journals.
func (a *atlas) claims() []claim {
	var out []claim
	for _, m := range a.h.mounts() {
		nodes, grounds := a.mounted(m)
		if len(grounds) == 0 {
			continue
		}
		what := m.source
		if len(nodes) > 0 {
			what = nodes[0].name
		}
		c := claim{Use: Use{What: fmt.Sprintf("%s is mounted at %s", what, m.Point), System: m.own && m.Point == "/",
			Point: m.Point, Writes: !m.ReadOnly}, nodes: nodes, grounds: grounds}
		if !m.own {
			c.What += " in another namespace"
		}
		out = append(out, c)
	}
	swaps, _ := os.ReadFile(a.h.path("proc/swaps"))
	for line := range strings.Lines(string(swaps)) {
		w := strings.Fields(line)
		if len(w) < 2 || !strings.HasPrefix(w[0], "/") {
			continue
		}
		path := unescaped(w[0])
		c := claim{Use: Use{What: path + " is in use as swap", System: true, Writes: true}}
		n := a.byName[strings.TrimPrefix(path, "/dev/")]
		if c.grounds, _ = a.groundsOf(path, 0); len(c.grounds) == 0 && n != nil {
			c.grounds = a.grounds(n, n.whole(), 0)
		}
		if _, known := a.groundsOf(path, 0); known != nil {
			n = known
		}
		if n != nil {
			c.nodes, c.What = []*node{n}, n.name+" is in use as swap"
		}
		out = append(out, c)
	}
	journals, _ := os.ReadDir(a.h.path("proc/fs/jbd2"))
	for _, j := range journals { // one on a device of its own has the device's name alone
		if n := a.byName[j.Name()]; n != nil {
			out = append(out, claim{Use: Use{What: n.name + " is the journal of a mounted file system", Writes: true},
				nodes: []*node{n}, grounds: a.grounds(n, n.whole(), 0)})
		}
	}
	return out
}

// uses are all uses of some grounds. own is the device that they are, nil for a file.
func (a *atlas) uses(own *node, grounds []Ground) []Use {
	claims := a.claims()
	below := a.chain(own)
	var out []Use
	direct := func(n *node) (uses []Use) {
		for _, c := range claims {
			if slices.Contains(c.nodes, n) {
				uses = append(uses, c.Use)
			}
		}
		return uses
	}
	for _, n := range a.sorted() {
		if n != own && !meet(a.grounds(n, n.whole(), 0), grounds) {
			continue
		}
		top := n
		if n.parent != nil {
			top = n.parent
		}
		stacked := top.loop || len(top.slaves) > 0
		switch {
		case n == own || n.parent == own && own != nil:
			for _, u := range direct(n) {
				u.Part = n.part
				out = append(out, u)
			}
		case stacked && !below[top] && n == top:
			out = append(out, a.above(own, grounds, n, direct))
		case stacked && !below[top]: // told of with its disk
		default:
			out = append(out, direct(n)...)
		}
	}
	for _, c := range claims { // of files
		if len(c.nodes) == 0 && meet(c.grounds, grounds) {
			out = append(out, c.Use)
		}
	}
	return out
}

// above is the use by a device that stands on the grounds: a loop device, a mapped one, an array.
func (a *atlas) above(own *node, grounds []Ground, n *node, direct func(*node) []Use) Use {
	u := Use{What: "attached as /dev/" + n.name}
	if !n.loop {
		carrier := ""
		for _, p := range append(a.parts(own), own) { // the partition rather than the disk
			if p != nil && slices.Contains(n.slaves, p.name) {
				carrier, u.Part = p.name, p.part
				break
			}
		}
		u.What = fmt.Sprintf("%s carries %s", carrier, n.name)
		if carrier == "" {
			u.What = "it carries " + n.name
		}
		u.Writes = true
	}
	for _, m := range append(a.parts(n), n) {
		for _, d := range direct(m) {
			u.What += ", " + d.What
			u.System, u.Writes = u.System || d.System, u.Writes || d.Writes
			if d.Point != "" {
				u.Point = d.Point
			}
		}
	}
	for _, o := range a.sorted() { // what stands on that again
		if slices.Contains(o.slaves, n.name) {
			above := a.above(n, grounds, o, direct)
			u.What += ", " + above.What
			u.System, u.Writes = u.System || above.System, true
		}
	}
	return u
}

// chain is the devices that a device stands on.
func (a *atlas) chain(n *node) map[*node]bool {
	out := map[*node]bool{}
	var walk func(n *node, layers int)
	walk = func(n *node, layers int) {
		if n == nil || out[n] || layers > maxLayers {
			return
		}
		out[n] = true
		walk(n.parent, layers+1)
		for _, s := range n.slaves {
			walk(a.byName[s], layers+1)
		}
		if n.loop {
			if info := a.loopInfo(n); info != nil && info.Rdevice != 0 {
				walk(a.byNum[devNumber(info.Rdevice)], layers+1)
			}
		}
	}
	walk(n, 0)
	return out
}

// sorted are all devices by name.
func (a *atlas) sorted() []*node {
	out := make([]*node, 0, len(a.byName))
	for _, n := range a.byName {
		out = append(out, n)
	}
	slices.SortFunc(out, func(x, y *node) int { return strings.Compare(x.name, y.name) })
	return out
}

// writers names other processes that have one of the grounds' files, or a device on the way to them, open for writing
// or locked, or serve a file system from it. "" when there is none, or nobody can tell.
func (a *atlas) writers(own *node, grounds []Ground) string {
	if a.h.Root != "" {
		return ""
	}
	keys := map[string]bool{}
	for _, g := range grounds {
		keys[g.Key] = true
	}
	numbers := map[string]bool{}
	for n := range a.chain(own) {
		numbers[n.num] = true
	}
	for _, n := range a.parts(own) {
		numbers[n.num] = true
	}
	for _, pid := range processes() {
		if pid == strconv.Itoa(os.Getpid()) {
			continue
		}
		if why := opens(pid, keys, numbers); why != "" {
			return why
		}
	}
	return locked(keys)
}

// opens says how a process has one of the files or devices open.
func opens(pid string, files, devices map[string]bool) string {
	dir := "/proc/" + pid + "/fd"
	entries, err := os.ReadDir(dir)
	if err != nil {
		return ""
	}
	hit, fuse, writes := false, false, false
	for _, e := range entries {
		var st unix.Stat_t
		if unix.Stat(filepath.Join(dir, e.Name()), &st) != nil {
			continue
		}
		switch st.Mode & unix.S_IFMT {
		case unix.S_IFCHR:
			fuse = fuse || st.Rdev == unix.Mkdev(10, 229)
			continue
		case unix.S_IFREG:
			if !files[fileKey(&st)] {
				continue
			}
		case unix.S_IFBLK:
			if !devices[fmt.Sprintf("%d:%d", unix.Major(st.Rdev), unix.Minor(st.Rdev))] {
				continue
			}
		default:
			continue
		}
		hit = true
		info, _ := os.ReadFile("/proc/" + pid + "/fdinfo/" + e.Name())
		for line := range strings.Lines(string(info)) {
			if flags, ok := strings.CutPrefix(line, "flags:"); ok {
				n, _ := strconv.ParseUint(strings.TrimSpace(flags), 8, 64)
				writes = writes || n&unix.O_ACCMODE != unix.O_RDONLY
			}
		}
	}
	name := readLine("/proc/" + pid + "/comm")
	switch {
	case hit && fuse:
		return fmt.Sprintf("process %s (%s) serves a file system from it", pid, name)
	case writes:
		return fmt.Sprintf("process %s (%s) has it open for writing", pid, name)
	}
	return ""
}

// locked says who holds a lock on one of the files (proc(5), locks).
func locked(files map[string]bool) string {
	b, _ := os.ReadFile("/proc/locks")
	for line := range strings.Lines(string(b)) {
		w := strings.Fields(line)
		if len(w) < 6 || w[1] == "->" {
			continue
		}
		p := strings.Split(w[5], ":")
		if len(p) != 3 || w[4] == strconv.Itoa(os.Getpid()) {
			continue
		}
		major, err1 := strconv.ParseUint(p[0], 16, 32)
		minor, err2 := strconv.ParseUint(p[1], 16, 32)
		if err1 == nil && err2 == nil && files[fmt.Sprintf("file %d:%d:%s", major, minor, p[2])] {
			if w[4] == "-1" || w[4] == "0" {
				return "another program, such as a virtual machine, has locked it"
			}
			return fmt.Sprintf("process %s (%s) has locked it", w[4], readLine("/proc/"+w[4]+"/comm"))
		}
	}
	return ""
}
