package tui

import (
	"fmt"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/demotest"
	"twinshelf/internal/disk"
)

// withTills is the screen on a demo bench with three more disks that are alike, at the date of a machine.
func withTills(t *testing.T, machine string) tea.Model {
	t.Helper()
	var labels []disk.Label
	for i := range 3 {
		labels = append(labels, disk.Label{Model: "Sandpiper S 512", Serial: fmt.Sprintf("SP512-0000C0%02d", i+1),
			Bus: "SATA"})
	}
	m := with(t, demotest.Bench(t), 512e9, labels...)
	return key(onMachine(does(m, m.Init()), machine), "enter")
}

// toTarget chooses a target by the end of its serial number.
func toTarget(t *testing.T, m tea.Model, tail string) tea.Model {
	t.Helper()
	m = key(m, "t")
	n := m.(*model).menus.menu
	for i, c := range n.choices {
		if strings.HasSuffix(strings.TrimSpace(c.name), tail) {
			n.at = i
		}
	}
	return key(m, "enter")
}

// TestMoreTargets: one disk of a twin goes onto three targets; what stands on each is typed on one page, in any order,
// before anything is written; each is proven.
func TestMoreTargets(t *testing.T) {
	m := toTarget(t, withTills(t, "Ticket desk"), "C001")
	mm := m.(*model)
	m = key(m, "M")
	if mm.menus.menu == nil || !strings.Contains(text(m), "Which other disks get the same") {
		t.Fatalf("\n%s", text(m))
	}
	for i, c := range mm.menus.menu.choices {
		mm.menus.menu.choices[i].on = strings.Contains(c.name, "C002") || strings.Contains(c.name, "C003")
	}
	m = key(m, "enter")
	if mm.menus.menu == nil || !strings.Contains(text(m), "identities of their own") {
		t.Fatalf("\n%s", text(m))
	}
	mm.menus.menu.choices[1].on = true
	m = key(m, "enter")
	if s := text(m); strings.Count(s, "the same  →") != 2 || strings.Count(s, "identities of its own") != 1 {
		t.Fatalf("\n%s", s)
	}
	m = key(m, "enter")
	page := mm.lastPage
	if page.summary == nil || len(page.each.left()) != 3 || !strings.Contains(text(m), "3 disks will be overwritten") ||
		strings.Contains(text(m), "C002") || strings.Count(text(m), "○ Sandpiper") != 3 {
		t.Fatalf("%+v\n%s", page.each, text(m))
	}
	for i, tail := range []string{"C003", "C001"} {
		m = key(m, append(strings.Split(tail, ""), "enter")...)
		if len(page.each.left()) != 2-i || strings.Count(text(m), "✓ Sandpiper") != i+1 {
			t.Fatalf("after %s: %+v\n%s", tail, page.each.left(), text(m))
		}
	}
	if m = key(m, "C", "0", "0", "1", "enter"); len(page.each.left()) != 1 || mm.runPage.run != nil {
		t.Fatalf("one that was typed is taken again:\n%s", text(m))
	}
	for range 4 {
		m = key(m, "backspace")
	}
	m = key(m, "C", "0", "0", "2", "enter")
	if mm.runPage.run == nil {
		t.Fatalf("nothing runs:\n%s", text(m))
	}
	if err := mm.runPage.run.Wait(); err != nil {
		t.Fatal(err)
	}
	m = feed(m, ticked{})
	if p := mm.proofPage.proof; p == nil || !p.Holds() || strings.Count(p.Of, "Sandpiper") != 3 {
		t.Errorf("%+v\n%s", p, text(m))
	}
}
