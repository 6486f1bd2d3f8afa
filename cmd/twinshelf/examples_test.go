package main

import (
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/demo"
	"twinshelf/internal/testkit"
)

// example is a command line of the help or the README, and where it stands.
type example struct{ where, line string }

var (
	commandLine = regexp.MustCompile(`(?m)^ +(twinshelf.*)$`)
	remark      = regexp.MustCompile(` +#.*$|  +\S.*$| \| .*$`)
	keepsake    = regexp.MustCompile(`\d{8}T\d{6}\.\d{3}`)
	word        = regexp.MustCompile(`"([^"]*)"|\S+`)
)

// examplesOf collects the examples that a command and those below it show.
func (p place) examplesOf(path ...string) []example {
	p.t.Helper()
	help, errs, code := p.run("", append(path, "--help")...)
	if code != 0 {
		p.t.Fatalf("%q has no help: %s", path, errs)
	}
	var all []example
	_, shown, _ := strings.Cut(help, "Examples:\n")
	shown, _, _ = strings.Cut(shown, "\n\n")
	for _, m := range commandLine.FindAllStringSubmatch(shown, -1) {
		all = append(all, example{"help of " + strings.Join(path, " "), remark.ReplaceAllString(m[1], "")})
	}
	_, below, _ := strings.Cut(help, "Available Commands:\n")
	below, _, _ = strings.Cut(below, "\n\n")
	for _, line := range strings.Split(below, "\n") {
		if f := strings.Fields(line); len(f) > 0 && f[0] != "completion" && f[0] != "help" {
			all = append(all, p.examplesOf(append(append([]string{}, path...), f[0])...)...)
		}
	}
	return all
}

// copied is the demo of p in a folder of its own, with the things that examples speak of.
func (p place) copied(t *testing.T) place {
	t.Helper()
	c := place{t: t, dir: t.TempDir()}
	c.disks, c.shelf = filepath.Join(c.dir, "demo/disks"), filepath.Join(c.dir, "demo/oak")
	testkit.Do(t, "cp", "-a", "--sparse=always", filepath.Join(p.dir, "demo"), c.dir)
	for _, dir := range []string{"work", "stick"} {
		if err := os.Mkdir(filepath.Join(c.dir, dir), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink(c.disks, filepath.Join(c.dir, "work/images")); err != nil {
		t.Fatal(err)
	}
	paper := demo.Paths(filepath.Dir(c.disks)).Paper
	if err := os.Symlink(paper, filepath.Join(c.dir, "work", filepath.Base(paper))); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "cp", "--sparse=always", filepath.Join(c.disks, "harbour-kiosk.img"),
		filepath.Join(c.dir, "work/office.img"))
	desk := "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIMVjRoFI6Tl3fiOwBjVOH0GmgXZXQLn7sc3YVQGGBGF0 desk\n"
	if err := os.WriteFile(filepath.Join(c.dir, "work/desk.pub"), []byte(desk), 0o600); err != nil {
		t.Fatal(err)
	}
	saved := "twinshelf routine 1\nname: Shelf, weekly\nshelf: Oak\ndo: check 5 %\nwhen: every sunday at 3:00\n"
	if err := os.WriteFile(filepath.Join(c.dir, "work/weekly.txt"), []byte(saved), 0o600); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "truncate", "-s", "500107862016", filepath.Join(c.dir, "work/new.img"))
	return c
}

// words are the arguments of an example, with the disks and folders of the copied demo for those of the workshop.
func (p place) words(line string) []string {
	in := strings.NewReplacer(
		"/dev/sdb", filepath.Join(p.disks, "ticket-desk.img"),
		"/dev/sdc", filepath.Join(p.disks, "heron-1tb.img"),
		"/dev/sdd", filepath.Join(p.disks, "storage-oak.img"),
		"/media/oak", p.shelf,
		"/media/elm", filepath.Join(p.dir, "elm"),
		"/media/stick", filepath.Join(p.dir, "stick"),
		"/tmp/ferry", filepath.Join(p.dir, "ferry"),
	)
	var out []string
	for _, m := range word.FindAllStringSubmatch(line, -1) {
		w := m[0]
		if m[1] != "" {
			w = m[1]
		}
		out = append(out, in.Replace(w))
	}
	return out[1:]
}

// TestExamples runs every example of the help and the README on a copy of the demo.
func TestExamples(t *testing.T) {
	p := newPlace(t)
	all := p.examplesOf()
	readme, err := os.ReadFile("../../README.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range commandLine.FindAllStringSubmatch(string(readme), -1) {
		all = append(all, example{"README", remark.ReplaceAllString(m[1], "")})
	}
	if len(all) < 60 {
		t.Fatalf("only %d examples were found", len(all))
	}
	for line := range elsewhere {
		if !slices.ContainsFunc(all, func(x example) bool { return x.line == line }) {
			t.Errorf("%s is no longer an example", line)
		}
	}
	for _, x := range all {
		t.Run(x.line, func(t *testing.T) { p.copied(t).example(x) })
	}
}

// before holds what has to happen before an example that begins so: the steps that the help speaks of next to it.
var before = map[string][]string{
	"twinshelf ready back":                {`ready lay 7731 --part "rest:ext4:oak"`},
	"twinshelf prove 20261030 --target":   {"restore 20261030 /dev/sdc"},
	"twinshelf shelf check --full --mend": {"shelf new /media/elm --name Elm"},
	"twinshelf shelf carry":               {"shelf new /media/elm --name Elm"},
	"twinshelf shelf compare":             {"shelf new /media/elm --name Elm"},
	"twinshelf shelf retire":              {"shelf new /media/elm --name Elm", "shelf carry Elm"},
	"twinshelf routine export":            {deskRoutine},
	"twinshelf routine foresee":           {deskRoutine},
	"twinshelf routine list":              {deskRoutine},
	"twinshelf routine pause":             {deskRoutine},
	"twinshelf routine remove":            {deskRoutine},
	"twinshelf routine resume":            {deskRoutine},
	"twinshelf routine run":               {deskRoutine},
	"twinshelf routine show":              {deskRoutine},
	"twinshelf routine stop":              {deskRoutine},
	"twinshelf job show":                  {`job use "Harbour kiosk"`},
	"twinshelf job look":                  {`job use "Harbour kiosk"`},
	"twinshelf job note \"the":            {`job use "Harbour kiosk"`},
	"twinshelf job sheet --checks":        {`job use "Harbour kiosk"`, `ready check 7731`},
	"twinshelf job sheet --erasure":       {`job use "Harbour kiosk"`, `ready erase 7731 --how zeros --confirm 7731`},
	"twinshelf draw rate":                 {`capture C3E9`, `job use "Harbour kiosk"`},
	"twinshelf job sheet":                 {`job use "Harbour kiosk"`, `copy C3E9 7731 --confirm 7731`},
	"twinshelf shelf unlocking": {"shelf new /media/oak --name Oak --sealed",
		`capture 14F6 --machine "Booking office" ` +
			`--as-if-cut all --key-file "Booking office recovery key.txt"`},
	"twinshelf shelf passphrase":          {"shelf new /media/oak --name Oak --sealed"},
	"twinshelf shelf passphrase withdraw": {"shelf passphrase add purser"},
}

const deskRoutine = `routine new "Ticket desk, evenings" 40B1 --machine "Ticket desk" --when "every day at 18:30"`

// elsewhere are examples that other tests run, or that a bench of image files refuses, with the reason it gives.
var elsewhere = map[string]string{
	"twinshelf":                              "-", // the full screen: the tests of the screen begin so
	"twinshelf demo":                         "-",
	"twinshelf demo --keep /tmp/ferry":       "-",
	"twinshelf routine stop \"Ticket desk\"": "isn't running",
	// it serves until it is ended: TestFarShelf and the tests of store/server do it
	"twinshelf door serve /srv/shelves --keys keys --listen :2222":                "-",
	"twinshelf door serve /srv/shelves --keys keys --listen :2222 --log door.log": "-",
	// these need object storage: TestAnswers does it
	"twinshelf shelf retain --days 30":                                    "objects can't be locked",
	`twinshelf shelf bring-back s3://quay/oak --as-of "2026-11-29 18:00"`: "no credentials",
	// the drive is failing
	"twinshelf rescue E6F5":                                     "couldn't be read",
	"twinshelf rescue E6F5 --until stride":                      "couldn't be read",
	"twinshelf rescue E6F5 --tries 5":                           "couldn't be read",
	`twinshelf rescue E6F5 --first 1:srv/crane --first "*.csv"`: "couldn't be read",
	// these need this program without the race detector's libraries: the tests of package stick/drive do it
	"twinshelf stick base --to base.tsb packages/":               "can't be opened",
	"twinshelf stick make base.tsb 7731 --data exFAT:oak --plan": "it needs libraries",
	"twinshelf stick make base.tsb /dev/sdd --data ext4:oak":     "it needs libraries",
	"twinshelf stick make base.tsb /dev/sdd":                     "it needs libraries",
	"twinshelf stick make base.tsb /dev/sdd --renew":             "it needs libraries",
	"twinshelf stick files base.tsb --to start":                  "it needs libraries",
	// mounts for the whole machine: the tests of package mounts do
	"twinshelf ready mount /dev/sdd 1":               "-",
	"twinshelf ready mount /dev/sdd 1 --writable":    "-",
	"twinshelf ready unmount /dev/sdd":               "is mounted",
	"twinshelf ready erase 7731 --how random --plan": "random bytes would fill the image file",
	"twinshelf ready erase 7731 --how check --plan":  "random bytes would fill the image file",
}

func (p place) example(x example) {
	p.t.Helper()
	why := elsewhere[x.line]
	if why == "-" {
		return
	}
	if strings.Contains(x.line, "shelf new /media/oak") || strings.Contains(x.line, "passphrase") ||
		strings.Contains(x.line, "shelf unlocking") {
		if err := os.RemoveAll(p.shelf); err != nil {
			p.t.Fatal(err)
		}
	}
	for _, begin := range slices.Sorted(maps.Keys(before)) {
		if !strings.HasPrefix(x.line, begin) {
			continue
		}
		for _, line := range before[begin] {
			if b, err := p.runLine("twinshelf " + line); err != nil {
				p.t.Fatalf("%s, before %s: %v\n%s", line, x.line, err, b)
			}
		}
	}
	line := x.line
	if old := keepsake.FindString(line); old != "" { // the moment of the one made just now
		b, _ := p.runLine("twinshelf ready back 7731 --list")
		line = strings.Replace(line, old, string(keepsake.Find(b)), 1)
	}
	b, err := p.runLine(line)
	if (err != nil) != (why != "") || !strings.Contains(string(b), why) {
		p.t.Errorf("%s: %v (wanted %q)\n%s", x.where, err, why, b)
	}
}

// runLine runs a command line on the bench of image files and answers its question.
func (p place) runLine(line string) ([]byte, error) {
	c := p.command(append([]string{"--disk", p.disks}, p.words(line)...)...)
	c.Dir = filepath.Join(p.dir, "work")
	c.Env = append(c.Env, "TWINSHELF_SHELF="+p.shelf, "TWINSHELF_PASSPHRASE=grey seal on the slipway",
		"TWINSHELF_NEW_PASSPHRASE=black tern over the pier")
	c.Stdin = strings.NewReader(p.answer(line))
	return c.CombinedOutput()
}

// answer is what the question before the first written byte wants: the end of the target's serial number.
func (p place) answer(line string) string {
	all := ""
	for _, m := range regexp.MustCompile(`/dev/sdc|/dev/sdd|7731|B41C8`).FindAllString(line, -1) {
		all += map[string]string{"/dev/sdc": "7731\n", "7731": "7731\n", "/dev/sdd": "41C8\n", "B41C8": "41C8\n"}[m]
	}
	return all
}
