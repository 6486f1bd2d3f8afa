package tui

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/capture"
	"twinshelf/internal/keeping"
)

func text(m tea.Model) string { return ansi.Strip(m.View().Content) }

// typed gives a whole text at once: a key each would wait for the cursor's blinking each time.
func typed(m tea.Model, s string) tea.Model { return feed(m, tea.PasteMsg{Content: s}) }

func cleared(m tea.Model) tea.Model {
	return feed(m, tea.KeyPressMsg{Code: 'u', Mod: tea.ModCtrl})
}

// TestThinningIsShownBeforeAnythingGoes goes from a rule that is tried to the last page, and back.
func TestThinningIsShownBeforeAnythingGoes(t *testing.T) {
	m := key(opened(t), "4")
	mm := m.(*model)
	m = key(m, "t")
	if mm.datesPage.thin == nil || mm.datesPage.thin.Goes != 0 ||
		!strings.Contains(text(m), "By the rule nothing goes") {
		t.Errorf("without a rule:\n%s", text(m))
	}
	m = key(m, "enter")
	if mm.lastPage.summary != nil {
		t.Error("a last page although nothing goes")
	}
	m = key(m, "r", "enter")
	if mm.prompt.typing == nil {
		t.Fatalf("no rule can be typed:\n%s", text(m))
	}
	m = typed(cleared(m), "one a year for ever; never fewer than 1")
	if mm.datesPage.thin.Goes != 63 || len(mm.datesPage.goes) != 63 ||
		!strings.Contains(text(m), "BY THE RULE 63 TWINS WOULD GO") {
		t.Errorf("%d go while typing:\n%s", mm.datesPage.thin.Goes, text(m))
	}
	m = typed(m, "x")
	if !mm.prompt.wrong || !strings.Contains(text(m), "names no number of twins") {
		t.Errorf("a slip isn't pointed out:\n%s", text(m))
	}
	m = key(m, "esc")
	if rules, err := keeping.ReadRules(t.Context(), mm.w.Shelf); err != nil || len(rules.Usual.Generations) != 0 ||
		mm.datesPage.wished != nil {
		t.Errorf("a rule that was left is set: %+v %v", rules, err)
	}
	m = key(m, "r", "enter")
	m = key(typed(cleared(m), "one a year for ever; never fewer than 1"), "enter")
	m = key(m, "enter")
	if mm.lastPage.summary == nil || mm.lastPage.summary.Confirm != "63" || len(mm.lastPage.summary.Lost) != 63 ||
		len(mm.lastPage.summary.Stays) != 4 {
		t.Fatalf("last page: %+v", mm.lastPage.summary)
	}
	m = key(m, "esc", "esc")
	if twins, _ := mm.w.Shelf.Twins(t.Context()); len(twins) != 70 || mm.datesPage.thin != nil || mm.step != stepDates {
		t.Errorf("%d twins, step %d", len(twins), mm.step)
	}
	m = key(m, "f")
	m = key(typed(m, "as it came"), "enter")
	if mark, kept := mm.datesPage.pins[mm.datesPage.twin().ID]; !kept || mark.Note != "as it came" ||
		!strings.Contains(text(m), "◆") {
		t.Errorf("not kept:\n%s", text(m))
	}
	m = key(m, "x")
	if mm.lastPage.summary != nil || !strings.Contains(mm.note, "kept for ever (as it came)") {
		t.Errorf("a kept twin can be discarded: %s", mm.note)
	}
	m = key(m, "f")
	if len(mm.datesPage.pins) != 0 {
		t.Errorf("still kept: %v", mm.datesPage.pins)
	}
	m = key(m, "x")
	if mm.lastPage.summary == nil || mm.lastPage.summary.Confirm != mm.datesPage.twin().Machine {
		t.Errorf("no last page for discarding: %+v", mm.lastPage.summary)
	}
	if head := text(m); !strings.Contains(head, "LAST PAGE: the twin of Chart table") ||
		!strings.Contains(head, "the name of the machine") {
		t.Errorf("\n%s", head)
	}
}

func TestMenusAreLeft(t *testing.T) {
	m := key(opened(t), "4")
	mm := m.(*model)
	for _, k := range []string{"c", "m", "r"} {
		m = key(m, k)
		if mm.menus.menu == nil {
			t.Errorf("%s opens no menu", k)
			continue
		}
		m = key(m, "down", "down", "up", "esc")
		if mm.menus.menu != nil || mm.runPage.run != nil {
			t.Errorf("%s: the menu isn't left", k)
		}
	}
	m = key(onDisk(m, "Heron H1 1 TB"), "e", "p")
	if mm.menus.menu == nil || !strings.Contains(text(m), "What is this disk for?") {
		t.Fatalf("\n%s", text(m))
	}
	m = key(m, "down", "enter", "enter")
	if mm.menus.menu == nil || !strings.Contains(mm.note, "Nothing is chosen") {
		t.Errorf("an empty choice is taken: %q", mm.note)
	}
	m = key(m, "space", "enter")
	if mm.menus.menu != nil || len(mm.readyPage.ready.draft.Parts) != 1 {
		t.Errorf("%d parts:\n%s", len(mm.readyPage.ready.draft.Parts), text(m))
	}
}

// TestCaptureSaysWhatIsTakenOver: what isn't read again is shown, and one key has it read.
func TestCaptureSaysWhatIsTakenOver(t *testing.T) {
	m := key(onDisk(opened(t), "Sandmartin S 64"), "3")
	mm := m.(*model)
	if len(mm.capturePage.trusts) != 1 || !strings.Contains(text(m), "Unread    part 2 (kiosk-root)") {
		t.Errorf("%q\n%s", mm.capturePage.trusts, text(m))
	}
	m = key(m, "o")
	if mm.capturePage.plan.Trust != capture.TrustNone || len(mm.capturePage.trusts) != 0 ||
		!strings.Contains(text(m), "everything is read") {
		t.Errorf("%q\n%s", mm.capturePage.trusts, text(m))
	}
	if m = key(m, "o"); mm.capturePage.plan.Trust != capture.TrustMost || len(mm.capturePage.trusts) < 1 {
		t.Errorf("%q\n%s", mm.capturePage.trusts, text(m))
	}
	if key(m, "o"); mm.capturePage.plan.Trust != capture.TrustSure {
		t.Error("it isn't taken back")
	}
}

// TestCaptureSaysWhatGoesThen: a rule that needs no asking is announced before the capture, twin by twin.
func TestCaptureSaysWhatGoesThen(t *testing.T) {
	m := opened(t)
	mm := m.(*model)
	rule, err := keeping.ReadRule("one a year for ever; never fewer than 1")
	if err != nil {
		t.Fatal(err)
	}
	rule.Auto = true
	if err := keeping.SetRule(t.Context(), mm.w.Shelf, "", rule); err != nil {
		t.Fatal(err)
	}
	m = feed(key(onDisk(m, "Sandmartin S 64"), "3", "tab"), tea.WindowSizeMsg{Width: 110, Height: 36})
	for _, want := range []string{"Goes      after this capture the rule",
		"takes 3 twins of Harbour kiosk off the shelf", "a newer one covers the same time"} {
		if !strings.Contains(text(m), want) {
			t.Errorf("%q is missing:\n%s", want, text(m))
		}
	}
	if strings.Count(text(m), "✗ 20") != 3 {
		t.Errorf("not every twin that goes is named:\n%s", text(m))
	}
	m = key(m, "n")
	if m = key(typed(cleared(m), "Ticket desk"), "enter"); !strings.Contains(text(m), "of Ticket desk off the shelf") {
		t.Errorf("another machine:\n%s", text(m))
	}
	m = key(m, "n")
	if m = key(typed(cleared(m), "Crew room"), "enter"); mm.capturePage.outgoing != nil ||
		strings.Contains(text(m), "off the shelf") {
		t.Errorf("a machine without twins:\n%s", text(m))
	}
}
