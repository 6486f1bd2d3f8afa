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
	before := len(mm.twins())
	for mm.disks[mm.cursor].Identity.Model != "Cormorant C 500" {
		m = key(m, "down")
	}
	m = key(m, "enter", "space")
	if mm.step != stepCapture || len(mm.plan.Sources) != 1 {
		t.Fatalf("%d sources:\n%s", len(mm.plan.Sources), text(m))
	}
	m = key(m, "enter")
	if mm.menu == nil || mm.running() || !strings.Contains(text(m), "Cormorant C 500") ||
		!strings.Contains(text(m), "Capture all the same?") {
		t.Fatalf("nobody asks:\n%s", text(m))
	}
	m = key(m, "enter")
	if mm.menu != nil || mm.running() || mm.step != stepCapture {
		t.Errorf("after no:\n%s", text(m))
	}
	m = key(m, "enter", "down", "enter")
	if mm.run == nil {
		t.Fatalf("after yes:\n%s", text(m))
	}
	<-mm.run.Ended()
	if err := mm.run.Wait(); err != nil {
		t.Error(err)
	}
	feed(m, ticked{})
	if tw := mm.twin(); len(mm.twins()) != before+1 || tw.Machine != "Purser's laptop" ||
		mm.boards[mm.board].at != len(mm.boards[mm.board].twins)-1 {
		t.Errorf("%s of %s is selected", tw.Machine, tw.Taken)
	}
}

// TestKeysWaitForThePlan: what is typed for a prompt while a plan is worked out goes to the prompt, and never acts as
// commands.
func TestKeysWaitForThePlan(t *testing.T) {
	m := key(opened(t), "down", "w", "4", "down", "down", "enter")
	mm := m.(*model)
	if mm.step != stepFit || mm.pair == nil {
		t.Fatalf("no plan:\n%s", text(m))
	}
	planned := mm.pair
	mm.pair = nil // it is being worked out again
	for _, k := range []string{"=", "3", "0", "0", "G", "B", "q", "t", "n"} {
		m, _ = m.Update(tea.KeyPressMsg{Code: []rune(k)[0], Text: k})
	}
	if mm.typing != nil || mm.leaving || mm.step != stepFit || mm.target == nil {
		t.Fatalf("the keys act before the plan is there:\n%s", text(m))
	}
	target := mm.target
	m = feed(m, plannedMsg(mm, planned))
	if mm.typing == nil || mm.typing.Value() != "300GBqtn" || mm.target != target {
		t.Errorf("the prompt holds %+v:\n%s", mm.typing, text(m))
	}
	mm.typing, mm.typed = nil, nil
	row := mm.fit.row
	if m = key(m, "k"); mm.fit.row != row {
		t.Error("k moves the row")
	}
	m = key(m, "k")
	before := partsOfPlan(mm)
	for _, k := range []string{"x", "m"} {
		if m = key(m, k, k); partsOfPlan(mm) != before {
			t.Errorf("%s %s leads to\n%s instead of\n%s", k, k, partsOfPlan(mm), before)
		}
	}
}

func plannedMsg(m *model, p *workshop.Pair) planned { return planned{m.planning, p, nil} }

func partsOfPlan(m *model) string {
	if m.pair == nil {
		return fmt.Sprint(m.restoreErr)
	}
	return fmt.Sprint(m.pair.Plan.Layout.Parts)
}
