package tui

import (
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/container/bitlocker"
	"twinshelf/internal/container/bitlocker/bitlockertest"
	"twinshelf/internal/lock"
	"twinshelf/internal/testkit"
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
	ring := &lock.Keyring{}
	t.Cleanup(ring.Wipe)
	mm := newModel(lock.With(t.Context(), ring), w)
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
	if got := text(m); !strings.Contains(got, "All 8 groups check out") {
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

// TestWithoutEncryption: a volume is written without its encryption only when it is unlocked and the customer agreed;
// then it grows, and the last page says what that means.
func TestWithoutEncryption(t *testing.T) {
	img, _, _ := bitlockertest.Office(t, bitlocker.XTS128)
	target := testkit.Image(t, "target.img", 100<<20)
	w, err := workshop.New(t.TempDir(), []string{img, target}, false)
	if err != nil {
		t.Fatal(err)
	}
	ring := &lock.Keyring{}
	t.Cleanup(ring.Wipe)
	mm := newModel(lock.With(t.Context(), ring), w)
	mm.patience = time.Millisecond
	m := does(feed(mm, tea.WindowSizeMsg{Width: 140, Height: 42}), mm.Init())
	m = key(onDisk(m, "sealed.img"), "c", "t", "enter")
	if m = key(m, "U"); !strings.Contains(mm.note, "Nothing is unlocked") {
		t.Errorf("%q\n%s", mm.note, text(m))
	}
	if got := text(m); strings.Contains(got, "grows by 37.7 MB") {
		t.Errorf("a locked volume grows:\n%s", got)
	}
	m = key(onDisk(m, "sealed.img"), "U", "enter")
	m = key(typed(m, bitlockertest.Recovery), "enter")
	m = key(onDisk(m, "sealed.img"), "c")
	m = key(m, "U", "enter") // no
	if mm.fitPage.fit.wish.Unlocked {
		t.Error("it is done though the customer didn't agree")
	}
	m = key(m, "U", "down", "enter")
	if got := text(m); !mm.fitPage.fit.wish.Unlocked || !strings.Contains(got, "grows by 37.7 MB") {
		t.Errorf("it doesn't grow: %q\n%s", mm.note, got)
	}
	m = key(m, "enter")
	if mm.lastPage.summary == nil || !strings.Contains(strings.Join(mm.lastPage.summary.Doubts, "\n"),
		"whoever has the disk") {
		t.Errorf("the last page doesn't say it:\n%s", text(m))
	}
	m = key(m, "esc", "U")
	if mm.fitPage.fit.wish.Unlocked {
		t.Errorf("it can't be taken back: %q\n%s", mm.note, text(m))
	}
}
