package startup

import (
	"cmp"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"twinshelf/internal/startup/script"
	"twinshelf/internal/table"
)

// specEntry is an entry of the Boot Loader Specification (UAPI Group Specifications, "Type #1" and "Type #2").
type specEntry struct {
	on                       *part
	id, title, version, sort string
	kernel, program, options string
	initrds                  []string
	tries                    bool // none are left: it comes last
}

// specEntries are the entries on a part, the one that is tried first at the head.
func (c *checker) specEntries(p *part) []specEntry {
	var out []specEntry
	if p == nil || p.files == nil {
		return nil
	}
	all, _ := fs.ReadDir(p.files, "loader/entries")
	for _, e := range all[:min(len(all), maxConfigs)] {
		id, ok := strings.CutSuffix(e.Name(), ".conf")
		if !ok {
			continue
		}
		if b, err := p.read("loader/entries/"+e.Name(), maxConfig); err == nil {
			out = append(out, parseEntry(p, id, string(b)))
		}
	}
	programs, _ := fs.ReadDir(p.files, "EFI/Linux")
	for _, e := range programs[:min(len(programs), maxConfigs)] {
		name := "EFI/Linux/" + e.Name()
		if !strings.EqualFold(path.Ext(name), ".efi") {
			continue
		}
		// A loader shows only those that say of which system they are.
		if program, err := c.loader(p, name); err == nil &&
			strings.Contains(string(program.Section(".osrel")), "NAME=") {
			out = append(out, specEntry{on: p, id: e.Name(), title: e.Name(), version: e.Name(), program: "/" + name})
		}
	}
	return out
}

// there says whether what an entry starts is on its part: a loader leaves out the entries of which it isn't.
func (e specEntry) there() bool {
	starts := cmp.Or(e.program, e.kernel)
	_, err := e.on.resolve(relative(starts))
	return err == nil && starts != ""
}

// parseEntry reads lines of a key and a value.
func parseEntry(p *part, id, text string) specEntry {
	name, counter, counted := strings.Cut(id, "+") // name+left-done: tries of an entry that is new
	left, _, _ := strings.Cut(counter, "-")
	e := specEntry{on: p, id: name, title: name, tries: counted && left == "0"}
	for line := range strings.Lines(text) {
		key, value, _ := strings.Cut(strings.TrimSpace(line), " ")
		if k, v, tabbed := strings.Cut(strings.TrimSpace(line), "\t"); tabbed && len(k) < len(key) {
			key, value = k, v
		}
		value = strings.TrimSpace(value)
		switch key {
		case "title":
			e.title = value
		case "version":
			e.version = value
		case "sort-key":
			e.sort = value
		case "linux":
			e.kernel = value
		case "efi":
			e.program = value
		case "initrd":
			e.initrds = append(e.initrds, strings.Fields(value)...)
		case "options":
			e.options = strings.TrimSpace(e.options + " " + value)
		}
	}
	return e
}

// order sorts entries as the specification says: those with tries left first, with sort keys before those without, then
// the newest.
func order(all []specEntry) {
	slices.SortStableFunc(all, func(a, b specEntry) int {
		if a.tries != b.tries {
			return map[bool]int{true: 1, false: -1}[a.tries]
		}
		if (a.sort == "") != (b.sort == "") {
			return map[bool]int{true: 1, false: -1}[a.sort == ""]
		}
		if a.sort != "" && a.sort != b.sort {
			return cmp.Compare(a.sort, b.sort)
		}
		return cmp.Or(-natural(a.version, b.version), -natural(a.id, b.id))
	})
}

// natural compares texts with the numbers in them as numbers.
func natural(a, b string) int {
	digits := func(s string) int {
		return len(s) - len(strings.TrimLeft(s, "0123456789"))
	}
	for a != "" && b != "" {
		n, m := digits(a), digits(b)
		if n > 0 && m > 0 {
			x, err1 := strconv.ParseUint(a[:n], 10, 64)
			y, err2 := strconv.ParseUint(b[:m], 10, 64)
			if err1 == nil && err2 == nil && x != y {
				return cmp.Compare(x, y)
			}
			a, b = a[n:], b[m:]
			continue
		}
		if a[0] != b[0] {
			return cmp.Compare(a[0], b[0])
		}
		a, b = a[1:], b[1:]
	}
	return cmp.Compare(len(a), len(b))
}

// specs are the entries on a device as scripts, for a loader that takes them into its menu.
func (c *checker) specs(device string) []script.Spec {
	all := c.specEntries(c.partOf(device))
	order(all)
	var out []script.Spec
	for _, e := range all {
		if e.kernel == "" {
			continue
		}
		text := "linux " + e.kernel + " " + e.options + "\n"
		if len(e.initrds) > 0 {
			text += "initrd " + strings.Join(e.initrds, " ") + "\n"
		}
		out = append(out, script.Spec{ID: e.id, Title: e.title, Script: text})
	}
	return out
}

// entries follows a loader that has no menu of its own but the entries on the EFI system part and on one for more of
// them.
func (c *checker) entries(way string, esp *part, name string) {
	all := c.specEntries(esp)
	for i := range c.parts {
		if p := &c.parts[i]; p.Type == table.TypeLinuxExtBoot {
			all = append(all, c.specEntries(p)...)
		}
	}
	missing := ""
	all = slices.DeleteFunc(all, func(e specEntry) bool {
		if e.there() {
			return false
		}
		missing = fmt.Sprintf("; loader/entries/%s.conf starts %s, which isn't there", e.id,
			cmp.Or(e.program, e.kernel, "nothing"))
		return true
	})
	order(all)
	if len(all) == 0 {
		c.followed = true
		c.add(Finding{Way: way, Verdict: Bad,
			Says:     fmt.Sprintf("\\%s finds nothing to start: there are no entries for it", backslashed(name)),
			Evidence: "neither in loader/entries nor in EFI/Linux" + missing})
		return
	}
	if missing != "" {
		c.add(Finding{Way: way, Verdict: Doubt, Aside: true, Says: "an entry is left out by the loader" + missing})
	}
	e := all[0]
	if wanted := c.wantedEntry(esp); wanted != "" {
		if i := slices.IndexFunc(all, func(e specEntry) bool { return matches(wanted, e.id) }); i >= 0 {
			e = all[i]
		}
	}
	where := fmt.Sprintf("loader/entries/%s.conf on part %d", e.id, e.on.Number)
	device := c.deviceOf(e.on)
	switch {
	case e.program != "":
		c.chained(way, script.Place{Device: device, Path: path.Clean("/" + e.program)})
	default:
		b := &script.Boot{Kernel: script.Place{Device: device, Path: path.Clean("/" + e.kernel)}, Args: e.options}
		for _, r := range e.initrds {
			b.Initrds = append(b.Initrds, script.Place{Device: device, Path: path.Clean("/" + r)})
		}
		c.boots(way, where, b)
	}
}

// wantedEntry is the pattern by which the loader's settings name the entry to start.
func (c *checker) wantedEntry(esp *part) string {
	b, err := esp.read("loader/loader.conf", maxConfig)
	if err != nil {
		return ""
	}
	for line := range strings.Lines(string(b)) {
		if f := strings.Fields(line); len(f) > 1 && f[0] == "default" {
			return f[1]
		}
	}
	return ""
}

func matches(pattern, id string) bool {
	for _, name := range []string{id, id + ".conf"} {
		if ok, err := path.Match(pattern, name); err == nil && ok {
			return true
		}
	}
	return false
}
