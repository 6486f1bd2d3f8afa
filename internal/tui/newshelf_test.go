package tui

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/demotest"
	"twinshelf/internal/keeping"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/workshop"
)

// shelfless is the screen on a demo bench without any shelf.
func shelfless(t *testing.T) tea.Model {
	t.Helper()
	b := demotest.Bench(t)
	w, err := workshop.New(t.TempDir(), []string{b.Disks}, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if w.Shelf != nil {
			w.Shelf.Close()
		}
	})
	m := newModel(t.Context(), w)
	return does(feed(m, tea.WindowSizeMsg{Width: 120, Height: 36}), m.Init())
}

// TestFirstShelf makes a sealed shelf from an empty screen, with slips on the way.
func TestFirstShelf(t *testing.T) {
	m := key(shelfless(t), "4")
	mm := m.(*model)
	if all := text(m); !strings.Contains(all, "Press o to open one, or to make a new one") ||
		!strings.Contains(all, "open or make a shelf") {
		t.Fatalf("\n%s", all)
	}
	if m = key(m, "3"); !strings.Contains(text(m), "press o: it opens one, or makes a new one") {
		t.Errorf("\n%s", text(m))
	}
	dir := filepath.Join(t.TempDir(), "media", "elm")
	m = key(m, "4", "o", "enter")
	m = key(typed(m, dir), "enter")
	if mm.prompt.typing == nil || mm.prompt.typing.Value() != "elm" {
		t.Fatalf("the folder's name isn't proposed:\n%s", text(m))
	}
	m = key(typed(cleared(m), "Elm"), "enter")
	if !strings.Contains(text(m), "Should Elm be sealed?") {
		t.Fatalf("\n%s", text(m))
	}
	m = key(m, "down", "enter")
	for _, c := range []struct{ typed, want string }{
		{"gulls", "Too short: take several words. Passphrase for Elm"},
		{"gulls over the pier", "Once more"},
		{"gulls over the sea", "The two differ. Passphrase for Elm"},
		{"gulls over the pier", "Once more"},
	} {
		m = typed(m, c.typed)
		if strings.Contains(text(m), c.typed) {
			t.Errorf("%q can be read:\n%s", c.typed, text(m))
		}
		if m = key(m, "enter"); !strings.Contains(text(m), c.want) {
			t.Errorf("after %q:\n%s", c.typed, text(m))
		}
	}
	m = key(typed(m, "gulls over the pier"), "enter")
	if mm.w.Shelf == nil || mm.w.Shelf.Place() != dir || !mm.w.Shelf.Sealed() || mm.w.Shelf.Head().Name != "Elm" ||
		!strings.Contains(text(m), "holds no twins yet") {
		t.Fatalf("%q\n%s", mm.note, text(m))
	}
	if _, err := shelf.Open(t.Context(), dir, nil); err == nil {
		t.Error("it opens without a passphrase")
	}
	// What isn't empty isn't taken.
	full := t.TempDir()
	if err := os.WriteFile(filepath.Join(full, "timetable.txt"), []byte("winter"), 0o600); err != nil {
		t.Fatal(err)
	}
	m = key(m, "4", "o", "home", "enter")
	m = key(typed(m, full), "enter", "enter", "enter")
	if !mm.alarm || !strings.Contains(mm.note, "is not empty") || mm.w.Shelf.Place() != dir {
		t.Errorf("%q\n%s", mm.note, text(m))
	}
}

// TestCarryToANewShelf makes an open shelf on the way of carrying.
func TestCarryToANewShelf(t *testing.T) {
	m := key(opened(t), "4", "m")
	mm := m.(*model)
	dir := filepath.Join(t.TempDir(), "ash")
	m = key(m, "home", "enter")
	m = key(typed(m, dir), "enter", "enter", "enter")
	if mm.menus.menu == nil || !strings.Contains(mm.menus.menu.title, "What is carried to ash?") {
		t.Fatalf("%q\n%s", mm.note, text(m))
	}
	m = key(m, "end", "enter")
	<-mm.runPage.run.Ended()
	if m = feed(m, ticked{}); !strings.Contains(mm.runPage.result[0], "1 twin carried") {
		t.Errorf("%q", mm.runPage.result)
	}
	key(m, "down", "enter")
	if mm.w.Shelf.Place() != dir || mm.w.Shelf.Sealed() || len(mm.datesPage.twins()) != 1 {
		t.Errorf("%s holds %d twins", mm.w.Shelf.Place(), len(mm.datesPage.twins()))
	}
}

// TestPassphrasesOnTheScreen adds, changes and withdraws passphrases; a wrong one allows nothing, and the last stays.
func TestPassphrasesOnTheScreen(t *testing.T) {
	m := key(opened(t), "4", "p")
	mm := m.(*model)
	if mm.menus.menu != nil || !strings.Contains(mm.note, "This shelf is open: it has no passphrases") {
		t.Errorf("%q", mm.note)
	}
	dir := filepath.Join(t.TempDir(), "elm")
	elm, err := shelf.Create(t.Context(), dir,
		store.New{Name: "Elm", Passphrase: []byte("gulls over the pier"),
			Cost: store.Cost{Passes: 1, Memory: 1024, Threads: 1}})
	if err != nil {
		t.Fatal(err)
	}
	one := mm.datesPage.twin()
	if _, err := keeping.Carry(t.Context(), mm.w.Shelf, elm, []*shelf.Twin{one}, nil); err != nil {
		t.Fatal(err)
	}
	m = does(m, mm.shelfDesk.use(elm))
	say := func(texts ...string) {
		t.Helper()
		for _, s := range texts {
			m = key(typed(m, s), "enter")
		}
	}
	names := func() (out []string) {
		m = key(m, "4", "p")
		for _, c := range mm.menus.menu.choices {
			out = append(out, c.name)
		}
		m = key(m, "esc")
		return out[:len(out)-1]
	}
	m = key(m, "4", "p", "end", "enter")
	say("purser", "salt on the railing", "salt on the railing", "gulls over the sea")
	if !mm.alarm || !strings.Contains(mm.note, "not one of this shelf's") || len(names()) != 1 {
		t.Errorf("allowed by a wrong one: %q", mm.note)
	}
	m = key(m, "p", "end", "enter")
	say("purser", "salt on the railing", "salt on the railing", "gulls over the pier")
	if got := names(); len(got) != 2 || got[1] != "purser" {
		t.Fatalf("%q: %q", mm.note, got)
	}
	m = key(m, "p", "home", "down", "enter", "home", "enter")
	say("wind in the wires", "wind in the wires", "gulls over the pier")
	if _, err := shelf.Open(t.Context(), dir, func() ([]byte, error) {
		return []byte("salt on the railing"),
			nil
	}); err == nil {
		t.Errorf("the old one opens it: %q", mm.note)
	}
	m = key(m, "p", "home", "enter", "end", "enter")
	say("wind in the wires")
	if got := names(); len(got) != 1 || got[0] != "purser" {
		t.Fatalf("%q: %q", mm.note, got)
	}
	m = key(m, "p", "home", "enter", "end", "enter")
	say("wind in the wires")
	if !mm.alarm || !strings.Contains(mm.note, "the only passphrase") || len(names()) != 1 {
		t.Errorf("%q", mm.note)
	}
	again, err := shelf.Open(t.Context(), dir, func() ([]byte, error) { return []byte("wind in the wires"), nil })
	if err != nil {
		t.Fatal(err)
	}
	again.Close()
}
