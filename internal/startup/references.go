package startup

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"twinshelf/internal/units"
)

const (
	maxConfig  = 1 << 20 // bytes of a configuration file
	maxConfigs = 200
)

// configs are the plain files by which systems find their parts, by where a file system may stand in the tree:
// fstab(5), the Boot Loader Specification, and the configuration of common loaders. * stands for any name.
var configs = []string{
	"etc/fstab", "etc/crypttab", "etc/kernel/cmdline", "etc/default/grub", "etc/initramfs-tools/conf.d/resume",
	"boot/grub/grub.cfg", "grub/grub.cfg", "boot/grub2/grub.cfg", "grub2/grub.cfg", "boot/extlinux/extlinux.conf",
	"extlinux/extlinux.conf", "syslinux.cfg", "boot/syslinux/syslinux.cfg",
	"loader/loader.conf", "loader/entries/*", "boot/loader/entries/*", "EFI/*/grub.cfg",
}

var (
	tagged = regexp.MustCompile(`\b(UUID|PARTUUID|LABEL|PARTLABEL)=["']?([^\s"',;]+)`)
	byPath = regexp.MustCompile(`/dev/disk/by-(uuid|partuuid|label|partlabel)/([^\s"',;]+)`)
	search = regexp.MustCompile(`--fs-uuid((?:\s+--\S+)*)\s+(?:root\s+)?([0-9A-Fa-f][0-9A-Fa-f-]+)`)
	dotted = regexp.MustCompile(`\bsearch\.fs_uuid\s+([0-9A-Fa-f][0-9A-Fa-f-]+)`)
	mapper = regexp.MustCompile(`/dev/mapper/[^\s"',;]+`)
	device = regexp.MustCompile(`/dev/(?:[sv]d[a-z]+|hd[a-z]|nvme\d+n\d+|mmcblk\d+)(?:p?\d+)\b`)
)

// reference is a mention of a part.
type reference struct {
	kind, value string // as tagged: UUID and so on; "device" for a kernel's name
	line        string
}

// mentions finds what a configuration file refers to.
func mentions(text string) []reference {
	var out []reference
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "#") {
			continue
		}
		add := func(kind, value string) {
			r := reference{kind: strings.ToUpper(kind), value: strings.TrimRight(value, "\\"), line: line}
			if !slices.ContainsFunc(out, func(o reference) bool {
				return o.kind == r.kind &&
					strings.EqualFold(o.value, r.value)
			}) && !strings.ContainsAny(r.value, "$`{}") {
				out = append(out, r)
			}
		}
		for _, m := range tagged.FindAllStringSubmatch(line, -1) {
			add(m[1], m[2])
		}
		for _, m := range byPath.FindAllStringSubmatch(line, -1) {
			add(m[1], m[2])
		}
		for _, m := range search.FindAllStringSubmatch(line, -1) {
			add("UUID", m[2])
		}
		for _, m := range dotted.FindAllStringSubmatch(line, -1) {
			add("UUID", m[1])
		}
		for _, m := range device.FindAllString(line, -1) {
			add("device", m)
		}
		for _, m := range mapper.FindAllString(line, -1) {
			add("mapper", m)
		}
	}
	return out
}

// vital says whether a system won't start without what the line names: its root, or what a loader searches for.
func (r reference) vital(file string) bool {
	if path.Base(file) == "fstab" {
		f := strings.Fields(r.line)
		return len(f) > 1 && (f[1] == "/" || f[1] == "/usr")
	}
	return strings.Contains(r.line, "root=") || strings.Contains(r.line, "search")
}

// swapEntry is what fstab(5) calls a swap area in its third field.
const swapEntry = "swap"

// mounted says whether a system stops on its way up when what the line names isn't there: it is mounted at every start.
func (r reference) mounted(file string) bool {
	f := strings.Fields(r.line)
	return path.Base(file) == "fstab" && len(f) > 2 && strings.HasPrefix(f[1], "/") && f[2] != swapEntry &&
		!r.optional()
}

// optional says that a line lets the system start without the part.
func (r reference) optional() bool {
	return strings.Contains(r.line, "nofail") || strings.Contains(r.line, "noauto")
}

// references looks whether what configuration files refer to is there.
func (c *checker) references() {
	resolved, read := 0, 0
	for _, x := range slices.Concat(c.parts, c.inner) {
		p := &x
		if p.files == nil {
			continue
		}
		for _, name := range expandAll(p.files, configs) {
			b, err := p.read(name, maxConfig)
			if errors.Is(err, fs.ErrNotExist) {
				continue
			}
			if err != nil {
				c.add(Finding{Way: References, Verdict: Doubt,
					Says: fmt.Sprintf("%s on %s can't be read", name, p.where()), Evidence: err.Error()})
				continue
			}
			read++
			for _, r := range mentions(string(b)) {
				if c.resolve(p, name, r) {
					resolved++
				}
			}
		}
	}
	if read > 0 && resolved > 0 {
		c.add(Finding{Way: References, Verdict: Good, Says: "what the configuration refers to by identity is there",
			Evidence: fmt.Sprintf("%s in %s", units.Plural(resolved, "reference"), units.Plural(read, "file"))})
	}
}

// expandAll lists the files that may be there, of names of which a part may stand for any.
func expandAll(tree fs.FS, names []string) []string {
	var out []string
	for _, c := range names {
		if !strings.Contains(c, "*") {
			out = append(out, c)
			continue
		}
		before, after, _ := strings.Cut(c, "*")
		entries, _ := fs.ReadDir(tree, strings.TrimSuffix(before, "/"))
		for _, e := range entries[:min(len(entries), maxConfigs)] {
			out = append(out, before+e.Name()+after)
		}
	}
	return out
}

// resolve says whether a reference leads to a part of this disk, and files a finding when it leads nowhere.
func (c *checker) resolve(on *part, file string, r reference) bool {
	where := fmt.Sprintf("%s on %s", file, on.where())
	for _, p := range slices.Concat(c.parts, c.inner) {
		if r.kind != "DEVICE" && c.named(&p, r) {
			c.judge(&p, file, r)
			return true
		}
	}
	if r.kind == "MAPPER" { // in a volume group, or behind a lock
		if r.vital(file) {
			c.add(Finding{Way: References, Verdict: Doubt, Aside: c.aside(file),
				Says: where + " names a root that can't be looked into, " + r.value, Evidence: r.line})
		}
		return false
	}
	if r.kind == "DEVICE" {
		if r.vital(file) {
			c.add(Finding{Way: References, Verdict: Doubt, Aside: c.aside(file),
				Says:     where + " names a part by the name that the old machine's kernel gave it, " + r.value,
				Evidence: r.line})
		}
		return false
	}
	if slices.ContainsFunc(c.o.Elsewhere, func(id string) bool { return strings.EqualFold(id, r.value) }) {
		c.add(Finding{Way: References, Verdict: Doubt, Aside: true,
			Says: fmt.Sprintf("%s refers to a part of another disk of the machine", where), Evidence: r.line})
		return false
	}
	f := Finding{Way: References, Verdict: Doubt, Aside: true,
		Says: fmt.Sprintf("%s refers to %s=%s, which isn't on this disk", where, r.kind, r.value), Evidence: r.line}
	for id, title := range c.o.Gone {
		if strings.EqualFold(id, r.value) {
			f.Says = fmt.Sprintf("%s refers to %s, which is left out", where, title)
		}
	}
	switch {
	case path.Base(file) == "fstab" && r.vital(file) && !r.optional():
		f.Verdict, f.Aside = Bad, false
	case path.Base(file) == "fstab":
		f.Aside = !r.mounted(file)
	case r.vital(file) && !r.optional():
		f.Aside = c.followed // what counts is the menu that was followed
	}
	c.add(f)
	return false
}

// judge says so where the root that a reference names can't be read here: then nobody knows whether the system in it is
// whole.
func (c *checker) judge(p *part, file string, r reference) {
	if p.volume == nil || p.volume.Info().Opaque == "" || !r.vital(file) {
		return
	}
	says := fmt.Sprintf("%s, which is named as the root, holds %s, and that isn't read here", p.where(),
		p.volume.Info().Kind)
	if !slices.ContainsFunc(c.report.Findings, func(f Finding) bool { return f.Says == says }) {
		c.add(Finding{Way: References, Verdict: Doubt, Aside: c.aside(file), Says: says, Evidence: r.line})
	}
}

// aside says whether what a file names is no matter: a menu was followed, and it isn't this one or has been judged by
// itself.
func (c *checker) aside(file string) bool { return c.followed && path.Base(file) != "fstab" }

// named says whether a reference means a part.
func (c *checker) named(p *part, r reference) bool {
	switch r.kind {
	case "MAPPER":
		return p.path(r.value)
	case "PARTUUID":
		if p.inner != "" {
			return false
		}
		return strings.EqualFold(c.t.PartUUID(p.Part), r.value)
	case "PARTLABEL":
		return p.inner == "" && p.Name == r.value
	}
	if p.volume == nil {
		return false
	}
	if info := p.volume.Info(); r.kind == "LABEL" {
		return info.Label == r.value
	} else {
		return strings.EqualFold(info.ID, r.value)
	}
}
