package tui

import (
	"testing"

	tea "charm.land/bubbletea/v2"
)

// TestWholeJobInFewKeys captures a machine, restores it onto the new disk and reads its proof: at most 26 keys from the
// start of the program.
func TestWholeJobInFewKeys(t *testing.T) {
	const mostKeys = 26
	m := opened(t)
	mm := m.(*model)
	pressed := 0
	press := func(keys ...string) {
		m = key(m, keys...)
		pressed += len(keys)
	}
	ended := func(m tea.Model) tea.Model {
		t.Helper()
		if mm.runPage.run == nil {
			t.Fatalf("nothing was begun:\n%s", text(m))
		}
		if err := mm.runPage.run.Wait(); err != nil {
			t.Fatal(err)
		}
		return feed(m, ticked{})
	}
	for range mm.disks {
		if mm.benchPage.chosen().Identity.Model == "Kestrel K2 256" {
			break
		}
		press("down")
	}
	press("enter", "enter")
	m = ended(m)
	if press("4"); mm.datesPage.twin().Machine != "Ticket desk" {
		t.Fatalf("it doesn't land on the new twin:\n%s", text(m))
	}
	press("enter", "t", "enter", "enter", "7", "7", "3", "1", "enter")
	m = ended(m)
	press("7")
	if mm.step != stepProof || mm.proofPage.proof == nil || !mm.proofPage.proof.Holds() || pressed > mostKeys {
		t.Errorf("%d keys:\n%s", pressed, text(m))
	}
	t.Logf("%d keys", pressed)
}
