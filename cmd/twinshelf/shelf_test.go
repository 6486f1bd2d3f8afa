package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/demotest"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/tmuxtest"
)

func TestShelfCommands(t *testing.T) {
	p := newPlace(t)
	base := []string{"--shelf", p.shelf, "shelf"}
	for _, c := range []struct {
		in   string
		args []string
		code int
		says string
	}{
		{"", []string{"show"}, 0, "a week"},
		{"", []string{"rule"}, 0, "every one for ever"},
		{"", []string{"rule", "now and then"}, 2, "not understood"},
		{"", []string{"rule", "one a year for ever", "--floor", "1"}, 0, "one a year for ever; never fewer than 1"},
		{"", []string{"rule", "every one for ever", "--machine", "Weighbridge"}, 0, "Weighbridge: every one for ever"},
		{"", []string{"keep", "20261002", "--note", "as it came"}, 0, "kept for ever"},
		{"", []string{"keep", "19990101"}, 2, "no such twin"},
		{"", []string{"thin"}, 0, "4 twins would go"},
		{"", []string{"thin", "--machine", "Ticket desk", "--json"}, 0, `"goes_count": 1`},
		{"", []string{"discard", "20261002", "--confirm", "Ticket desk"}, 1, "as it came"},
		{"", []string{"discard", "20261019", "--plan"}, 0, "come back"},
		{"x\n", []string{"discard", "20261019"}, 3, "nothing was written"},
		{"", []string{"discard", "20261019", "--confirm", "harbour kiosk", "--why", "a test"}, 0, "Discarded"},
		{"", []string{"thin", "--now"}, 0, "3 twins dropped"},
		{"", []string{"room", "--plan"}, 0, "come back"},
		{"", []string{"room"}, 0, "come back"},
		{"", []string{"check"}, 0, "no pack was read"},
		{"", []string{"check", "--full", "--mend"}, 0, "Everything is as it was written"},
		{"", []string{"check", "--share", "250"}, 2, "can't be"},
		{"", []string{"journal"}, 0, "thinned: a newer one"},
		{"", []string{"journal", "--json"}, 0, `"why": "a test"`},
		{"", []string{"known"}, 0, "Oak, open"},
		{"", []string{"list", "--to", filepath.Join(p.dir, "list.pdf")}, 0, "is listed in"},
		{"", []string{"list", "--to", filepath.Join(p.dir, "list.svg")}, 2, "FILE.pdf"},
		{"", []string{"passphrase", "list"}, 0, "it has no passphrases"},
		{"", []string{"passphrase", "withdraw", "first"}, 1, "the shelf is open"},
		{"", []string{"carry"}, 2, "needs the other shelf"},
		{"", []string{"carry", filepath.Join(p.dir, "missing")}, 1, "no shelf"},
		{"", []string{"retire", "--note", "full"}, 0, "is retired"},
		{"", []string{"show"}, 0, "retired: full"},
		{"", []string{"retire", "--off"}, 0, "in use again"},
	} {
		out, errs, code := p.run(c.in, append(append([]string{}, base...), c.args...)...)
		if code != c.code || !strings.Contains(out+errs, c.says) {
			t.Errorf("%q: status %d, want %d and %q:\n%s%s", c.args, code, c.code, c.says, out, errs)
		}
	}
}

// TestDroppedOnlyWhenSaid: what an automatic rule drops is said before the capture, also where the result is JSON, and
// dates say what is kept.
func TestDroppedOnlyWhenSaid(t *testing.T) {
	p := newPlace(t)
	run := func(args ...string) (out, errs string) {
		t.Helper()
		out, errs, code := p.run("", append([]string{"--shelf", p.shelf}, args...)...)
		if code != 0 {
			t.Fatalf("%q: %d\n%s%s", args, code, out, errs)
		}
		return out, errs
	}
	run("shelf", "rule", "one a year for ever", "--floor", "1", "--auto")
	run("shelf", "keep", "20261019", "--note", "as it came")
	if out, _ := run("dates"); strings.Count(out, "kept for ever") != 1 {
		t.Errorf("\n%s", out)
	}
	if out, _ := run("dates", "20261019"); !strings.Contains(out, "kept for ever: as it came") {
		t.Errorf("\n%s", out)
	}
	kiosk := filepath.Join(p.disks, "harbour-kiosk.img")
	const said = "takes 2 twins of Harbour kiosk off the shelf"
	if out, _ := run("capture", kiosk, "--plan"); !strings.Contains(out, said) {
		t.Errorf("\n%s", out)
	}
	out, errs := run("capture", kiosk, "--json")
	var twin struct {
		Machine string `json:"machine"`
	}
	if err := json.Unmarshal([]byte(out), &twin); err != nil || twin.Machine != "Harbour kiosk" ||
		!strings.Contains(errs, said) {
		t.Errorf("%v\n%s\n%s", err, out, errs)
	}
	if out, _ := run("dates"); strings.Count(out, "Harbour kiosk") != 2 {
		t.Errorf("\n%s", out)
	}
}

// TestSealedShelfByCommand: passphrases come from files and the environment, never from arguments, and
// everything works on a sealed shelf as on an open one.
func TestSealedShelfByCommand(t *testing.T) {
	p := newPlace(t)
	elm := filepath.Join(p.dir, "elm")
	file := func(name, text string) string {
		f := filepath.Join(p.dir, name)
		if err := os.WriteFile(f, []byte(text+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		return f
	}
	good, short, wrong, second := file("good", "gulls over the pier"), file("short", "gulls"),
		file("wrong", "gulls over the sea"), file("second", "salt on the railing")
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"shelf", "new", elm, "--name", "Elm", "--sealed"}, 1, "nobody to ask"},
		{[]string{"shelf", "new", elm, "--name", "Elm", "--sealed", "--passphrase-file", short}, 1, "at least 8"},
		{[]string{"shelf", "new", elm, "--name", "Elm", "--sealed", "--passphrase-file", good}, 0, "is ready"},
		{[]string{"--shelf", elm, "dates"}, 1, "nobody to ask"},
		{[]string{"--shelf", elm, "dates", "--passphrase-file", wrong}, 1, "not one of this shelf's"},
		{[]string{"--shelf", p.shelf, "--passphrase-file", good, "shelf", "carry", elm, "Weighbridge", "--retire"}, 1,
			"it isn't retired"},
		{[]string{"--shelf", p.shelf, "--passphrase-file", good, "shelf", "carry", elm}, 0,
			"69 twins carried, 1 twin there already"},
		{[]string{"--shelf", p.shelf, "--passphrase-file", good, "shelf", "carry", "Elm", "--retire"}, 0,
			"70 twins there already"},
		{[]string{"--shelf", p.shelf, "--passphrase-file", good, "shelf", "compare", elm}, 0, "same"},
		{[]string{"--shelf", elm, "--passphrase-file", good, "prove", "Weighbridge"}, 0, "claims hold"},
		{[]string{"--shelf", elm, "--passphrase-file", good, "capture", filepath.Join(p.disks, "weighbridge.img"),
			"--machine", "Weighbridge"}, 0, "new on the shelf"},
		{[]string{"--shelf", p.shelf, "capture", filepath.Join(p.disks, "weighbridge.img"), "--machine", "Weighbridge"},
			1, "replaced by Elm"},
		{[]string{"--shelf", elm, "--passphrase-file", good, "restore", "Weighbridge",
			filepath.Join(p.disks, "heron-1tb.img"), "--confirm", "7731"}, 0, "claims hold"},
		{[]string{"--shelf", elm, "--passphrase-file", good, "shelf", "passphrase", "add", "mate",
			"--new-passphrase-file", second}, 0, "2 passphrases"},
		{[]string{"--shelf", elm, "--passphrase-file", second, "shelf", "passphrase", "withdraw", "first"}, 0,
			"1 passphrase"},
		{[]string{"--shelf", elm, "--passphrase-file", second, "shelf", "passphrase", "withdraw", "mate"}, 1,
			"only passphrase"},
		{[]string{"--shelf", elm, "--passphrase-file", good, "dates"}, 1, "not one of this shelf's"},
		{[]string{"--shelf", elm, "--passphrase-file", second, "shelf", "check", "--full"}, 0,
			"Everything is as it was written"},
		{[]string{"--shelf", elm, "--passphrase-file", second, "shelf", "show"}, 0, `opened by the passphrase "mate"`},
	} {
		out, errs, code := p.run("", c.args...)
		if code != c.code || !strings.Contains(out+errs, c.says) {
			t.Errorf("%q: status %d, want %d and %q:\n%s%s", c.args, code, c.code, c.says, out, errs)
		}
	}
	var show struct {
		Shelf map[string]any `json:"shelf"`
	}
	out, errs, _ := p.run("", "--shelf", elm, "--passphrase-file", second, "shelf", "show", "--json")
	if err := json.Unmarshal([]byte(out), &show); err != nil || show.Shelf["sealed"] != true {
		t.Errorf("%v %s", err, errs)
	}
	log, _ := os.ReadFile(filepath.Join(p.dir, "state/twinshelf/twinshelf.log"))
	for _, secret := range []string{"gulls", "salt", "wrapped"} {
		if strings.Contains(out+errs+string(log), secret) {
			t.Errorf("%q is told", secret)
		}
	}
}

// TestMendedByCommand hurts a pack within and beyond the reach of its parity.
func TestMendedByCommand(t *testing.T) {
	p := newPlace(t)
	elm := filepath.Join(p.dir, "elm")
	for _, args := range [][]string{{"shelf", "new", elm, "--name", "Elm"},
		{"--shelf", p.shelf, "shelf", "carry", elm}} {
		if out, errs, code := p.run("", args...); code != 0 {
			t.Fatal(out, errs)
		}
	}
	packs, _ := filepath.Glob(filepath.Join(p.shelf, "packs", "*.pack"))
	largest, size := "", int64(0) // of a pack of one cell parity has everything
	for _, f := range packs {
		if st, err := os.Stat(f); err == nil && st.Size() > size {
			largest, size = f, st.Size()
		}
	}
	hurt := func(from, n int) {
		b, err := os.ReadFile(largest)
		if err != nil {
			t.Fatal(err)
		}
		clear(b[min(from, len(b)):min(len(b), from+n)])
		if err := os.WriteFile(largest, b, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	hurt(5000, 300)
	if out, _, code := p.run("", "--shelf", p.shelf, "shelf", "check", "--full"); code != 4 ||
		!strings.Contains(out, "hurt: packs/") {
		t.Errorf("%d %s", code, out)
	}
	if out, errs, code := p.run("", "--shelf", p.shelf, "shelf", "check", "--full", "--mend"); code != 0 ||
		!strings.Contains(out, "mended: packs/") {
		t.Errorf("%d %s%s", code, out, errs)
	}
	hurt(0, 1<<30)
	if out, errs, code := p.run("", "--shelf", p.shelf, "shelf", "check", "--full", "--mend"); code != 4 ||
		!strings.Contains(out, "missing:") {
		t.Errorf("%d %s%s", code, out, errs)
	}
	out, errs, _ := p.run("", "--shelf", p.shelf, "shelf", "check", "--full", "--from", "Elm")
	if !strings.Contains(out, "from Elm") || strings.Contains(out, "missing:") {
		t.Errorf("%s%s", out, errs)
	}
	for _, m := range []string{"Ticket desk", "Harbour kiosk", "Weighbridge", "Purser's laptop"} {
		if out, errs, code := p.run("", "--shelf", p.shelf, "prove", m); code != 0 {
			t.Errorf("%s: %s%s", m, out, errs)
		}
	}
}

func TestScreenKeepsAShelf(t *testing.T) {
	b := demotest.Bench(t)
	state := t.TempDir()
	s := tmuxtest.Start(t, 130, 42, []string{"XDG_STATE_HOME=" + state}, demotest.Program(t), "--disk", b.Disks,
		"--shelf", b.Shelf)
	s.WaitFor("Kestrel K2 256")
	s.WaitGone("Looking")
	s.Keys("4")
	s.WaitFor("Oak", "stored", "Weighbridge")
	s.Keys("Down", "Down", "Down", "Down", "Left", "f")
	s.WaitFor("Why is it kept for ever?")
	s.Type("before the new till")
	s.Keys("Enter")
	s.WaitFor("◆ kept for ever: before the new till")
	s.Keys("r")
	s.WaitFor("machines is the rule for")
	s.Keys("Enter")
	s.WaitFor("─ Rule ─")
	s.Keys("C-u")
	s.Type("one a year for ever; never fewer than 1")
	s.WaitFor("BY THE RULE 62 TWINS WOULD GO", "come back. Nothing is dropped yet")
	s.Keys("Enter")
	s.WaitFor("The rule is set", "62 TWINS WOULD GO")
	s.Keys("Enter")
	s.WaitFor("LAST PAGE: 62 twins go", "a newer one covers the same time")
	s.Type("7")
	s.Keys("Enter")
	s.WaitFor("That is not how many twins go")
	s.Keys("BSpace")
	s.Type("62")
	s.Keys("Enter")
	s.WaitFor("62 twins dropped")
	s.Keys("s")
	s.WaitFor("Giving back space on Oak   done", "come back")
	s.Keys("4", "x")
	s.WaitFor("is kept for ever (before the new till)")
	s.Keys("f")
	s.WaitFor("no longer kept")
	s.Keys("x")
	s.WaitFor("LAST PAGE: the twin of Ticket desk")
	s.Type("Ticket desk")
	s.Keys("Enter")
	s.WaitFor("The twin is discarded")
	s.Keys("c")
	s.WaitFor("Check the shelf")
	s.Keys("End", "Enter")
	s.WaitFor("Check of Oak   done", "everything is as it was written")
	s.Keys("4", "m")
	s.WaitFor("Carry twins to which shelf?")
	s.Keys("q")
	s.WaitGone("Carry twins to which shelf?")
	s.Keys("g")
	s.WaitFor("How Oak grows", "a week")
	s.Keys("Enter")
	s.WaitFor("File for the drawing")
	chart := filepath.Join(state, "oak.pdf")
	s.Keys("C-u")
	s.Type(chart)
	s.Keys("Enter")
	s.WaitFor("Drawn: ")
	if b, err := os.ReadFile(chart); err != nil || !strings.HasPrefix(string(b), "%PDF") {
		t.Errorf("%v", err)
	}
	s.Keys("Escape")
	s.WaitFor("Not proven yet")
	elm, err := shelf.Create(t.Context(), filepath.Join(state, "elm"), store.New{Name: "Elm"})
	if err != nil {
		t.Fatal(err)
	}
	elm.Close()
	s.Keys("m")
	s.WaitFor("another folder")
	s.Keys("End", "Enter")
	s.WaitFor("of the other shelf")
	s.Type(elm.Place())
	s.Keys("Enter")
	s.WaitFor("What is carried to Elm?")
	s.Keys("Enter")
	s.WaitFor("7 twins carried", "read back", "Which shelf is used from now on?", "Elm replaces Oak")
	s.Keys("End", "Enter")
	s.WaitFor("Oak is retired; Elm is open", "shelf Elm")
	s.Keys("q")
	s.WaitFor("[exit 0]")
}
