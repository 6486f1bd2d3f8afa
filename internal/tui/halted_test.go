package tui

import (
	"os"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/demo"
	"twinshelf/internal/fsys"
	"twinshelf/internal/lock"
)

// TestHalted: of a part that wasn't shut down it is asked how it is captured before anything is; captured as if the
// power had been cut only what is used is read, and the twin says so.
func TestHalted(t *testing.T) {
	m := opened(t)
	mm := m.(*model)
	m = key(onDisk(m, "Guillemot G 120"), "enter")
	if got := text(m); !strings.Contains(got, "CUT OFF: s chooses") || mm.capturePage.plan == nil {
		t.Fatalf("nothing is said of the part:\n%s", got)
	}
	m = key(m, "enter")
	if got := text(m); mm.menus.menu == nil || mm.runPage.running() || !strings.Contains(got, "How is it captured?") ||
		!strings.Contains(got, "the volume's flags are") || !strings.Contains(got, "checks the drive") {
		t.Fatalf("nobody asks:\n%s", got)
	}
	m = key(m, "esc", "s", "down", "enter")
	if got := text(m); !mm.capturePage.unquiet || undecided(mm.capturePage) != nil || strings.Contains(got,
		"Power cut") {
		t.Errorf("it isn't kept as it is:\n%s", got)
	}
	m = key(m, "u")
	if m = key(m, "s", "enter"); mm.capturePage.plan == nil {
		t.Fatalf("no plan:\n%s", text(m))
	}
	got := text(m)
	if c := mm.capturePage.plan.Sources[0].Survey.Parts()[0].Content; !c.Maps || c.Cut() == nil ||
		!strings.Contains(got, "Power cut") ||
		!strings.Contains(got, "after a power cut, ") || strings.Contains(got, "s chooses") {
		t.Fatalf("%+v:\n%s", c, got)
	}
	m = ran(t, key(m, "enter"))
	r := mm.datesPage.twin().Disks[0].Regions
	if len(r) < 2 || !r[1].AsCut || r[1].Rest != fsys.Dirty || r[1].Whole != "" {
		t.Errorf("%+v", r)
	}
	if got := text(key(m, "4", "tab")); !strings.Contains(got, "as after a power") {
		t.Errorf("the date doesn't say it:\n%s", got)
	}
}

// ran waits for the end of what was begun.
func ran(t *testing.T, m tea.Model) tea.Model {
	t.Helper()
	mm := m.(*model)
	if mm.runPage.run == nil {
		t.Fatalf("nothing was begun: %q\n%s", mm.note, text(m))
	}
	if err := mm.runPage.run.Wait(); err != nil {
		t.Fatal(err)
	}
	return feed(m, ticked{})
}

// TestLockedAndAsleep: the demo's machine whose volume is locked and whose system sleeps, by the key on its paper.
func TestLockedAndAsleep(t *testing.T) {
	m := opened(t)
	mm := m.(*model)
	ring := &lock.Keyring{}
	t.Cleanup(ring.Wipe)
	mm.ctx = lock.With(mm.ctx, ring)
	paper, err := os.ReadFile(demo.Paths(strings.TrimSuffix(mm.w.Shelf.Place(), "/oak")).Paper)
	if err != nil || !strings.Contains(string(paper), demo.BookingKey) {
		t.Fatalf("%v: %q", err, paper)
	}
	m = onDisk(m, "Shearwater S 32")
	if got := text(m); !strings.Contains(got, "locked: XTS-AES 128") {
		t.Fatalf("%s", got)
	}
	m = key(typed(key(m, "U", "enter"), demo.BookingKey), "enter")
	m = key(onDisk(m, "Shearwater S 32"), "enter", "s")
	if got := text(m); !strings.Contains(got, "its system sleeps") || !strings.Contains(got, "11-27 ") ||
		!strings.Contains(got, "keep the sleeping session") {
		t.Errorf("%s", got)
	}
	m = key(m, "enter")
	if got := text(m); !strings.Contains(got, "nothing wakes") || strings.Contains(got, "ASLEEP") {
		t.Errorf("%s", got)
	}
	if c := mm.capturePage.plan.Sources[0].Survey.Parts()[2].Content; c.Cut() == nil || c.Used > 200e6 {
		t.Errorf("%+v", c)
	}
	if m = key(m, "U"); !strings.Contains(mm.note, "isn't sealed") || mm.capturePage.keepKeys {
		t.Errorf("an open shelf keeps keys: %q", mm.note)
	}
	m = ran(t, key(typed(key(m, "n"), "Booking office"), "enter", "enter"))
	ring.Wipe()
	m = key(onMachine(key(m, "4"), "Booking office"), "i", "down", "down", "right")
	if !mm.alarm || !strings.Contains(mm.note, "locked") {
		t.Errorf("it opens without its key: %q\n%s", mm.note, text(m))
	}
	if m = key(m, "U"); mm.menus.menu == nil {
		t.Fatalf("there is nothing to unlock: %q\n%s", mm.note, text(m))
	}
	m = key(typed(key(m, "enter"), demo.BookingKey), "enter")
	if m = key(m, "down", "down", "right"); !strings.Contains(text(m), "Users") {
		t.Errorf("it isn't unlocked: %q\n%s", mm.note, text(m))
	}
	if key(m, "left", "U"); !strings.Contains(mm.note, "Nothing here is locked") {
		t.Errorf("%q", mm.note)
	}
}
