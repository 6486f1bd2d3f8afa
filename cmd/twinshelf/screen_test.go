package main

import (
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"twinshelf/internal/demotest"
	"twinshelf/internal/tmuxtest"
)

func demoScreen(t *testing.T, w, h int, env ...string) *tmuxtest.Term {
	t.Helper()
	env = append(env, "XDG_STATE_HOME="+t.TempDir())
	s := tmuxtest.Start(t, w, h, env, demotest.Program(t), "demo")
	s.WaitFor("1 Bench", "Kestrel K2 256", "Turnstone CF 4")
	s.WaitGone("Looking")
	return s
}

func TestScreenCaptures(t *testing.T) {
	s := demoScreen(t, 120, 36)
	s.Keys("Down", "Down", "Enter") // the purser's first disk
	scr := s.WaitFor("Machine  Purser's laptop", "it fits, even if nothing can be")
	if strings.Count(scr, "[■]") != 5 { // two disks, three parts
		t.Errorf("not both disks of the laptop are chosen:\n%s", scr)
	}
	s.Keys("Enter")
	s.WaitFor("Capture of Purser's laptop   done", "Press 4 to see it there")
	s.Keys("4") // it lands on the new twin
	s.WaitFor("twin 3 of 3", "Not proven yet", "Cormorant C 500")
	s.Keys("v")
	s.WaitFor("Press 7 for the proof")
	s.Keys("7")
	s.WaitFor("claims hold", "Proof of the shelf", "Is everything there?")
	s.Keys("q")
	s.WaitFor("[exit 0]")
}

func TestScreenRestores(t *testing.T) {
	s := demoScreen(t, 120, 36)
	s.Keys("4")
	s.WaitFor("Weighbridge")
	s.Keys("Down", "Down", "Down", "Down", "Left")
	s.WaitFor("2026-10-30 18:05")
	s.Keys("Enter")
	s.WaitFor("needs a target")
	s.Keys("t")
	s.WaitFor("blank: nothing would be lost")
	s.Keys("Enter") // the blank disk is first
	s.WaitFor("1 part grows, 1 moves", "grows by 751 GB", "the smallest disk it fits")
	s.Keys("Enter")
	s.WaitFor("LAST PAGE", "HH1-90C2E••••", "Ticket desk, as it was on 2026-10-30", "NOW", "THEN")
	s.Type("0000")
	s.Keys("Enter")
	s.WaitFor("Nothing was written")
	s.Keys("BSpace", "BSpace", "BSpace", "BSpace")
	s.Type("7731")
	s.Keys("Enter")
	s.WaitFor("Restore of Ticket desk   done", "all 11 claims hold", "Press 7 for the proof")
	s.Keys("7")
	s.WaitFor("Does it start?", "What came back, and what is gone?", "equals what was planned")
	s.Keys("1")
	s.WaitFor("ERASES 4 PARTS")
	s.Keys("q")
	s.WaitFor("[exit 0]")
}

func TestScreenGuards(t *testing.T) {
	s := demoScreen(t, 120, 36)
	s.Keys("r", "w")
	s.WaitFor("is the disk that is read")
	s.Keys("End", "w")
	s.WaitFor("Plover P5 2 TB is out of reach")
	s.Keys("p")
	s.Until("the padlock to be off", func(x string) bool {
		return !strings.Contains(x, "■ out of reach") && !strings.Contains(x, "Looking")
	})
	s.Keys("p")
	s.WaitFor("■ out of reach")
	s.Keys("5")
	s.WaitFor("Fit", "needs a target")
	s.Keys("Escape")
	s.WaitFor("□ may be written")
	for _, k := range []string{"2", "8", "7", "6"} {
		s.Keys(k)
		s.WaitFor(map[string]string{"2": "prepares a disk", "8": "◆ is chosen", "7": "evidence",
			"6": "Nothing has been started"}[k])
	}
	s.Keys("?")
	s.WaitFor("Keys of this step", "start-up", "free inside a part")
	s.Keys("Escape")
	s.WaitGone("Keys of this step")
}

var escape = regexp.MustCompile("\x1b\\[[0-9;]*m")

func TestScreenSmallAndWithoutColour(t *testing.T) {
	s := demoScreen(t, 80, 24, "NO_COLOR=1")
	for _, c := range escape.FindAllString(s.Screen("-e"), -1) {
		if strings.Contains(c, "38;") || strings.Contains(c, "48;") ||
			regexp.MustCompile(`\b[349][0-7]m`).MatchString(c) {
			t.Fatalf("there is colour: %q", c)
		}
	}
	s.WaitFor("READS", "WRITES", "? help")
	s.Keys("4")
	s.WaitFor("Weighbridge", "Guillemot G 120")
	s.Keys("Tab")
	s.WaitFor("Guillemot G 120", "76.3 GB used")
	s.Keys("Tab", "Down", "/")
	s.WaitFor("Date, such as")
	s.Type("2026-09")
	s.Keys("Enter")
	s.WaitFor("as of 14 Sep 20:30")
	s.Resize(132, 43)
	s.WaitFor("demo, shelf Oak", "q leave")
	s.Resize(50, 12)
	s.WaitFor("too small")
	s.Resize(80, 24)
	s.WaitFor("READS", "q leave")
}

// TestScreenSmallest: the smallest window has everything that matters.
func TestScreenSmallest(t *testing.T) {
	s := tmuxtest.Start(t, 60, 15, []string{"XDG_STATE_HOME=" + t.TempDir(), "TERM=linux"}, demotest.Program(t), "demo",
		"--glyphs", "few")
	s.WaitFor("1 Bench", "READS", "WRITES", "MACHINES", "Enter capture", "? help q leave")
	s.Keys("?")
	s.WaitFor("Keys of this step", "lines below")
	s.Keys("Escape")
	s.WaitGone("Keys of this step") // Esc and a key at once are another key
	s.Keys(".")
	s.WaitFor("What works here")
	s.Keys("q", "4")
	s.WaitFor("Chart table", "Enter restore")
	for _, r := range s.Screen() {
		if strings.ContainsRune("▏╎░▶…", r) && r != '░' {
			t.Errorf("%q is in no console font", r)
		}
	}
}

func TestScreenNeedsATerminal(t *testing.T) {
	p := place{t: t, dir: t.TempDir()}
	if _, errs, code := p.run("", "--disk", filepath.Join(p.dir, "x.img")); code != 1 ||
		!strings.Contains(errs, "use the commands instead") {
		t.Errorf("%d %s", code, errs)
	}
}

// TestScreenEndsBySignal: told to end by the system the program ends in good order, with the state that it leaves and
// the status for that.
func TestScreenEndsBySignal(t *testing.T) {
	for _, name := range []string{"TERM", "HUP"} {
		s := demoScreen(t, 120, 36)
		s.Signal(name)
		s.WaitFor("cancelled: nothing was going on", "[exit 130]")
	}
	s := demoScreen(t, 120, 36)
	s.Signal("INT") // asks only where something is going on
	s.WaitFor("[exit 0]")
}
