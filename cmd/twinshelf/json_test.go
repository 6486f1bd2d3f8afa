package main

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/minio/minio-go/v7"

	"twinshelf/internal/demo"
	"twinshelf/internal/testkit"
)

// jsonRuns are calls of every command with --json, in an order in which each has what it needs. DIR is a folder of the
// test, ELM another shelf, SEALED a sealed one and PAPER the recovery key of the locked machine. A call that begins
// with "!" fails, one with "~" is about that one, one with "@" about STORED, which lies in object storage.
var jsonRuns = []string{
	"bench", "health", "health E6F5",
	"capture C3E9 --plan", "capture C3E9", "rescue C3E9 --plan", "rescue C3E9",
	"capture 14F6 --machine 'Booking office' --plan --as-if-cut all --key-file PAPER",
	"dates", "dates 'Ticket desk'",
	"list 'Ticket desk'", "list 'Ticket desk' 3:Users", "list 20261002 3:Users/Maud/timetable-winter.txt",
	"list 20261002 3:Users/Maud/timetable-winter.txt --dates", "list 'Slipway crane' 1:srv/crane",
	"find timetable", "compare 20261002 'Ticket desk'", "take 'Ticket desk' 3:Users --to DIR/taken",
	"prove 'Harbour kiosk'",
	"restore 'Ticket desk' 7731 --plan", "copy C3E9 7731 --plan", "rehearse 'Harbour kiosk' DIR/rehearsed.img",
	"restore 'Harbour kiosk' 7731 --confirm 7731", "prove 'Harbour kiosk' --target 7731",
	"ready lay 7731 --part 512MiB:FAT32:START --plan", "ready lay 7731 --part 2GB:ext4:START --confirm 7731",
	"ready add 7731 --part 1GB:exFAT:FERRY --confirm 7731", "ready change 7731 2 --name PIER --confirm 7731",
	"ready back 7731 --list", "ready back 7731 --plan", "ready back 7731 --confirm 7731",

	"ready check A0D2 --plan", "ready check A0D2",
	"ready erase 7731 --how quick --plan", "ready erase 7731 --how quick --confirm 7731",
	"shelf show", "shelf known", "shelf parity 4", "shelf rule 'one a day for 5 weeks' --floor 1",
	"shelf rule 'every one for ever' --machine Weighbridge", "shelf thin",
	"shelf keep 20261002 --note why", "shelf journal", "shelf room --plan", "shelf check --full", "shelf reindex",
	"draw growth --to DIR/growth.svg", "draw history --to DIR/history.pdf", "shelf discard 20260827 --plan",
	"shelf discard 20260827 --confirm Weighbridge",
	"routine new 'Ticket desk, evenings' 40B1 --machine 'Ticket desk' --when 'every day at 18:30' --plan",
	"routine new 'Ticket desk, evenings' 40B1 --machine 'Ticket desk' --when 'every day at 18:30'",
	"routine run Ticket", "routine list", "routine show Ticket", "routine pause Ticket --until 2030-01-07",
	"routine resume Ticket", "routine export Ticket", "routine import DIR/routine.txt --plan",
	"routine foresee Ticket", "routine mail --server mail.ferry.example --from shelf@ferry.example --user shelf " +
		"--password 'file /etc/twinshelf/mail.pass'", "routine passphrase Ticket --passphrase-file DIR/first",
	"routine new Kiosk C3E9 --machine 'Harbour kiosk' --do capture --do thin --keep 'one a year for ever; never " +
		"fewer than 1'", "routine run Kiosk",
	"routine new Spare C3E9 --spare 7731 --do copy --confirm HH1-90C2E7731",
	"routine confirm Spare --confirm HH1-90C2E7731", "routine show Spare",
	"routine import DIR/routine.txt", "routine remove Ticket", "routine due", "routine service",
	"shelf room", "shelf new ELM --name Elm", "shelf carry ELM 'Ticket desk'", "shelf compare ELM", "shelf retire",
	"draw disk 'Ticket desk' --to DIR/drawn.svg", "draw map 'Ticket desk' --to DIR/map.svg",
	"draw bench --to DIR/bench.svg", "draw changes 20261002 'Ticket desk' --to DIR/changes.svg",
	"draw rate 'Harbour kiosk' --to DIR/rate.svg", "shelf list --to DIR/list.pdf", "stick base --to DIR/base.tsb",
	"stick card --to DIR/card.pdf",
	"stick files DIR/base.tsb --to DIR/start --program BUSYBOX",
	"stick make DIR/base.tsb 7731 --program BUSYBOX --plan",
	"labels 7731 'Ticket desk' --to DIR/labels.pdf", "job list", "job show 'Harbour kiosk'",
	"job use 'Harbour kiosk'", "job look C3E9",
	"job note 'Harbour kiosk' 'the fan was replaced'",
	"job change 'Harbour kiosk' --contact mornings", "job use 'Harbour kiosk'", "job sheet --to DIR/sheet.pdf",
	"job shop --name Ternhouse --address 'Quay 4' --technician Tam --numbers YYYY-NNN --paper A4 --dates D.M.Y " +
		"--labels A4-24 --label-offset 0.5,-1", "job close",
	"job show 'Harbour kiosk'",
	"job reopen 'Harbour kiosk'", "job new --machine Weighbridge --customer 'Signe Arvo' --maker Ternworks --model " +
		"W2 --serial T-1998 --asked why --technician Tam",
	"shelf retire --off", "demo --keep DIR/again --only-make", "demo --keep DIR/walked --walk",
	"~shelf new SEALED --name Ash --sealed",
	"~capture 14F6 --machine 'Booking office' --as-if-cut all --key-file PAPER",
	"~shelf unlocking 'Booking office' --key-file PAPER", "~shelf passphrase list",
	"~shelf passphrase add purser --new-passphrase-file DIR/second",
	"~shelf passphrase change purser --new-passphrase-file DIR/third", "~shelf passphrase withdraw purser",
	"shelf new STORED --name Ash --passphrase-file DIR/first", "@shelf protection", "@shelf retain --days 1",
	"shelf bring-back STORED", "shelf line STORED --rate 2MB --within '8:00 to 18:00' --month 20GB",
	"door line DIR/desk.pub --right add",
	"!dates Nobody", "!restore 'Ticket desk'", "!ready erase 7731 --how quick --confirm 9", "!nonsense",
}

// shape is what a JSON value looks like: "text", "number" or "yes or no"; a list has the shape of its items.
type shape struct {
	kind    string
	members map[string]*shape // of an object
	names   []string          // of its members, in their order
	item    *shape            // of a list; nil while none was seen
	seen    int               // objects
	times   map[string]int    // how often each member was there
}

func (s *shape) take(t *testing.T, where string, v any) {
	t.Helper()
	kind := map[bool]string{true: "object"}[false]
	switch x := v.(type) {
	case nil:
		t.Errorf("%s is null", where)
		return
	case string:
		kind = "text"
		if strings.HasPrefix(x, "0001-") {
			t.Errorf("%s is of the year 1", where)
		}
	case float64:
		kind = "number"
	case bool:
		kind = "yes or no"
	case []any:
		kind = "list"
		for i, e := range x {
			if s.item == nil {
				s.item = &shape{}
			}
			s.item.take(t, fmt.Sprintf("%s[%d]", where, i), e)
		}
	case ordered:
		kind = "object"
		s.seen++
		if s.members == nil {
			s.members, s.times = map[string]*shape{}, map[string]int{}
		}
		for i, name := range x.names {
			if !regexp.MustCompile(`^[a-z][a-z0-9_]*$`).MatchString(name) && !x.free {
				t.Errorf("%s has a member %q", where, name)
			}
			if s.members[name] == nil {
				s.members[name] = &shape{}
				s.names = append(s.names, name)
			}
			s.times[name]++
			s.members[name].take(t, where+"."+name, x.values[i])
		}
	}
	if s.kind != "" && s.kind != kind {
		t.Errorf("%s is a %s here and a %s elsewhere", where, kind, s.kind)
	}
	s.kind = kind
}

// ordered is an object with its members in their order. The names of a free one are data.
type ordered struct {
	names  []string
	values []any
	free   bool
}

// decode reads one JSON value.
func decode(t *testing.T, d *json.Decoder) any {
	t.Helper()
	tok, err := d.Token()
	if err != nil {
		t.Fatal(err)
	}
	switch tok {
	case json.Delim('{'):
		o := ordered{}
		for d.More() {
			name, err := d.Token()
			if err != nil {
				t.Fatal(err)
			}
			o.names, o.values = append(o.names, name.(string)), append(o.values, decode(t, d))
		}
		_, err = d.Token()
		if err != nil {
			t.Fatal(err)
		}
		return o
	case json.Delim('['):
		list := []any{}
		for d.More() {
			list = append(list, decode(t, d))
		}
		if _, err = d.Token(); err != nil {
			t.Fatal(err)
		}
		return list
	}
	return tok
}

// lines describe a shape, a member on each; used notes their names.
func (s *shape) lines(indent string, used map[string]bool) (out []string) {
	for _, n := range s.names {
		m := s.members[n]
		used[n] = true
		label := n
		if s.times[n] < s.seen {
			label += "?"
		}
		kind, below := m.kind, m
		for kind == "list" {
			label += "[]"
			if below.item == nil {
				kind = ""
				break
			}
			below = below.item
			kind = below.kind
		}
		if kind == "object" {
			kind = ""
		}
		out = append(out, strings.TrimRight(fmt.Sprintf("%-40s %s", indent+label, kind), " "))
		if below != nil && below.kind == "object" {
			out = append(out, below.lines(indent+"  ", used)...)
		}
	}
	return out
}

// words splits a call as a shell does, as far as these need it.
func words(call string) []string {
	var out []string
	for _, m := range regexp.MustCompile(`'([^']*)'|(\S+)`).FindAllStringSubmatch(call, -1) {
		out = append(out, m[1]+m[2])
	}
	return out
}

// TestAnswers runs every command with --json, and holds docs/json.md to what they say. TWINSHELF_UPDATE=1 writes it
// anew.
func TestAnswers(t *testing.T) {
	p := newPlace(t)
	shapes, order := map[string]*shape{}, []string{}
	sealed := filepath.Join(p.dir, "sealed")
	busybox, err := testkit.Path("busybox") // a program that needs no libraries
	if err != nil {
		testkit.Lacks(t, "busybox-static")
	}
	stored := testkit.S3(t, false).Bucket("quay", minio.MakeBucketOptions{ObjectLocking: true})
	replace := strings.NewReplacer("STORED", stored, "BUSYBOX", busybox, "DIR", p.dir, "ELM", filepath.Join(p.dir,
		"elm"), "SEALED",
		sealed,
		"PAPER", "'"+demo.Paths(filepath.Dir(p.disks)).Paper+"'")
	saved := "twinshelf routine 1\nname: Shelf, weekly\nshelf: Oak\ndo: check 5 %\nwhen: every sunday at 3:00\n"
	if err := os.WriteFile(filepath.Join(p.dir, "routine.txt"), []byte(saved), 0o600); err != nil {
		t.Fatal(err)
	}
	desk := "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIMVjRoFI6Tl3fiOwBjVOH0GmgXZXQLn7sc3YVQGGBGF0 desk\n"
	if err := os.WriteFile(filepath.Join(p.dir, "desk.pub"), []byte(desk), 0o600); err != nil {
		t.Fatal(err)
	}
	for i, n := range []string{"first", "second", "third"} {
		phrase := fmt.Append(nil, "gulls over pier ", i)
		if err := os.WriteFile(filepath.Join(p.dir, n), phrase, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for _, call := range jsonRuns {
		fails := strings.HasPrefix(call, "!")
		args := words(replace.Replace(strings.TrimLeft(call, "!~@")))
		about := []string{"--shelf", p.shelf}
		if strings.HasPrefix(call, "~") {
			about = []string{"--shelf", sealed, "--passphrase-file", filepath.Join(p.dir, "first")}
		}
		if strings.HasPrefix(call, "@") {
			about = []string{"--shelf", stored, "--passphrase-file", filepath.Join(p.dir, "first")}
		}
		with := slices.Concat(args, []string{"--json", "--disk", p.disks, "--quiet"}, about)
		out, errs, code := p.run("", with...)
		if fails != (code != 0) {
			t.Fatalf("%s: status %d\n%s%s", call, code, out, errs)
		}
		d := json.NewDecoder(strings.NewReader(out))
		v := decode(t, d)
		if d.More() {
			t.Errorf("%s: more than one value", call)
		}
		name := commandOf(args)
		if slices.Contains(args, "--plan") {
			name += " --plan"
		}
		if fails {
			name = "a command that fails"
		}
		if shapes[name] == nil {
			shapes[name] = &shape{}
			order = append(order, name)
		}
		shapes[name].take(t, call, v)
	}
	oneMeaning(t, shapes, order)
	for _, c := range leaves(t, p, nil) {
		if shapes[c] == nil && shapes[c+" --plan"] == nil && !strings.HasPrefix(c, "completion") && c != "help" &&
			!mounting[c] && !endless[c] {
			t.Errorf("no call of %q", c)
		}
	}
	compareDocs(t, shapes, order)
}

// mounting commands work as root only.
var mounting = map[string]bool{"ready mount": true, "ready unmount": true}

// endless commands go on until they are ended; stopping a routine needs another process (TestRoutineStop).
var endless = map[string]bool{"routine watch": true, "routine stop": true, "door serve": true, "door session": true}

// commandOf is the command of a call.
func commandOf(args []string) string {
	n := 1
	if slices.Contains([]string{"shelf", "ready", "job", "draw", "stick", "routine", "door"}, args[0]) {
		n++
	}
	if len(args) > 1 && args[0] == "shelf" && args[1] == "passphrase" {
		n++
	}
	return strings.Join(args[:n], " ")
}

// leaves are the commands that do something, as help lists them.
func leaves(t *testing.T, p place, under []string) []string {
	t.Helper()
	out, _, _ := p.run("", append(slices.Clone(under), "--help")...)
	_, list, found := strings.Cut(out, "Available Commands:\n")
	if !found {
		return []string{strings.Join(under, " ")}
	}
	list, _, _ = strings.Cut(list, "\n\n")
	var all []string
	for _, line := range strings.Split(list, "\n") {
		name := strings.Fields(line)[0]
		if name == "help" || name == "completion" {
			continue
		}
		all = append(all, leaves(t, p, append(slices.Clone(under), name))...)
	}
	return all
}

// compareDocs compares shapes with those in docs/json.md, whose list of names has all of them.
func compareDocs(t *testing.T, shapes map[string]*shape, order []string) {
	t.Helper()
	const file, head = "../../docs/json.md", "## Answers\n"
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	before, _, found := strings.Cut(string(text), head)
	if !found {
		t.Fatalf("%s has no %q", file, strings.TrimSpace(head))
	}
	used := map[string]bool{}
	var b strings.Builder
	b.WriteString(before + head)
	for _, name := range order {
		fmt.Fprintf(&b, "\n### %s\n\n```text\n%s\n```\n", name, strings.Join(shapes[name].lines("", used), "\n"))
	}
	if os.Getenv("TWINSHELF_UPDATE") != "" {
		if err := os.WriteFile(file, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	} else if b.String() != string(text) {
		t.Errorf("%s says something else than the commands:\n%s", file, firstDifference(string(text), b.String()))
	}
	for _, name := range slices.Sorted(maps.Keys(used)) {
		if !strings.Contains(before, "| `"+name+"` |") {
			t.Errorf("%s doesn't say what %q is", file, name)
		}
	}
}

// oneMeaning looks whether a name is of one kind in all answers.
func oneMeaning(t *testing.T, shapes map[string]*shape, order []string) {
	t.Helper()
	kinds, where := map[string]string{}, map[string]string{}
	var look func(s *shape, in string)
	look = func(s *shape, in string) {
		for s != nil && s.kind == "list" {
			s = s.item
		}
		if s == nil {
			return
		}
		for _, n := range s.names {
			kind := s.members[n].kind
			if was := kinds[n]; was != "" && was != kind {
				t.Errorf("%q is a %s in %s and a %s in %s", n, was, where[n], kind, in)
			}
			kinds[n], where[n] = kind, in
			look(s.members[n], in)
		}
	}
	for _, name := range order {
		look(shapes[name], name)
	}
}

func firstDifference(a, b string) string {
	x, y := strings.Split(a, "\n"), strings.Split(b, "\n")
	for i := range min(len(x), len(y)) {
		if x[i] != y[i] {
			return fmt.Sprintf("line %d: %q, and is %q", i+1, x[i], y[i])
		}
	}
	return fmt.Sprintf("%d lines, and are %d", len(x), len(y))
}
