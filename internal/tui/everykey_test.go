package tui

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
)

// state is a page in some state, by the keys that lead there from the Bench with the kiosk's disk.
type state struct {
	name string
	lead func(tea.Model) tea.Model
}

func statesToPress() []state {
	on := func(keys ...string) func(tea.Model) tea.Model {
		return func(m tea.Model) tea.Model { return key(onDisk(m, "Sandmartin S 64"), keys...) }
	}
	fit := func(m tea.Model) tea.Model { return key(onMachine(targeted(m), "Ticket desk"), "enter") }
	return []state{
		{"Bench", on()}, {"Ready", on("e")}, {"Ready without a target", on("2")}, {"Capture", on("3")},
		{"Dates", on("4")}, {"growth", on("4", "g")}, {"thinning", on("4", "t")}, {"Fit without a target",
			on("4", "enter")},
		{"Fit", fit}, {"Run", on("6")}, {"Proof", on("7")}, {"Sheet", on("8")}, {"Inside", on("i")},
		{"Routines", on("9")},
		{"folder", on("i", "down", "right")},
	}
}

// afresh puts the screen back to where it began.
func afresh(m tea.Model) tea.Model {
	mm := m.(*model)
	mm.menus.menu, mm.lastPage.summary, mm.lastPage.confirm, mm.help, mm.note = nil, nil, nil, false, ""
	mm.prompt.close()
	mm.source, mm.target, mm.other = nil, nil, false
	mm.runPage.leaving, mm.runPage.ending = false, false
	mm.fitPage.copies, mm.fitPage.of, mm.fitPage.fit, mm.fitPage.pair = "", "", fitting{}, nil
	mm.readyPage.ready = readying{}
	mm.datesPage.thin, mm.datesPage.goes, mm.datesPage.growing = nil, nil, false
	mm.insidePage.inside = lookingIn{}
	return key(m, "6", "1")
}

// pressable are the keys that are pressed: all that a page binds, shown or not, but for those that leave.
func pressable(m *model) []string {
	var out []string
	for _, b := range m.bindings() {
		for _, k := range strings.Fields(b.keys) {
			if k != "q" && !strings.HasPrefix(k, "shift") && k != "backspace" && !slices.Contains(out, k) {
				out = append(out, k)
			}
		}
	}
	return out
}

// TestEveryKeyActs presses every key of every page's table: each changes what is seen, or says why it can't. Moving
// where there is nothing further is told by the cursor.
func TestEveryKeyActs(t *testing.T) {
	moves := strings.Fields(listKeys + " left right h l pgup pgdown [ ] < > esc")
	m := opened(t)
	mm := m.(*model)
	for _, s := range statesToPress() {
		m = s.lead(afresh(m))
		for _, k := range pressable(mm) {
			m = s.lead(afresh(m))
			mm.note = ""
			before := text(m)
			was := fmt.Sprintf("%p %d %v %v", mm.source, mm.step, mm.capturePage.unquiet, mm.capturePage.trust)
			m = pressed(m, k)
			now := fmt.Sprintf("%p %d %v %v", mm.source, mm.step, mm.capturePage.unquiet, mm.capturePage.trust)
			after := text(m)
			if after == before && was == now && !slices.Contains(moves, k) {
				t.Errorf("%s: %q does nothing and says nothing:\n%s", s.name, k, after)
			}
			if s.name == "Bench" && k == "p" {
				m = pressed(m, k) // the disk is needed within reach
			}
			if mm.runPage.running() {
				mm.runPage.run.Cancel()
				<-mm.runPage.run.Ended()
				m = feed(m, ticked{})
			}
		}
	}
}

// pressed presses a key by its name in the terminal library.
func pressed(m tea.Model, k string) tea.Model {
	codes := map[string]rune{"pgup": tea.KeyPgUp, "pgdown": tea.KeyPgDown, "home": tea.KeyHome, "end": tea.KeyEnd}
	if c, special := codes[k]; special {
		return feed(m, tea.KeyPressMsg{Code: c})
	}
	return key(m, k)
}

// TestMenuOfKeys: the list of everything that works here does what its letters do.
func TestMenuOfKeys(t *testing.T) {
	m := key(onDisk(opened(t), "Heron H1 1 TB"), ".")
	mm := m.(*model)
	n := mm.menus.menu
	if n == nil {
		t.Fatalf("no list:\n%s", text(m))
	}
	at := slices.IndexFunc(n.choices, func(c choice) bool { return strings.HasPrefix(c.name, "w ") })
	if at < 0 {
		t.Fatalf("the target isn't in it: %+v", n.choices)
	}
	for range at {
		m = key(m, "down")
	}
	if m = key(m, "enter"); mm.target == nil || mm.target.Identity.Model != "Heron H1 1 TB" || mm.menus.menu != nil {
		t.Errorf("it doesn't do what w does:\n%s", text(m))
	}
	if m = key(m, ".", "?"); !mm.help || !strings.Contains(text(m), "Keys of this list") {
		t.Errorf("no help in a list:\n%s", text(m))
	}
	if key(m, "esc"); mm.help || mm.menus.menu == nil {
		t.Error("the help isn't left for the list")
	}
}

// TestKeyLineCountsWhatIsCut: Enter comes first with what it acts on, and what has no room is counted.
func TestKeyLineCountsWhatIsCut(t *testing.T) {
	m := onDisk(opened(t), "Heron H1 1 TB").(*model)
	for _, w := range []int{60, 80, 120, 200} {
		line := strings.TrimRight(plainOf(m.keyLine(w)), " ")
		if !strings.HasPrefix(line, " Enter capture") ||
			w > 60 && !strings.HasPrefix(line, " Enter capture Heron H1 1 TB …7731") || !strings.HasSuffix(line,
			"? help q leave") {
			t.Errorf("%d: %q", w, line)
		}
		shownKeys := 0
		for _, b := range shown(m.bindings()) {
			if strings.Contains(line, b.show+" "+strings.Fields(b.does)[0]) {
				shownKeys++
			}
		}
		var cut int
		if i := strings.Index(line, ". "); i > 0 && strings.Contains(line, " more") {
			fmt.Sscanf(line[i:], ". %d more", &cut)
		}
		if all := len(shown(m.bindings())); shownKeys+cut != all-1 && shownKeys+cut != all {
			t.Errorf("%d: %d shown, %d cut, %d in all: %q", w, shownKeys, cut, all, line)
		}
	}
}
