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
	for mm.disks[mm.benchPage.cursor].Identity.Model != "Cormorant C 500" {
		m = key(m, "down")
	}
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

// TestKeysWaitForThePlan: what is typed for a prompt while a plan is worked out goes to the prompt, and never acts as
// commands.
func TestKeysWaitForThePlan(t *testing.T) {
	m := key(opened(t), "down", "w", "4", "down", "down", "enter")
	mm := m.(*model)
	if mm.step != stepFit || mm.fitPage.pair == nil {
		t.Fatalf("no plan:\n%s", text(m))
	}
	planned := mm.fitPage.pair
	mm.fitPage.pair = nil // it is being worked out again
	for _, k := range []string{"=", "3", "0", "0", "G", "B", "q", "t", "n"} {
		m, _ = m.Update(tea.KeyPressMsg{Code: []rune(k)[0], Text: k})
	}
	if mm.prompt.typing != nil || mm.runPage.leaving || mm.step != stepFit || mm.target == nil {
		t.Fatalf("the keys act before the plan is there:\n%s", text(m))
	}
	target := mm.target
	m = feed(m, plannedMsg(mm, planned))
	if mm.prompt.typing == nil || mm.prompt.typing.Value() != "300GBqtn" || mm.target != target {
		t.Errorf("the prompt holds %+v:\n%s", mm.prompt.typing, text(m))
	}
	mm.prompt.typing, mm.prompt.typed = nil, nil
	m = key(m, "o", "o")
	before := partsOfPlan(mm)
	for _, k := range []string{"x", "m"} {
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
