package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/shelf"
)

// TestAnotherShelf opens a sealed shelf on the screen, with a wrong passphrase first, and carries twins to one.
func TestAnotherShelf(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "elm")
	cheap := shelf.Cost{Passes: 1, Memory: 1024, Threads: 1}
	elm, err := shelf.CreateSealed(dir, "Elm", 0, []byte("gulls over the pier"), cheap)
	if err != nil {
		t.Fatal(err)
	}
	elm.Close()
	m := key(opened(t), "4")
	mm := m.(*model)
	first := mm.w.Shelf.Place()
	ask := func(k, phrase string) {
		t.Helper()
		m = key(m, k, "end", "enter")
		m = key(typed(m, dir), "enter")
		if mm.typing == nil || !strings.Contains(text(m), "Passphrase of the shelf in") {
			t.Fatalf("the passphrase isn't asked for:\n%s", text(m))
		}
		m = typed(m, phrase)
		if strings.Contains(text(m), phrase) || !strings.Contains(text(m), "••••") {
			t.Errorf("the passphrase can be read:\n%s", text(m))
		}
		m = key(m, "enter")
	}
	ask("o", "gulls under the pier")
	if !mm.alarm || !strings.Contains(mm.note, "not one of this shelf's") || mm.w.Shelf.Place() != first {
		t.Errorf("%q, open: %s", mm.note, mm.w.Shelf.Place())
	}
	oak := mm.w.Shelf
	carried := func(what string, keys ...string) {
		t.Helper()
		if m = key(m, "4"); mm.step != stepDates {
			t.Fatalf("step %d", mm.step)
		}
		ask("m", "gulls over the pier")
		if mm.menu == nil || !strings.Contains(mm.menu.title, "What is carried to Elm?") {
			t.Fatalf("what is carried isn't asked:\n%s", text(m))
		}
		m = key(m, keys...)
		<-mm.run.Ended()
		m = feed(m, ticked{})
		if len(mm.result) == 0 || !strings.Contains(mm.result[0], what) || mm.menu == nil || !strings.Contains(text(m), "Which shelf is used from now on?") {
			t.Fatalf("%q\n%s", mm.result, text(m))
		}
	}
	carried("1 twin carried, ", "end", "enter")
	if len(mm.menu.choices) != 2 || !strings.Contains(text(m), "Oak has 8 twins that Elm doesn't have") {
		t.Errorf("a shelf may be replaced by one that lacks twins:\n%s", text(m))
	}
	m = key(m, "esc")
	if mm.w.Shelf != oak || !strings.Contains(mm.note, "captures go on to Oak") {
		t.Errorf("%s: %q", mm.w.Shelf.Place(), mm.note)
	}
	dates := len(mm.boards[mm.board].twins)
	carried(fmt.Sprintf("%d twins carried, 1 twin there", dates-1), "down", "down", "enter", "home", "down", "space", "down", "space", "home", "enter")
	m = key(m, "enter")
	carried("2 twins carried, ", "down", "enter", "home", "down", "space", "enter")
	m = key(m, "enter")
	carried("4 twins carried, 5 twins there", "enter")
	if len(mm.menu.choices) != 3 {
		t.Fatalf("%+v", mm.menu.choices)
	}
	m = key(m, "end", "enter")
	if note, yes := mm.w.Shelf.Retired(); yes || mm.w.Shelf.Place() != dir {
		t.Errorf("%s is open, retired: %s", mm.w.Shelf.Place(), note)
	}
	old, err := shelf.Open(first)
	if err != nil {
		t.Fatal(err)
	}
	defer old.Close()
	if note, yes := old.Retired(); !yes || note != "replaced by Elm" {
		t.Errorf("%v %q", yes, note)
	}
	if len(mm.twins()) != 9 || mm.w.Bench.Shelves[0] != dir {
		t.Errorf("%s has %d twins: %s", mm.w.Shelf.Place(), len(mm.twins()), mm.note)
	}
	if m = key(m, "4"); !strings.Contains(text(m), "Harbour kiosk") {
		t.Errorf("\n%s", text(m))
	}
	raw, err := os.ReadFile(filepath.Join(dir, "head"))
	if err != nil || strings.Contains(string(raw), "gulls") {
		t.Errorf("%v", err)
	}
}
