package script

import (
	"bytes"
	"errors"
	"io/fs"
	"strings"
)

// truth is what a condition is; often nobody can tell what a machine would say.
type truth int

const (
	no truth = iota
	yes
	unknown
)

const maxEnvironment = 64 << 10 // bytes of a file of saved variables

// command runs one command. Those that only change looks are nothing.
func (st *state) command(name string, args []string) error {
	switch name {
	case "set":
		st.set(args)
	case "unset":
		for _, a := range args {
			delete(st.vars, a)
		}
	case "load_env":
		st.loadEnvironment(args)
	case "search", "search.fs_uuid", "search.fs_label", "search.file":
		st.search(name, args)
	case "configfile", "source", ".", "extract_entries_configfile":
		return st.another(name, args)
	case "normal":
		menu := st.vars["prefix"] + "/grub.cfg"
		if len(args) > 0 {
			menu = args[0]
		}
		return st.another(name, []string{menu})
	case "blscfg":
		return st.specs(st)
	case "linux", "linux16", "linuxefi":
		return st.kernel(name, args)
	case "initrd", "initrd16", "initrdefi":
		st.initrd(args)
	case "chainloader":
		return st.chain(args)
	case "multiboot", "multiboot2", "ntldr", "freedos", "knetbsd", "kfreebsd", "kopenbsd", "xen_hypervisor":
		return &Fault{Why: "the menu starts something else than a Linux kernel, by " + name, Unsure: true}
	case "boot", "exit", "halt", "reboot":
		st.ended = true
	}
	return nil
}

func (st *state) set(args []string) {
	for _, a := range args {
		if name, value, ok := strings.Cut(a, "="); ok {
			st.vars[name] = value
		}
	}
}

// loadEnvironment reads saved variables: lines after a head, filled up with #.
func (st *state) loadEnvironment(args []string) {
	name := st.vars["prefix"] + "/grubenv"
	for i, a := range args {
		if (a == "--file" || a == "-f") && i+1 < len(args) {
			name = args[i+1]
		}
	}
	p := st.place(name)
	b, err := st.m.Read(p.Device, p.Path)
	if err != nil || len(b) > maxEnvironment || !bytes.HasPrefix(b, []byte("# GRUB Environment Block\n")) {
		return
	}
	for line := range strings.Lines(string(b)) {
		if name, value, ok := strings.Cut(strings.TrimSuffix(line, "\n"), "="); ok && !strings.HasPrefix(line, "#") {
			st.vars[name] = value
		}
	}
}

// search sets a variable to the device that something names. One that finds nothing leaves it as it is.
func (st *state) search(name string, args []string) {
	by := map[string]string{"search.fs_uuid": "uuid", "search.fs_label": "label", "search.file": "file"}[name]
	into, value := "root", ""
	if by != "" && len(args) > 1 {
		into = args[1]
	}
	if by != "" && len(args) > 0 {
		value, args = args[0], nil
	}
	for i := 0; i < len(args); i++ {
		switch a := args[i]; {
		case a == "--fs-uuid" || a == "-u":
			by = "uuid"
		case a == "--label" || a == "-l" || a == "--fs-label":
			by = "label"
		case a == "--file" || a == "-f":
			by = "file"
		case strings.HasPrefix(a, "--set="):
			into = strings.TrimPrefix(a, "--set=")
		case a == "--hint":
			i++
		case !strings.HasPrefix(a, "-") && value == "":
			value = a
		}
	}
	if by == "" {
		by = "file"
	}
	if device, ok := st.m.Search(by, value); ok {
		st.vars[into] = device
		return
	}
	st.boot.Failed = append(st.boot.Failed, "it looks for "+by+" "+value+", which isn't there")
}

// another runs a file. A menu's own file replaces the menu; one that is taken in goes on after it.
func (st *state) another(name string, args []string) error {
	if len(args) == 0 {
		return nil
	}
	p := st.place(args[0])
	if name != "source" && name != "." {
		was := st.entries
		st.entries = nil
		err := st.read(p)
		var f *Fault
		if errors.As(err, &f) && !f.Unsure { // the loader says so and goes on
			st.boot.Failed, err = append(st.boot.Failed, f.Why), nil
		}
		if err == nil && (len(st.entries) > 0 || st.ready()) {
			st.ended = true // the new menu waits and starts its entry
			return nil
		}
		st.entries = was
		return err
	}
	if _, err := st.m.Read(p.Device, p.Path); errors.Is(err, fs.ErrNotExist) {
		return nil // menus take in files of the user's that needn't be there
	}
	return st.read(p)
}

func (st *state) kernel(name string, args []string) error {
	if !st.m.Command(name, st.vars["prefix"]) {
		return fault("the loader can't start a kernel: its module for that, linux.mod, is neither in it nor in %s",
			st.vars["prefix"])
	}
	if len(args) == 0 {
		return nil
	}
	if st.boot.Menu == (Place{}) {
		st.boot.Menu = st.file
	}
	st.boot.Kernel, st.boot.Args, st.boot.Initrds = st.place(args[0]), strings.Join(args[1:], " "), nil
	return nil
}

func (st *state) initrd(args []string) {
	for _, a := range args {
		if len(st.boot.Initrds) < maxInitrds && !strings.HasPrefix(a, "--") {
			st.boot.Initrds = append(st.boot.Initrds, st.place(a))
		}
	}
}

// chain notes another loader: a file, or the first sector of a device (+1).
func (st *state) chain(args []string) error {
	for _, a := range args {
		if strings.HasPrefix(a, "--") {
			continue
		}
		if strings.Contains(a, "+") {
			return &Fault{Why: "the menu starts the first sector of a part", Unsure: true}
		}
		st.boot.Chained = st.place(a)
	}
	return nil
}

// holds says whether a condition's last command succeeds.
func (st *state) holds(list []statement) (truth, error) {
	out := unknown
	for _, x := range list {
		words := st.expand(x.words)
		negated := len(words) > 1 && words[0] == "!"
		if negated {
			words = words[1:]
		}
		if len(words) == 0 {
			out = no
			continue
		}
		var err error
		if out, err = st.succeeds(x, words); err != nil {
			return no, err
		}
		if negated {
			out = not(out)
		}
	}
	return out, nil
}

// succeeds runs a command of a condition and says whether a machine would have it succeed.
func (st *state) succeeds(x statement, words []string) (truth, error) {
	switch words[0] {
	case "[", "test":
		return st.test(words[1:]), nil
	case "true":
		return yes, nil
	case "false":
		return no, nil
	case "search", "search.fs_uuid", "search.fs_label", "search.file":
		was := len(st.boot.Failed)
		st.search(words[0], words[1:])
		failed := len(st.boot.Failed) > was
		st.boot.Failed = st.boot.Failed[:was] // it was only asked
		return known(!failed), nil
	}
	return unknown, st.run(x)
}

// test is the command of that name: comparisons of texts and numbers, files that are there, and, or, not.
func (st *state) test(args []string) truth {
	if n := len(args); n > 0 && args[n-1] == "]" {
		args = args[:n-1]
	}
	for i, a := range args {
		if a == "-o" && i > 0 {
			return either(st.test(args[:i]), st.test(args[i+1:]))
		}
	}
	for i, a := range args {
		if a == "-a" && i > 0 {
			return not(either(not(st.test(args[:i])), not(st.test(args[i+1:]))))
		}
	}
	if len(args) > 0 && args[0] == "!" {
		return not(st.test(args[1:]))
	}
	switch len(args) {
	case 0:
		return no
	case 1:
		return known(args[0] != "")
	case 2:
		return st.about(args[0], args[1])
	case 3:
		return compare(args[0], args[1], args[2])
	}
	return unknown
}

// about is a test of one text: empty or not, or a file that is there.
func (st *state) about(what, value string) truth {
	switch what {
	case "-z":
		return known(value == "")
	case "-n":
		return known(value != "")
	case "-e", "-f", "-s", "-d":
		p := st.place(value)
		b, err := st.m.Read(p.Device, p.Path)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return no
		case err != nil && what != "-e" && what != "-d":
			return unknown
		}
		return known(what != "-s" || len(b) > 0)
	}
	return unknown
}

func compare(a, op, b string) truth {
	switch op {
	case "=", "==":
		return known(a == b)
	case "!=":
		return known(a != b)
	}
	return unknown
}

func known(b bool) truth {
	if b {
		return yes
	}
	return no
}

func not(t truth) truth {
	switch t {
	case yes:
		return no
	case no:
		return yes
	}
	return unknown
}

func either(a, b truth) truth {
	if a == yes || b == yes {
		return yes
	}
	if a == unknown || b == unknown {
		return unknown
	}
	return no
}
