// Package keys reads keyboard layouts as the system's packages have them (keymaps(5)), and gives them to the kernel.
// Only the keys that type characters are taken over; all others stay as the kernel has them.
package keys

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strconv"
	"strings"
)

// Layout is a keyboard layout that can be chosen.
type Layout struct {
	ID   string // as it is remembered and typed
	Name string // for people
	File string // below Dir
}

// Dir is where the package console-data has its layouts.
const Dir = "usr/share/keymaps/"

// Layouts are those that can be chosen.
var layouts = []Layout{
	{"us", "English (United States)", "i386/qwerty/us.kmap.gz"},
	{"uk", "English (United Kingdom)", "i386/qwerty/uk.kmap.gz"},
	{"de", "German", "i386/qwertz/de-latin1-nodeadkeys.kmap.gz"},
	{"ch-de", "Swiss, German", "i386/qwertz/sg-latin1.kmap.gz"},
	{"ch-fr", "Swiss, French", "i386/qwertz/fr_CH-latin1.kmap.gz"},
	{"fr", "French", "i386/azerty/fr-latin9.kmap.gz"},
	{"be", "Belgian", "i386/azerty/be-latin1.kmap.gz"},
	{"ca", "Canadian French", "i386/qwerty/cf.kmap.gz"},
	{"es", "Spanish", "i386/qwerty/es.kmap.gz"},
	{"latam", "Spanish (Latin America)", "i386/qwerty/la-latin1.kmap.gz"},
	{"it", "Italian", "i386/qwerty/it.kmap.gz"},
	{"pt", "Portuguese", "i386/qwerty/pt-latin1.kmap.gz"},
	{"br", "Portuguese (Brazil)", "i386/qwerty/br-abnt2.kmap.gz"},
	{"nl", "Dutch", "i386/qwerty/nl.kmap.gz"},
	{"dk", "Danish", "i386/qwerty/dk-latin1.kmap.gz"},
	{"no", "Norwegian", "i386/qwerty/no-latin1.kmap.gz"},
	{"se", "Swedish", "i386/qwerty/se-latin1.kmap.gz"},
	{"fi", "Finnish", "i386/qwerty/fi-latin1.kmap.gz"},
	{"is", "Icelandic", "i386/qwerty/is-latin1.kmap.gz"},
	{"pl", "Polish", "i386/qwerty/pl.kmap.gz"},
	{"cz", "Czech", "i386/qwerty/cz-lat2.kmap.gz"},
	{"hu", "Hungarian", "i386/qwertz/hu.kmap.gz"},
	{"si", "Slovene", "i386/qwertz/slovene.kmap.gz"},
	{"hr", "Croatian", "i386/qwertz/croat.kmap.gz"},
	{"tr", "Turkish (Q)", "i386/qwerty/trqu.kmap.gz"},
	{"dvorak", "Dvorak", "i386/dvorak/dvorak.kmap.gz"},
}

// Layouts are those that can be chosen, the kernel's own first.
func Layouts() []Layout { return append([]Layout(nil), layouts...) }

// Find gives the layout with an ID.
func Find(id string) (Layout, bool) {
	for _, l := range layouts {
		if l.ID == id {
			return l, true
		}
	}
	return Layout{}, false
}

// Columns of a Map: without a modifier, with Shift, with AltGr, with both. They are the numbers of the kernel's tables.
const (
	Plain = iota
	Shift
	AltGr
	ShiftAltGr
	columns
)

const (
	// codes is how many key codes there are; those that type characters are among them.
	codes = 128
	// mostFiles, mostLine and mostFile bound what is read: files of one layout, and bytes.
	mostFiles, mostLine, mostFile = 32, 16 << 10, 1 << 20
)

// Key is what a key types: a character, or an accent that waits for one. 0 for nothing.
type Key struct {
	Rune rune
	Dead bool
}

// Map is a layout: what each key types, by its code.
type Map [columns][codes]Key

// ErrLayout means that a layout can't be read.
var ErrLayout = errors.New("the keyboard layout can't be read")

// Read reads a layout with all that it includes.
func Read(root fs.FS, l Layout) (*Map, error) {
	r := &reader{root: root, into: &Map{}}
	if err := r.file(Dir + l.File); err != nil {
		return nil, fmt.Errorf("%w: %s: %w", ErrLayout, l.ID, err)
	}
	return r.into, nil
}

// Files are the files that a layout consists of.
func Files(root fs.FS, l Layout) ([]string, error) {
	r := &reader{root: root, into: &Map{}}
	if err := r.file(Dir + l.File); err != nil {
		return nil, fmt.Errorf("%w: %s: %w", ErrLayout, l.ID, err)
	}
	return r.read, nil
}

// reader reads the files of a layout.
type reader struct {
	root    fs.FS
	into    *Map
	read    []string
	tables  []int  // of the columns of a line without modifiers: the kernel's tables in their order
	charset string // of characters that are given as numbers
}

func (r *reader) file(name string) error {
	if len(r.read) >= mostFiles {
		return fmt.Errorf("it includes more than %d files", mostFiles)
	}
	r.read = append(r.read, name)
	f, err := r.root.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	in := io.Reader(f)
	if strings.HasSuffix(name, ".gz") {
		if in, err = gzip.NewReader(f); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	b, err := io.ReadAll(io.LimitReader(in, mostFile))
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	s := bufio.NewScanner(bytes.NewReader(bytes.ReplaceAll(b, []byte("\\\n"), []byte(" "))))
	s.Buffer(nil, mostLine)
	for n := 1; s.Scan(); n++ {
		if err := r.line(name, s.Text()); err != nil {
			return fmt.Errorf("%s, line %d: %w", name, n, err)
		}
	}
	if err := s.Err(); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}

// line takes a line over. What isn't about keys that type characters is left to the kernel.
func (r *reader) line(file, line string) error {
	line = strings.TrimSpace(line)
	switch {
	case line == "" || line[0] == '#' || line[0] == '!':
		return nil
	case strings.HasPrefix(line, "include"):
		_, name, _ := strings.Cut(line, `"`)
		name, _, ended := strings.Cut(name, `"`)
		if !ended {
			return errors.New("it doesn't say which file it includes")
		}
		found, err := r.find(path.Dir(file), name)
		if err != nil {
			return err
		}
		return r.file(found)
	case strings.HasPrefix(line, "charset"):
		r.charset = strings.Trim(strings.TrimSpace(strings.TrimPrefix(line, "charset")), `"`)
	case strings.HasPrefix(line, "keymaps"):
		return r.setTables(strings.TrimPrefix(line, "keymaps"))
	case strings.Contains(line, "keycode"):
		return r.key(line)
	}
	return nil
}

// find looks for an included file where the package has such files.
func (r *reader) find(dir, name string) (string, error) {
	for _, d := range []string{dir, Dir + "i386/include", Dir + "include", Dir + "i386/qwerty", Dir + "i386/qwertz",
		Dir + "i386/azerty"} {
		for _, end := range []string{"", ".gz", ".inc.gz", ".kmap.gz", ".inc", ".kmap"} {
			p := path.Join(d, name) + end
			if !fs.ValidPath(p) {
				continue
			}
			if st, err := fs.Stat(r.root, p); err == nil && st.Mode().IsRegular() {
				return p, nil
			}
		}
	}
	return "", fmt.Errorf("%s, which it includes, is missing", name)
}

// setTables reads which tables the columns of lines are for, such as 0-2,4,6.
func (r *reader) setTables(s string) error {
	r.tables = nil
	for part := range strings.SplitSeq(strings.TrimSpace(s), ",") {
		from, to, ranged := strings.Cut(strings.TrimSpace(part), "-")
		a, err := strconv.ParseUint(from, 10, 8)
		b := a
		if err == nil && ranged {
			b, err = strconv.ParseUint(to, 10, 8)
		}
		if err != nil || a > b {
			return fmt.Errorf("it has tables %q", s)
		}
		for t := a; t <= b; t++ {
			r.tables = append(r.tables, int(t))
		}
	}
	return nil
}

// typing says whether a key types characters on the keyboards of PCs.
func typing(code int) bool {
	switch {
	case code >= 2 && code <= 13, code >= 16 && code <= 27, code >= 30 && code <= 41, code >= 43 && code <= 53:
		return true
	}
	return code == 57 || code == 86 || code == 89 || code == 124
}

// weights are the numbers of modifiers.
var weights = map[string]int{"plain": 0, "shift": 1, "altgr": 2, "control": 4, "alt": 8, "shiftl": 16, "shiftr": 32,
	"ctrll": 64, "ctrlr": 128, "capsshift": 256}

// key takes a line over such as "altgr keycode 16 = at".
func (r *reader) key(line string) error {
	head, names, found := strings.Cut(line, "=")
	before, number, said := strings.Cut(head, "keycode")
	code, err := strconv.Atoi(strings.TrimSpace(number))
	if !found || !said || err != nil || code < 0 || code > 255 {
		return fmt.Errorf("%q can't be read", line)
	}
	names, _, _ = strings.Cut(names, "#")
	keys := strings.Fields(names)
	if code >= codes || !typing(code) || len(keys) == 0 {
		return nil
	}
	if mods := strings.Fields(before); len(mods) > 0 {
		table := 0
		for _, m := range mods {
			w, known := weights[strings.ToLower(m)]
			if !known {
				return fmt.Errorf("no modifier is called %q", m)
			}
			table |= w
		}
		if table < columns {
			r.into[table][code] = r.meant(keys[0])
		}
		return nil
	}
	r.implied(code, keys)
	return nil
}

// implied fills a key's columns from a line without modifiers: where it names but one, all follow from that
// (keymaps(5), "COMPLETE KEYCODE DEFINITIONS").
func (r *reader) implied(code int, keys []string) {
	tables := r.tables
	if tables == nil {
		tables = []int{Plain, Shift, AltGr, ShiftAltGr}
	}
	if len(keys) == 1 {
		k := r.meant(keys[0])
		upper := k
		if letter := k.Rune < 0x80 && !k.Dead && isLetter(k.Rune) || strings.HasPrefix(keys[0], "+"); letter {
			upper.Rune = upperOf(k.Rune)
		}
		for _, t := range tables {
			switch t {
			case Plain, AltGr:
				r.into[t][code] = k
			case Shift, ShiftAltGr:
				r.into[t][code] = upper
			}
		}
		return
	}
	for i, name := range keys {
		if i < len(tables) && tables[i] < columns {
			r.into[tables[i]][code] = r.meant(name)
		}
	}
}
