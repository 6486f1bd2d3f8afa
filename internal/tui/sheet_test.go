package tui

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestCasesOnTheScreen: the cases and the sheet of each are shown; a case is opened, chosen, edited, noted in, closed
// and
// opened again, and its sheet saved.
func TestCasesOnTheScreen(t *testing.T) {
	m := key(opened(t), "8")
	mm := m.(*model)
	page := mm.sheetPage
	if got := text(m); !strings.Contains(got, "Harbour kiosk") || !strings.Contains(got, "Signe Arvo") {
		t.Fatalf("the demo's case isn't shown:\n%s", got)
	}
	first := page.here()
	m = key(m, "a")
	m = key(typed(m, "Maud Ellingsen"), "enter")
	second := page.current()
	if second == nil || second.ID == first.ID || second.Customer != "Maud Ellingsen" || page.here().ID != second.ID {
		t.Fatalf("%+v\n%s", second, text(m))
	}
	m = key(m, "e", "down", "down", "down", "enter") // the machine
	m = key(typed(m, "Ticket desk"), "enter")
	m = key(m, "n")
	m = key(typed(m, "the old drive clicks"), "enter")
	if got := text(m); page.current().Machine != "Ticket desk" || !strings.Contains(got, "the old drive clicks") ||
		!strings.Contains(got, "Job sheet "+second.Number) {
		t.Errorf("%s", got)
	}
	m = key(m, "e", "enter") // a number that another case has
	m = key(typed(cleared(m), first.Number), "enter")
	if !mm.alarm || page.current().Number != second.Number {
		t.Errorf("two cases of one number: %q", mm.note)
	}
	m = key(m, "x")
	if page.current() != nil || page.here().Open() {
		t.Errorf("it isn't closed:\n%s", text(m))
	}
	if m = key(m, "space"); page.current() != nil || !strings.Contains(mm.note, "x opens it again") {
		t.Errorf("a closed one is chosen: %q", mm.note)
	}
	if m = key(m, "x"); page.current() == nil {
		t.Errorf("it isn't open again: %q", mm.note)
	}
	m = key(m, "/")
	if m = key(typed(m, "cc480"), "enter"); page.here().ID != first.ID {
		t.Errorf("the disk of a case isn't found: %q", mm.note)
	}
	file := filepath.Join(t.TempDir(), "sheet.pdf")
	for range 2 { // nothing is written over
		m = key(m, "enter")
		m = key(typed(cleared(m), file), "enter")
	}
	if b, err := os.ReadFile(file); err != nil || !strings.HasPrefix(string(b), "%PDF-") || !mm.alarm {
		t.Errorf("%v, %q", err, mm.note)
	}
	m = key(m, "1", "J")
	if got := text(m); !strings.Contains(got, "Which case") || !strings.Contains(got, "a new case") {
		t.Errorf("%s", got)
	}
	key(m, "end", "up", "enter")
	if page.current() == nil || page.current().ID != first.ID {
		t.Errorf("J chooses %+v", page.current())
	}
}

// TestDrawings: D saves what the lanes show, with what will be lost, and nothing where no disk is shown.
func TestDrawings(t *testing.T) {
	m := key(onDisk(opened(t), "Dunlin D 128"), "w")
	mm := m.(*model)
	m = key(onMachine(m, "Harbour kiosk"), "enter")
	file := filepath.Join(t.TempDir(), "fit.svg")
	m = key(m, "D")
	m = key(typed(cleared(m), file), "enter")
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatalf("%v: %q", err, mm.note)
	}
	for _, want := range []string{"Sandmartin S 64", "will be: Dunlin D 128", "is overwritten: Dunlin D 128",
		"2 purser-root",
		"2 kiosk-root"} {
		if !strings.Contains(string(b), want) {
			t.Errorf("no %q in the drawing", want)
		}
	}
	m = key(m, "D")
	m = key(typed(cleared(m), file+".doc"), "enter")
	if !mm.alarm {
		t.Errorf("a drawing of any kind is made: %q", mm.note)
	}
	m = key(m, "8", "D")
	if mm.prompt.typing != nil || !strings.Contains(mm.note, "nothing to draw") {
		t.Errorf("what is drawn on the page Sheet? %q", mm.note)
	}
	mm.source, mm.target = nil, nil
	key(onDisk(m, "Kestrel K2 256"), "D")
	if mm.prompt.typing == nil {
		t.Errorf("the disk that is pointed at isn't drawn: %q", mm.note)
	}
}
