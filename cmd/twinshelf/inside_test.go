package main

import (
	"archive/tar"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestLookInsideByCommand(t *testing.T) {
	p := newPlace(t)
	out := func(name string) string { return filepath.Join(p.dir, name) }
	desk := filepath.Join(p.disks, "ticket-desk.img")
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"list", "Purser's laptop"}, 0, "Manifests"},
		{[]string{"list", "Ticket desk", "3:Users/Maud"}, 0, "Letters/"},
		{[]string{"list", "Slipway crane", "1:srv/crane"}, 0,
			"load-cells-2026.dat  (246 kB of it couldn't be read: zeros"},
		{[]string{"list", "Slipway crane", "1:srv/crane/load-cells-2026.dat"}, 0, "gap: 246 kB of it couldn't be read"},
		{[]string{"list", "Ticket desk", "3:Tickets/2024", "--sort", "size"}, 0, "quarter-4.csv"},
		{[]string{"list", "Ticket desk", "3:Tickets/2024", "--sort", "colour"}, 2, "--sort knows"},
		{[]string{"list", "Ticket desk", "3:Tickets/2024/quarter-1.csv"}, 0, "lies at bytes"},
		{[]string{"list", "Ticket desk", "3:Tickets/2026/quarter-4.csv", "--dates"}, 0, "version 2"},
		{[]string{"list", "20261120", "3:Users/Maud/timetable-winter.txt"}, 1, "isn't there"},
		{[]string{"list", desk, "3:Users"}, 0, "Maud/"},
		{[]string{"list", desk, "3:Users", "--dates"}, 2, "name a twin"},
		{[]string{"list", "Nobody"}, 2, "no twin of this shelf"},
		{[]string{"find", "timetable-winter"}, 0, "gone since"},
		{[]string{"find", "nothing like it"}, 0, "Nothing by that name in 70 twins"},
		{[]string{"find", "*.csv", "--limit", "2"}, 0, "There are more"},
		{[]string{"find", "[x"}, 1, "can't be understood"},
		{[]string{"find", "x", "--kind", "colour"}, 2, "--kind knows"},
		{[]string{"find"}, 2, "what to look for"},
		{[]string{"compare", "20261002", "Ticket desk"}, 0, "Users/Maud/timetable-winter.txt"},
		{[]string{"compare", "20261002", desk, "3:Users", "--contents"}, 0, "1 new"},
		{[]string{"compare", "20261002", "Ticket desk", "3:Tickets/2024/quarter-1.csv"}, 2, "is no folder"},
		{[]string{"take", "Purser's laptop", "2.1:MS-Eider", "1.2:home", "--to", out("taken")}, 0,
			"read back and equal"},
		{[]string{"take", "Purser's laptop", "2.1:MS-Eider", "--to", out("taken")}, 0, "were there already"},
		{[]string{"take", "20261002", "3:Tickets/2026/quarter-4.csv", "--to", out("taken/MS-Eider")}, 0, "1 file"},
		{[]string{"take", "Ticket desk", "3:Tickets/2026/quarter-4.csv", "--to", out("taken/MS-Eider")}, 4, "left out"},
		{[]string{"take", "Ticket desk", "3:Tickets/2026/quarter-4.csv", "--to", out("taken/MS-Eider"), "--clash",
			"keep"}, 0, "quarter-4 (2026-11-20).csv"},
		{[]string{"take", "Ticket desk", "3:Users", "--tar", out("users.tar")}, 0, "files"},
		{[]string{"take", "Ticket desk", "3:Users", "--tar", out("users.tar")}, 1, "nothing is written over"},
		{[]string{"take", "Ticket desk", "3:Users", "--zip", out("users.zip")}, 0, "files"},
		{[]string{"take", "Ticket desk", "3:Users", "--zip", out("a.zip"), "--tar", out("a.tar")}, 2, "one of --to"},
		{[]string{"take", "Ticket desk", "3:Users"}, 2, "one of --to"},
		{[]string{"take", "Ticket desk", "3:Users", "--to", p.shelf}, 3, "belongs to the open shelf"},
		{[]string{"take", "Harbour kiosk", "2:srv/kiosk/timetable-winter.txt", "--to", out("y")}, 1,
			"the twin of 2026-09-14"},
		{[]string{"take", "Ticket desk", "3:Nobody", "--to", out("x")}, 1, "isn't there"},
	} {
		o, e, code := p.run("", append([]string{"--shelf", p.shelf}, c.args...)...)
		if code != c.code || !strings.Contains(o+e, c.says) {
			t.Errorf("%q ends with %d instead of %d and says\n%s%s", c.args, code, c.code, o, e)
		}
	}
	f, err := os.Open(out("users.tar"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	n := 0
	for r := tar.NewReader(f); ; n++ {
		if _, err := r.Next(); err != nil {
			break
		}
	}
	if n < 8 {
		t.Errorf("the tar holds %d entries", n)
	}
	for _, args := range [][]string{{"list", "Ticket desk"}, {"list", "Ticket desk", "3:Users"},
		{"list", "Ticket desk", "3:Tickets/2024/quarter-1.csv"}, {"list", "Ticket desk", "3:Users", "--dates"},
		{"find", "winter"},
		{"compare", "20261002", "Ticket desk"}, {"take", "Ticket desk", "3:Users", "--to", out("j")}} {
		o, e, code := p.run("", append([]string{"--shelf", p.shelf, "--json"}, args...)...)
		var v any
		if err := json.Unmarshal([]byte(o), &v); err != nil || code != 0 {
			t.Errorf("%q as JSON: %d, %v\n%s%s", args, code, err, o, e)
		}
	}
}

// TestScreenLooksInside walks folders and dates, searches, compares, looks at a file, and takes something out.
func TestScreenLooksInside(t *testing.T) {
	s := demoScreen(t, 120, 36)
	dest := filepath.Join(t.TempDir(), "out")
	s.Keys("4")
	s.WaitFor("Weighbridge")
	s.Keys("Down", "Down", "Down", "Down", "i")
	s.WaitFor("Inside Ticket desk, 2026-11-20", "Recovery")
	s.Keys("Down", "Right")
	s.WaitFor("can't be looked into")
	s.Keys("Down", "Right")
	s.WaitFor("3:", "Tickets", "Users", "4 items, by name")
	s.Keys("s")
	s.WaitFor("4 items, by size")
	s.Keys("s", "s", "Home", "Down", "Down", "Right")
	s.WaitFor("3:/Users")
	s.Keys("Right")
	s.WaitFor("3:/Users/Maud", "Letters", "at 3 of 3 dates, always the same")
	s.Keys("[", "[")
	s.WaitFor("as of 2 Oct 17:42", "timetable-winter.txt")
	s.Keys("[")
	s.WaitFor("That was the oldest date")
	s.Keys("End")
	s.WaitFor("gone since", "21 711 bytes", "▲")
	s.Keys("Right")
	s.WaitFor("text, from byte 0")
	s.Keys("x")
	s.WaitFor("bytes, from byte 0")
	s.Keys("PageDown")
	s.WaitGone("from byte 0 of")
	s.Keys("Escape")
	s.WaitFor("3 items, by name")
	s.Keys("t")
	s.WaitFor("Take out timetable-winter.txt", "as a zip file")
	s.Keys("Enter")
	s.WaitFor("Into which folder?")
	s.Keys("C-u")
	s.Type(dest)
	s.Keys("Enter")
	s.WaitFor("1 file read back and equal", "done")
	if st, err := os.Stat(filepath.Join(dest, "timetable-winter.txt")); err != nil || st.Size() != 21711 {
		t.Errorf("it wasn't taken out: %v", err)
	}
	s.Keys("Escape")
	s.WaitFor("3:/Users/Maud")
	s.Keys("/")
	s.WaitFor("a pattern as")
	s.Type("quarter-4*")
	s.Keys("Enter")
	s.WaitFor("Search over all dates", "Tickets/2026/quarter-4.csv", "3 of 3")
	s.Keys("End", "Enter")
	s.WaitFor("as of 20 Nov 17:58", "3:/Tickets/2026", "version 2 of 2")
	s.Keys("<")
	s.WaitFor("as of 2 Oct 17:42", "version 1 of 2")
	s.Keys(">")
	s.WaitFor("version 2 of 2")
	s.Keys("Escape")
	s.WaitFor("Search over all dates")
	s.Keys("Escape")
	s.WaitFor("3:/Tickets/2026", "4 items, by name")
	s.Keys("c")
	s.WaitFor("Compare with which date")
	s.Keys("End", "Enter")
	s.WaitFor("Ticket desk: from 2026-10-02", "1 changed", "136 kB → 168 kB")
	s.Keys("Down", "Enter")
	s.WaitFor("3:/Tickets/2026", "4 items, by name")
	s.Keys("Escape")
	s.WaitFor("Ticket desk: from ")
	s.Keys("1")
	s.WaitFor("may be written")
	s.Keys("Home", "i")
	s.WaitFor("Inside ")
	s.Keys("?")
	s.WaitFor("Keys of this step: Look inside", "take the marked items")
	s.Keys("Escape")
	s.WaitGone("Keys of this step")
	s.Keys("q")
	s.WaitFor("[exit 0]")
}
