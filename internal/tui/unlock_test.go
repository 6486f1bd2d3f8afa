package tui

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/container/bitlocker"
	"twinshelf/internal/container/bitlocker/bitlockertest"
	"twinshelf/internal/workshop"
)

// TestUnlocking: a locked volume is told as such; the wrong group of its recovery key is pointed at while it is typed,
// and with the right one what is used is known.
func TestUnlocking(t *testing.T) {
	img, _, _ := bitlockertest.Office(t, bitlocker.XTS256)
	w, err := workshop.New(t.TempDir(), []string{img}, false)
	if err != nil {
		t.Fatal(err)
	}
	ring := &bitlocker.Keyring{}
	t.Cleanup(ring.Wipe)
	mm := newModel(bitlocker.With(t.Context(), ring), w)
	m := does(feed(mm, tea.WindowSizeMsg{Width: 140, Height: 42}), mm.Init())
	if got := text(m); !strings.Contains(got, "locked: XTS-AES 256") || !strings.Contains(got, "unlock") {
		t.Fatalf("it isn't told:\n%s", got)
	}
	m = key(m, "U", "enter")
	m = typed(m, "239987-140251-4")
	if got := text(m); !strings.Contains(got, "Group 2") || !mm.prompt.wrong {
		t.Errorf("the wrong group isn't pointed at:\n%s", got)
	}
	if m = key(m, "enter"); !mm.alarm {
		t.Errorf("it is taken: %q", mm.note)
	}
	m = key(m, "U", "down", "enter")
	m = key(typed(m, img), "enter")
	if !mm.alarm || !strings.Contains(mm.note, "no start-up key file") {
		t.Errorf("a disk is a key file: %q", mm.note)
	}
	m = key(m, "U", "enter")
	m = typed(m, bitlockertest.Recovery)
	if got := text(m); !strings.Contains(got, "All eight groups can be right") {
		t.Errorf("%s", got)
	}
	m = key(m, "enter")
	if got := text(m); !strings.Contains(got, "NTFS Office") || strings.Contains(got, "locked: ") {
		t.Errorf("it isn't unlocked: %q\n%s", mm.note, got)
	}
	key(m, "U")
	if !strings.Contains(mm.note, "is locked") {
		t.Errorf("%q", mm.note)
	}
}
