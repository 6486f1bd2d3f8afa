package tui

import (
	"fmt"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/workshop"
)

// TestCaptureOfOneDiskOfTwo: leaving out a disk that the machine had is asked for, and "no" leads back.
func TestCaptureOfOneDiskOfTwo(t *testing.T) {
	m := opened(t)
	mm := m.(*model)
	before := len(mm.datesPage.twins())
	m = onDisk(m, "Cormorant C 500")
	m = key(m, "enter", "space")
	if mm.step != stepCapture || len(mm.capturePage.plan.Sources) != 1 {
		t.Fatalf("%d sources:\n%s", len(mm.capturePage.plan.Sources), text(m))
	}
	m = key(m, "enter")
	if mm.menus.menu == nil || mm.runPage.running() || !strings.Contains(text(m), "Cormorant C 500") ||
		!strings.Contains(text(m), "Capture all the same?") {
		t.Fatalf("nobody asks:\n%s", text(m))
	}
	m = key(m, "enter")
	if mm.menus.menu != nil || mm.runPage.running() || mm.step != stepCapture {
		t.Errorf("after no:\n%s", text(m))
	}
	m = key(m, "enter", "down", "enter")
	if mm.runPage.run == nil {
		t.Fatalf("after yes:\n%s", text(m))
	}
	<-mm.runPage.run.Ended()
	if err := mm.runPage.run.Wait(); err != nil {
		t.Error(err)
	}
	feed(m, ticked{})
	if tw := mm.datesPage.twin(); len(mm.datesPage.twins()) != before+1 || tw.Machine != "Purser's laptop" ||
		mm.datesPage.boards[mm.datesPage.board].at != len(mm.datesPage.boards[mm.datesPage.board].twins)-1 {
		t.Errorf("%s of %s is selected", tw.Machine, tw.Taken)
	}
}

// TestNothingActsForAPromptThatCantOpen: what is typed for a prompt that couldn't open, since the plan isn't known yet,
// goes nowhere; nothing is queued. A toggle pressed twice leads back to exactly what was.
func TestNothingActsForAPromptThatCantOpen(t *testing.T) {
	m := key(onMachine(targeted(opened(t)), "Ticket desk"), "enter")
	mm := m.(*model)
	if mm.step != stepFit || mm.fitPage.pair == nil {
		t.Fatalf("no plan:\n%s", text(m))
	}
	planned := mm.fitPage.pair
	mm.fitPage.pair = nil // it is being worked out again
	mm.planning++
	mm.busy = &busy{}
	for _, k := range []string{"=", "3", "0", "0", "G", "B", "q", "t", "n"} {
		m, _ = m.Update(tea.KeyPressMsg{Code: []rune(k)[0], Text: k})
	}
	if mm.prompt.refused == "" || mm.prompt.typing != nil || mm.runPage.leaving || mm.step != stepFit ||
		mm.target == nil || !strings.Contains(text(m), "still being worked out") {
		t.Fatalf("the keys act before the plan is there:\n%s", text(m))
	}
	target := mm.target
	m = feed(m, plannedMsg(mm, planned))
	if mm.prompt.typing != nil || mm.target != target || mm.fitPage.pair != planned {
		t.Errorf("something was queued: %+v:\n%s", mm.prompt.typing, text(m))
	}
	if m = key(m, "esc"); mm.prompt.refused != "" || mm.step != stepFit {
		t.Errorf("Esc doesn't close the box:\n%s", text(m))
	}
	m = key(m, "o", "o")
	before := partsOfPlan(mm)
	for _, k := range []string{"x", "m", "y", "o"} {
		if m = key(m, k, k); partsOfPlan(mm) != before {
			t.Errorf("%s %s leads to\n%s instead of\n%s", k, k, partsOfPlan(mm), before)
		}
	}
}

func plannedMsg(m *model, p *workshop.Pair) planned { return planned{m.planning, p, nil} }

func partsOfPlan(m *model) string {
	if m.fitPage.pair == nil {
		return fmt.Sprint(m.fitPage.restoreErr)
	}
	return fmt.Sprint(m.fitPage.pair.Plan.Layout.Parts)
}
