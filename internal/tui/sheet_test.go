package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
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
	mm.source, mm.target = nil, nil
	m = key(m, "2")
	if key(m, "D"); mm.prompt.typing != nil || !strings.Contains(mm.note, "nothing on this page to draw") {
		t.Errorf("what is drawn on the page Ready without a target? %q", mm.note)
	}
}

// TestEveryDrawing: what each page offers is drawn, and says what it is about.
func TestEveryDrawing(t *testing.T) {
	m := opened(t)
	mm := m.(*model)
	dir := t.TempDir()
	pages := []struct {
		name string
		lead func() tea.Model
		says []string // each drawing's, in the order in which they are offered
	}{
		{"Bench", func() tea.Model { return onDisk(m, "Sandmartin S 64") }, []string{"Heron H1 1 TB", "A row is",
			"kiosk-root"}},
		{"Dates", func() tea.Model { return onMachine(m, "Weighbridge") }, []string{"stays: ", "Slipway crane",
			"at the pace so far", "Turnstone", "Turnstone"}},
		{"growth", func() tea.Model { return key(onMachine(m, "Weighbridge"), "g") }, []string{"at the pace so far"}},
		{"folder", func() tea.Model {
			return key(onDisk(key(m, "esc"), "Kestrel K2 256"), "i", "down", "down",
				"right")
		},
			[]string{"A row is", "Kestrel"}},
		{"Sheet", func() tea.Model { return key(m, "8") }, []string{"Before: "}},
	}
	for _, p := range pages {
		for i, says := range p.says {
			m = p.lead()
			all := pictures(mm)
			// A work that took long enough on a loaded machine has a rate over time, too.
			if len(all) < len(p.says) || len(all) > len(p.says) && p.name != "Sheet" {
				t.Fatalf("%s offers %d drawings: %+v", p.name, len(all), all)
			}
			file := filepath.Join(dir, p.name+fmt.Sprint(i)+".svg")
			m = key(m, "D")
			if len(all) > 1 {
				for range i {
					m = key(m, "down")
				}
				m = key(m, "enter")
			}
			m = key(typed(cleared(m), file), "enter")
			if b, err := os.ReadFile(file); err != nil || !strings.Contains(string(b), says) || mm.alarm {
				t.Errorf("%s, %s: %v, %q", p.name, all[i].name, err, mm.note)
			}
		}
	}
}

// TestPapersOnTheScreen: a paper is chosen, shown and saved; labels are made of what is marked; the shop's head is
// edited
// and refused where it can't be printed.
func TestPapersOnTheScreen(t *testing.T) {
	m := key(opened(t), "8")
	mm := m.(*model)
	dir := t.TempDir()
	pick := func(title, name string) {
		t.Helper()
		if mm.menus.menu == nil || !strings.Contains(mm.menus.menu.title, title) {
			t.Fatalf("%q isn't asked, but\n%s", title, text(m))
		}
		for i, c := range mm.menus.menu.choices {
			if strings.Contains(c.name, name) {
				mm.menus.menu.at = i
			}
		}
		m = key(m, "enter")
	}
	saved := func(keys ...string) string {
		t.Helper()
		m = key(m, keys...)
		file := filepath.Join(dir, "paper.pdf")
		m = key(typed(cleared(m), file), "enter")
		b, err := os.ReadFile(file)
		if err != nil {
			t.Fatalf("%v: %q", err, mm.note)
		}
		if err := os.Remove(file); err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	m = key(m, "p")
	pick("Which paper", "engineers")
	if got := text(m); !strings.Contains(got, "For engineers") || strings.Contains(got, "What was done") {
		t.Errorf("the engineers' pages aren't shown:\n%s", got)
	}
	if b := saved("enter"); !strings.HasPrefix(b, "%PDF-") {
		t.Errorf("%q", mm.note)
	}
	m = key(m, "p")
	pick("Which paper", "list of what")
	if got := text(m); !strings.Contains(got, "Shelf list Oak") || !strings.Contains(got, "twins of") {
		t.Errorf("the list isn't shown:\n%s", got)
	}
	if b := saved("enter"); !strings.HasPrefix(b, "%PDF-") {
		t.Errorf("%q", mm.note)
	}
	m = key(m, "p")
	if no := mm.menus.menu.choices[certificate].no; !strings.Contains(no, "nothing to certify") {
		t.Errorf("a certificate of nothing: %q", no)
	}
	m = key(m, "esc", "l", "space", "down", "space", "enter")
	if b := saved("enter"); !strings.HasPrefix(b, "%PDF-") {
		t.Errorf("%q", mm.note)
	}
	m = key(m, "h")
	pick("top of papers", "name of the shop")
	m = key(typed(cleared(m), "Ternhouse Repairs"), "enter")
	m = key(m, "h")
	pick("top of papers", "dates")
	pick("Dates?", "D.M.Y")
	m = key(m, "h")
	pick("top of papers", "logo")
	m = key(typed(cleared(m), filepath.Join(dir, "none.png")), "enter")
	if shop := mm.w.Shop(); shop.Name != "Ternhouse Repairs" || shop.Dates != "D.M.Y" || shop.Logo != "" || !mm.alarm {
		t.Errorf("%+v, %q", shop, mm.note)
	}
	m = key(m, "h")
	pick("top of papers", "labels moved")
	m = key(typed(cleared(m), "0.5, -1"), "enter")
	if shop := mm.w.Shop(); shop.LabelsRight != 0.5 || shop.LabelsBelow != -1 {
		t.Errorf("%+v, %q", shop, mm.note)
	}
}
