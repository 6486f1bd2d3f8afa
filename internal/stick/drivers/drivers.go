// Package drivers tells which modules of a Linux kernel a piece of hardware asks for, and in which order they are
// loaded. It reads the tables that stand beside the modules (depmod(8), modules.dep(5)): modules.dep, modules.alias,
// modules.softdep and modules.builtin.
package drivers

import (
	"bufio"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
)

const (
	// mostLine and mostLines bound the tables.
	mostLine  = 1 << 20
	mostLines = 1 << 20
	// mostDeep bounds what needs what needs what.
	mostDeep = 64
)

// Tables are what is known of a kernel's modules.
type Tables struct {
	files   map[string]string // by name; below the folder of the kernel's modules
	needs   map[string][]string
	before  map[string][]string // softdep: loaded before, where they are there
	after   map[string][]string
	builtin map[string]bool
	aliases map[string][]alias // by what stands before the first colon; "" for patterns there
}

type alias struct {
	pattern, module string
	plain           string // what the pattern begins with, up to its first wildcard
}

// Name is the name of a module, by its file or as somebody writes it: dashes count as underscores.
func Name(file string) string {
	n := path.Base(file)
	if i := strings.Index(n, ".ko"); i >= 0 {
		n = n[:i]
	}
	return strings.ReplaceAll(n, "-", "_")
}

// Read reads the tables in the folder of a kernel's modules, such as /lib/modules/6.1.0-56-amd64.
func Read(dir fs.FS) (*Tables, error) {
	t := &Tables{files: map[string]string{}, needs: map[string][]string{}, before: map[string][]string{},
		after: map[string][]string{}, builtin: map[string]bool{}, aliases: map[string][]alias{}}
	if err := lines(dir, "modules.dep", func(line string) {
		file, needs, ok := strings.Cut(line, ":")
		if !ok {
			return
		}
		n := Name(file)
		t.files[n] = file
		for _, f := range strings.Fields(needs) {
			t.needs[n] = append(t.needs[n], Name(f))
		}
	}); err != nil {
		return nil, fmt.Errorf("which modules the kernel has can't be told: %w", err)
	}
	for name, each := range map[string]func(string){"modules.alias": t.alias, "modules.softdep": t.soft,
		"modules.builtin": func(line string) { t.builtin[Name(line)] = true }} {
		if err := lines(dir, name, each); err != nil {
			return nil, fmt.Errorf("what the kernel's modules are for can't be told: %w", err)
		}
	}
	return t, nil
}

// lines calls each with the lines of a file, without remarks.
func lines(dir fs.FS, name string, each func(string)) error {
	f, err := dir.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	s := bufio.NewScanner(f)
	s.Buffer(nil, mostLine)
	for n := 0; s.Scan(); n++ {
		if n == mostLines {
			return fmt.Errorf("%s has more than %d lines", name, mostLines)
		}
		if line := strings.TrimSpace(s.Text()); line != "" && line[0] != '#' {
			each(line)
		}
	}
	if err := s.Err(); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}

func (t *Tables) alias(line string) {
	f := strings.Fields(line)
	if len(f) != 3 || f[0] != "alias" {
		return
	}
	key, _, _ := strings.Cut(f[1], ":")
	if strings.ContainsAny(key, "*?[") {
		key = "" // these are looked at for everything
	}
	plain := f[1]
	if i := strings.IndexAny(plain, `*?[\\`); i >= 0 {
		plain = plain[:i]
	}
	t.aliases[key] = append(t.aliases[key], alias{likeLetters(f[1]), Name(f[2]), plain})
}

func (t *Tables) soft(line string) {
	f := strings.Fields(line)
	if len(f) < 3 || f[0] != "softdep" {
		return
	}
	into := map[string][]string(nil)
	for _, w := range f[2:] {
		switch {
		case w == "pre:":
			into = t.before
		case w == "post:":
			into = t.after
		case into != nil:
			into[Name(f[1])] = append(into[Name(f[1])], Name(w))
		}
	}
}

// For gives the modules that are for a piece of hardware, a file system or whatever else the kernel asks for, by the
// alias that it says: "pci:v00008086d00002922…", "fs-ext4", or a module's own name.
func (t *Tables) For(asked string) []string {
	var out []string
	if n := Name(asked); t.files[n] != "" {
		out = append(out, n)
	}
	key, _, _ := strings.Cut(asked, ":")
	letters := likeLetters(asked)
	for _, a := range slices.Concat(t.aliases[key], t.aliases[""]) {
		if strings.HasPrefix(asked, a.plain) && matches(a.pattern, letters) {
			out = append(out, a.module)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// likeLetters has slashes be like any other letter for path.Match.
func likeLetters(s string) string { return strings.ReplaceAll(s, "/", "\x01") }

func matches(pattern, s string) bool {
	ok, err := path.Match(pattern, s)
	return ok && err == nil || pattern == s
}

// Missing is a module that the kernel hasn't got.
type Missing struct {
	Name string
	For  string // the module that needs it; empty for none
}

func (e *Missing) Error() string {
	if e.For != "" {
		return fmt.Sprintf("the kernel has no module %s, which %s needs", e.Name, e.For)
	}
	return fmt.Sprintf("the kernel has no module %s", e.Name)
}

// Order gives the files of modules and of all that they need, in the order in which they are loaded, below the folder
// of the kernel's modules. What is part of the kernel is left out. The error is a *Missing.
func (t *Tables) Order(names ...string) ([]string, error) {
	var out []string
	done := map[string]bool{}
	for _, n := range names {
		if err := t.add(Name(n), "", 0, done, &out); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (t *Tables) add(name, of string, deep int, done map[string]bool, out *[]string) error {
	if done[name] || t.builtin[name] && t.files[name] == "" {
		return nil
	}
	file := t.files[name]
	if file == "" || deep > mostDeep {
		return &Missing{name, of}
	}
	done[name] = true
	for _, n := range t.before[name] {
		if t.files[n] != "" {
			_ = t.add(n, name, deep+1, done, out) // it is wished for, not needed
		}
	}
	for _, n := range slices.Backward(t.needs[name]) { // what is needed first stands last
		if err := t.add(n, name, deep+1, done, out); err != nil {
			return err
		}
	}
	*out = append(*out, file)
	for _, n := range t.after[name] {
		if t.files[n] != "" {
			_ = t.add(n, name, deep+1, done, out)
		}
	}
	return nil
}

// File is the file of a module; empty where the kernel hasn't got it.
func (t *Tables) File(name string) string { return t.files[Name(name)] }

// Files are the files of all modules, by name.
func (t *Tables) Files() []string {
	out := make([]string, 0, len(t.files))
	for _, f := range t.files {
		out = append(out, f)
	}
	slices.Sort(out)
	return out
}
