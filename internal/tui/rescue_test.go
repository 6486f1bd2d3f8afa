package tui

import (
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/rescue"
)

// TestRescueAndItsGaps: a rescue of the demo's failing drive is told what comes first and where gaps may be filled
// from, and what fills the gaps of its twin is chosen in Fit.
func TestRescueAndItsGaps(t *testing.T) {
	m := opened(t)
	mm := m.(*model)
	m = key(onDisk(m, "Petrel P 32"), "R")
	if got := text(m); !strings.Contains(got, "how far shall this sitting go") || !strings.Contains(got,
		"212 sectors") {
		t.Fatalf("%q\n%s", mm.note, got)
	}
	m = key(m, "end", "up", "enter")
	m = key(typed(m, "srv/crane, *.csv"), "enter")
	if got := text(m); !strings.Contains(got, "srv/crane, *.csv; they come before") {
		t.Fatalf("%q\n%s", mm.note, got)
	}
	m = key(m, "end", "enter")
	if got := text(m); !strings.Contains(got, "the other one of a mirror") || strings.Contains(got, "Petrel P 32, 32") {
		t.Fatalf("%q\n%s", mm.note, got)
	}
	m = key(m, "down", "enter")
	if got := text(m); !strings.Contains(got, "serial GG120-4471CB38; it is only read") {
		t.Fatalf("%q\n%s", mm.note, got)
	}
	m = key(m, "end", "enter", "home", "enter") // none after all
	if got := text(m); !strings.Contains(got, "no drive is named") {
		t.Fatalf("%q\n%s", mm.note, got)
	}
	m = ran(t, key(m, "enter"))
	if got := strings.Join(mm.runPage.result, " "); !strings.Contains(got, "1 file hit") {
		t.Errorf("the sitting came to %q", got)
	}
	if notes := strings.Join(mm.runPage.snap.Notes, "\n"); !strings.Contains(notes, "srv/crane") {
		t.Errorf("what comes first isn't said: %q", notes)
	}
	if ways[2].until != rescue.Single {
		t.Error("the proposed way isn't the whole")
	}
	gapsInFit(t, m)
}

// gapsInFit chooses what fills gaps of the twin that was made.
func gapsInFit(t *testing.T, m any) {
	t.Helper()
	mm := m.(*model)
	n := key(targeted(mm), "4")
	n = key(onMachine(n, "Slipway crane"), "enter")
	if mm.fitPage.pair == nil || len(mm.fitPage.pair.Plan.Notes()) == 0 {
		t.Fatalf("%q\n%s", mm.note, text(n))
	}
	n = key(n, "z", "end", "enter", "enter")
	if got := text(n); !strings.Contains(got, "gaps in files are filled") || !strings.Contains(got, "GAPS.TXT in its") {
		t.Errorf("%q\n%s", mm.note, got)
	}
	n = key(n, "z", "down", "enter")
	if got := text(n); strings.Contains(got, "gaps in files are filled") || !strings.Contains(got, "GAPS.TXT in its") {
		t.Errorf("%q\n%s", mm.note, got)
	}
	n = key(n, "u", "u")
	if g := mm.fitPage.fit.wish.Gaps; g.List || g.Text != "" || slices.Contains(mm.fitPage.pair.Plan.Notes(),
		"GAPS.TXT") {
		t.Errorf("undone it is %+v", g)
	}
	n = key(onMachine(key(n, "4"), "Slipway crane"), "i", "right", "end", "right", "right", "down")
	if got := text(n); !strings.Contains(got, "× load-cells-2026.dat") || !strings.Contains(got,
		"couldn't be read: zeros") {
		t.Errorf("%q\n%s", mm.note, got)
	}
	n = key(n, "esc", "esc", "esc", "esc", "4")
	key(onMachine(n, "Ticket desk"), "enter", "z")
	if !strings.Contains(mm.note, "it has no gaps") {
		t.Errorf("a whole twin: %q", mm.note)
	}
}
