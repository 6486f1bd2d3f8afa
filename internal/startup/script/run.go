package script

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"strings"
)

// Machine is what a script finds around it. Devices are named as scripts do, without parentheses: hd0,gpt2.
type Machine interface {
	// Read gives a file's contents: fs.ErrNotExist where there is none, ErrUnread where nobody can tell.
	Read(device, name string) ([]byte, error)
	// Search finds a device by what names it: "uuid", "label" or "file". False where there is none.
	Search(by, value string) (device string, ok bool)
	// Command says whether the loader knows a command, by its own modules or by those beside its menu in prefix.
	Command(name, prefix string) bool
}

// ErrUnread means that a file may be there, on something that isn't read here.
var ErrUnread = errors.New("it is on something that isn't read here")

const (
	maxSteps   = 1 << 16 // commands that are run
	maxCalls   = 16      // functions and files within each other
	maxEntries = 1 << 10
	maxInitrds = 32
	maxValue   = 16 << 10 // bytes of a word
)

// Place is a file on a device.
type Place struct{ Device, Path string }

func (p Place) String() string { return "(" + p.Device + ")" + p.Path }

// Boot is what a script starts when nobody presses a key.
type Boot struct {
	Entry   string // title of the menu's entry; empty when it starts something by itself
	Menu    Place  // the file in which the entry is
	Kernel  Place
	Args    string
	Initrds []Place
	// Chained is another loader that is started; Kernel is empty then.
	Chained Place
	// Failed are searches that found nothing on the way, in words.
	Failed []string
}

// Fault is why a script starts nothing. Unsure means that it may: what decides can't be seen here.
type Fault struct {
	Why    string
	Unsure bool
}

func (f *Fault) Error() string { return f.Why }

// entry is an entry of a menu.
type entry struct {
	title, id string
	body      []statement
	within    []entry // of a submenu
	menu      Place
}

// state runs a script.
type state struct {
	ctx       context.Context
	m         Machine
	vars      map[string]string
	functions map[string][]statement
	entries   []entry
	file      Place
	boot      Boot
	steps     int
	calls     int
	guesses   int // conditions that can't be decided here
	specs     func(st *state) error
	ended     bool // boot was called, or exit
}

// Options say where a script begins.
type Options struct {
	// Config is a script inside the loader itself, run first; Prefix its folder, with a device or on the one that it
	// was loaded from.
	Config, Prefix string
	Loaded         Place  // the loader itself, or the disk that it stands at the head of
	Platform       string // "efi" or "pc"
	// Entries gives the entries of the Boot Loader Specification on a device, in menu order, as scripts.
	Entries func(device string) []Spec
}

// Spec is an entry of the Boot Loader Specification, as a script would write it.
type Spec struct {
	ID, Title, Script string
}

// Run follows what a loader does: its own script, then the menu in its folder. The error is a *Fault, or of the
// context.
func Run(ctx context.Context, m Machine, o Options) (*Boot, error) {
	st := newState(ctx, m, o)
	if o.Config != "" {
		if err := st.text(o.Config); err != nil {
			return nil, err
		}
	}
	if !st.ready() && len(st.entries) == 0 {
		menu := st.place(st.vars["prefix"] + "/grub.cfg")
		var f *Fault
		if err := st.read(menu); errors.As(err, &f) && !f.Unsure && len(st.boot.Failed) > 0 {
			return nil, &Fault{Why: st.boot.Failed[0] + "; " + f.Why}
		} else if err != nil {
			return nil, err
		}
	}
	return st.choose()
}

func newState(ctx context.Context, m Machine, o Options) *state {
	prefix := o.Prefix
	if !strings.HasPrefix(prefix, "(") {
		prefix = "(" + o.Loaded.Device + ")" + prefix
	} else if strings.HasPrefix(prefix, "(,") {
		disk, _, _ := strings.Cut(o.Loaded.Device, ",")
		prefix = "(" + disk + prefix[1:]
	}
	at := prefix[1:max(1, strings.IndexByte(prefix, ')'))]
	st := &state{ctx: ctx, m: m, functions: map[string][]statement{}, vars: map[string]string{
		"prefix": prefix, "root": at, "cmdpath": "(" + o.Loaded.Device + ")" + path.Dir(o.Loaded.Path),
		"grub_platform": o.Platform, "menuentry_id_option": "--id"}}
	for _, f := range strings.Fields("200_final chainloader_bpb ntldr platform_search_hint default_font_path " +
		"all_video_module menuentry_id menuentry_options timeout_style nativedisk") {
		st.vars["feature_"+f] = "y"
	}
	st.specs = func(st *state) error { return st.specifications(o.Entries) }
	return st
}

// ready says that something was told to start.
func (st *state) ready() bool { return st.boot.Kernel.Path != "" || st.boot.Chained.Path != "" }

func fault(format string, a ...any) error { return &Fault{Why: fmt.Sprintf(format, a...)} }

// read runs a file.
func (st *state) read(p Place) error {
	b, err := st.m.Read(p.Device, p.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fault("the loader's menu, %s, isn't there", p)
	case errors.Is(err, ErrUnread):
		return &Fault{Why: fmt.Sprintf("the loader's menu, %s, is where nothing can be read here", p), Unsure: true}
	case err != nil:
		return fault("the loader's menu, %s, can't be read: %v", p, err)
	}
	was := st.file
	st.file = p
	err = st.text(string(b))
	st.file = was
	return err
}

func (st *state) text(text string) error {
	all, err := parse(text)
	if err != nil {
		return fault("%v in %s", err, st.file)
	}
	return st.all(all)
}

// all runs statements one after another.
func (st *state) all(list []statement) error {
	if st.calls++; st.calls > maxNest*maxCalls {
		return fault("the menu calls itself without end")
	}
	defer func() { st.calls-- }()
	for _, x := range list {
		if st.ended {
			return nil
		}
		if st.steps++; st.steps > maxSteps {
			return fault("the menu runs without end")
		}
		if err := st.ctx.Err(); err != nil {
			return err
		}
		if err := st.run(x); err != nil {
			return err
		}
	}
	return nil
}

func (st *state) run(x statement) error {
	if len(x.branches) > 0 {
		return st.branch(x.branches)
	}
	words := st.expand(x.words)
	if len(words) == 0 {
		return nil
	}
	switch words[0] {
	case "function":
		if len(words) > 1 {
			st.functions[words[1]] = x.block
		}
		return nil
	case "menuentry", "submenu":
		return st.entry(words, x.block)
	}
	if body, ok := st.functions[words[0]]; ok {
		return st.all(body)
	}
	return st.command(words[0], words[1:])
}

// branch runs the branch whose condition holds. Where that can't be told all are run, the else last: they mostly differ
// in looks.
func (st *state) branch(all []branch) error {
	for _, b := range all {
		holds := yes
		if b.condition != nil {
			var err error
			if holds, err = st.holds(b.condition); err != nil {
				return err
			}
		}
		if holds == no {
			continue
		}
		if holds == unknown {
			st.guesses++
		}
		if err := st.all(b.body); err != nil || holds == yes {
			return err
		}
	}
	return nil
}

// expand puts variables in. A word that becomes empty and isn't quoted is none.
func (st *state) expand(words []word) []string {
	var out []string
	for _, w := range words {
		text, keep := "", false
		for _, p := range w {
			keep = keep || p.quoted
			if p.variable {
				text += st.vars[p.text]
			} else {
				text += p.text
			}
			if len(text) > maxValue {
				text = text[:maxValue] // a variable that grows by itself
			}
		}
		if text != "" || keep {
			out = append(out, text)
		}
	}
	return out
}

// place takes a name apart: (device)/path, or a path on the root.
func (st *state) place(name string) Place {
	device := st.vars["root"]
	if strings.HasPrefix(name, "(") {
		if n := strings.IndexByte(name, ')'); n > 0 {
			device, name = name[1:n], name[n+1:]
		}
	}
	return Place{Device: device, Path: path.Clean("/" + name)}
}

// entry notes an entry of a menu; a submenu's entries are noted at once, since their script needs nothing that comes
// later.
func (st *state) entry(words []string, body []statement) error {
	if len(st.entries) >= maxEntries || len(words) < 2 {
		return nil
	}
	e := entry{title: words[1], id: words[1], body: body, menu: st.file}
	for i, w := range words {
		if v, ok := strings.CutPrefix(w, "--id="); ok {
			e.id = v
		} else if w == "--id" && i+1 < len(words) {
			e.id = words[i+1]
		}
	}
	if words[0] == "submenu" {
		was, vars := st.entries, maps.Clone(st.vars)
		st.entries = nil
		err := st.all(body)
		e.within, e.body = st.entries, nil
		st.entries, st.vars = was, vars
		if err != nil {
			return err
		}
	}
	st.entries = append(st.entries, e)
	return nil
}

// specifications puts the entries of the Boot Loader Specification into the menu.
func (st *state) specifications(entries func(string) []Spec) error {
	if entries == nil {
		return nil
	}
	device := st.vars["root"]
	if b := st.vars["boot"]; b != "" {
		device = strings.Trim(b, "()")
	}
	for _, s := range entries(device) {
		body, err := parse(s.Script)
		if err != nil {
			return fault("%v in the entry %s", err, s.ID)
		}
		if len(st.entries) < maxEntries {
			st.entries = append(st.entries,
				entry{title: s.Title, id: s.ID, body: body,
					menu: Place{Device: device, Path: "/loader/entries/" + s.ID + ".conf"}})
		}
	}
	return nil
}

// choose runs the entry that starts when nobody presses a key.
func (st *state) choose() (*Boot, error) {
	if !st.ready() {
		if len(st.entries) == 0 {
			return nil, st.nothing("the loader's menu has no entry")
		}
		e := chosen(st.entries, st.vars["default"])
		st.boot.Entry, st.boot.Menu, st.ended = e.title, e.menu, false
		if st.vars["chosen"] = e.id; len(e.body) > 0 {
			if err := st.all(e.body); err != nil {
				return nil, err
			}
		}
		if !st.ready() {
			return nil, st.nothing("the menu's entry " + e.title + " starts nothing")
		}
	}
	return &st.boot, nil
}

// nothing is a fault that is sure only where every condition could be decided and every search found what it looked
// for.
func (st *state) nothing(why string) error {
	if len(st.boot.Failed) > 0 {
		why += ": " + st.boot.Failed[0]
	}
	return &Fault{Why: why, Unsure: st.guesses > 0 && len(st.boot.Failed) == 0}
}

// chosen is the entry that a default names, by number, title or identity, with > between a submenu and its entry.
func chosen(all []entry, name string) entry {
	first, rest, _ := strings.Cut(name, ">")
	pick := all[0]
	for i, e := range all {
		if fmt.Sprint(i) == first || e.title == first || e.id == first {
			pick = e
			break
		}
	}
	if len(pick.within) > 0 {
		return chosen(pick.within, rest)
	}
	return pick
}
