package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/keeping"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
)

// TestAnotherShelf opens a sealed shelf on the screen, with a wrong passphrase first, and carries twins to one.
func TestAnotherShelf(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "elm")
	cheap := store.Cost{Passes: 1, Memory: 1024, Threads: 1}
	elm, err := shelf.Create(t.Context(), dir,
		store.New{Name: "Elm", Passphrase: []byte("gulls over the pier"), Cost: cheap})
	if err != nil {
		t.Fatal(err)
	}
	elm.Close()
	m := onMachine(opened(t), "Harbour kiosk")
	mm := m.(*model)
	first := mm.w.Shelf.Place()
	ask := func(k, phrase string) {
		t.Helper()
		m = key(m, k, "end", "enter")
		m = key(typed(m, dir), "enter")
		if mm.prompt.typing == nil || !strings.Contains(text(m), "Passphrase of the shelf in") {
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
		if mm.menus.menu == nil || !strings.Contains(mm.menus.menu.title, "What is carried to Elm?") {
			t.Fatalf("what is carried isn't asked:\n%s", text(m))
		}
		m = key(m, keys...)
		<-mm.runPage.run.Ended()
		m = feed(m, ticked{})
		if len(mm.runPage.result) == 0 || !strings.Contains(mm.runPage.result[0], what) || mm.menus.menu == nil ||
			!strings.Contains(text(m), "Which shelf is used from now on?") {
			t.Fatalf("%q\n%s", mm.runPage.result, text(m))
		}
	}
	carried("1 twin carried, ", "end", "enter")
	if len(mm.menus.menu.choices) != 2 || !strings.Contains(text(m), "Oak has 69 twins that Elm doesn't have") {
		t.Errorf("a shelf may be replaced by one that lacks twins:\n%s", text(m))
	}
	m = key(m, "esc")
	if mm.w.Shelf != oak || !strings.Contains(mm.note, "captures go on to Oak") {
		t.Errorf("%s: %q", mm.w.Shelf.Place(), mm.note)
	}
	dates := len(mm.datesPage.boards[mm.datesPage.board].twins)
	carried(fmt.Sprintf("%d twins carried, 1 twin there", dates-1), "down", "down", "enter", "home", "down", "space",
		"down", "space", "home", "enter")
	m = key(m, "enter")
	carried("2 twins carried, ", "down", "enter", "home", "down", "down", "space", "enter")
	m = key(m, "enter")
	carried("65 twins carried, 5 twins there", "enter")
	if len(mm.menus.menu.choices) != 3 {
		t.Fatalf("%+v", mm.menus.menu.choices)
	}
	m = key(m, "end", "enter")
	if note, yes, _ := mm.w.Shelf.Retired(t.Context()); yes || mm.w.Shelf.Place() != dir {
		t.Errorf("%s is open, retired: %s", mm.w.Shelf.Place(), note)
	}
	old, err := shelf.Open(t.Context(), first, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer old.Close()
	if note, yes, _ := old.Retired(t.Context()); !yes || note != "replaced by Elm" {
		t.Errorf("%v %q", yes, note)
	}
	if len(mm.datesPage.twins()) != 70 || mm.w.Bench.Shelves[0] != dir {
		t.Errorf("%s has %d twins: %s", mm.w.Shelf.Place(), len(mm.datesPage.twins()), mm.note)
	}
	if m = key(m, "4"); !strings.Contains(text(m), "Harbour kiosk") {
		t.Errorf("\n%s", text(m))
	}
	raw, err := os.ReadFile(filepath.Join(dir, "head"))
	if err != nil || strings.Contains(string(raw), "gulls") {
		t.Errorf("%v", err)
	}
}

// TestMissingBlocksComeFromAnotherShelf hurts a pack beyond its parity, and has the check's question answered.
func TestMissingBlocksComeFromAnotherShelf(t *testing.T) {
	m := key(opened(t), "4")
	mm := m.(*model)
	elm, err := shelf.Create(t.Context(), filepath.Join(t.TempDir(), "elm"), store.New{Name: "Elm"})
	if err != nil {
		t.Fatal(err)
	}
	defer elm.Close()
	twins, _ := mm.w.Shelf.Twins(t.Context())
	if _, err := keeping.Carry(t.Context(), mm.w.Shelf, elm, twins, nil); err != nil {
		t.Fatal(err)
	}
	packs, _ := filepath.Glob(filepath.Join(mm.w.Shelf.Place(), "packs", "*.pack"))
	largest := slices.MaxFunc(packs, func(a, b string) int {
		x, _ := os.Stat(a)
		y, _ := os.Stat(b)
		return int(x.Size() - y.Size())
	})
	raw, err := os.ReadFile(largest)
	if err != nil {
		t.Fatal(err)
	}
	clear(raw[128:])
	if err := os.WriteFile(largest, raw, 0o600); err != nil {
		t.Fatal(err)
	}
	check := func() {
		t.Helper()
		m = key(m, "4", "c", "end", "enter")
		<-mm.runPage.run.Ended()
		m = feed(m, ticked{})
	}
	check()
	if mm.menus.menu == nil || !strings.Contains(text(m), "Where should what is missing come from?") {
		t.Fatalf("\n%s", text(m))
	}
	m = key(m, "end", "enter")
	if mm.menus.menu != nil || len(mm.runPage.result) < 2 || !strings.Contains(text(m), "missing:") {
		t.Errorf("what was found is gone:\n%s", text(m))
	}
	check()
	m = key(m, "home", "enter", "end", "enter")
	m = key(typed(m, elm.Place()), "enter")
	<-mm.runPage.run.Ended()
	if m = feed(m, ticked{}); mm.menus.menu != nil || !strings.Contains(text(m), "from Elm") ||
		!strings.Contains(text(m), "everything is as it was written") {
		t.Errorf("\n%s", text(m))
	}
	check()
	if mm.menus.menu != nil || !strings.Contains(text(m), "everything is as it was written") ||
		!strings.Contains(text(m), "no twin needs anything of it") {
		t.Errorf("\n%s", text(m))
	}
	m = key(m, "4", "s")
	if mm.runPage.run == nil {
		t.Fatalf("%q", mm.note)
	}
	<-mm.runPage.run.Ended()
	if m = feed(m, ticked{}); !strings.Contains(text(m), "come back") {
		t.Errorf("\n%s", text(m))
	}
	check()
	if mm.menus.menu != nil || !strings.Contains(text(m), "everything is as it was written") ||
		strings.Contains(text(m), "of no use") {
		t.Errorf("\n%s", text(m))
	}
}

// TestMissingBlocksWaitForACapture: what is missing may be stored again by the next capture.
func TestMissingBlocksWaitForACapture(t *testing.T) {
	m := key(opened(t), "4")
	mm := m.(*model)
	packs, _ := filepath.Glob(filepath.Join(mm.w.Shelf.Place(), "packs", "*.pack"))
	for _, p := range packs {
		if err := os.Truncate(p, 128); err != nil {
			t.Fatal(err)
		}
	}
	m = key(m, "c", "home", "enter")
	<-mm.runPage.run.Ended()
	if m = feed(m, ticked{}); mm.menus.menu != nil {
		t.Errorf("a quick check, which reads no blocks, asks:\n%s", text(m))
	}
	m = key(m, "4", "c", "end", "enter")
	<-mm.runPage.run.Ended()
	if m = feed(m, ticked{}); mm.menus.menu == nil {
		t.Fatalf("\n%s", text(m))
	}
	if key(m, "home", "down", "enter"); !strings.Contains(mm.note, "stored again by the next capture") {
		t.Errorf("%q", mm.note)
	}
}

// TestQuestionsWaitForTheRunStep: what a run leads to is asked in its step, not in the middle of something else, and
// never about another shelf.
func TestQuestionsWaitForTheRunStep(t *testing.T) {
	m := opened(t)
	mm := m.(*model)
	oak := mm.w.Shelf.Place()
	dir := filepath.Join(t.TempDir(), "ash")
	elm, err := shelf.Create(t.Context(), dir, store.New{Name: "Ash"})
	if err != nil {
		t.Fatal(err)
	}
	elm.Close()
	carried := func() { // while the Bench is looked at
		t.Helper()
		to, err := shelf.Open(t.Context(), dir, nil)
		if err != nil {
			t.Fatal(err)
		}
		r, moved := mm.w.StartCarry(t.Context(), to, nil)
		if err := r.Wait(); err != nil {
			t.Fatal(err)
		}
		m = key(m, "1")
		mm.shelfDesk.settleShelves(to, moved())
		if mm.menus.menu != nil || mm.menus.waiting == nil || mm.step != stepBench ||
			!strings.Contains(text(m), "Step 6 asks which shelf is used") {
			t.Fatalf("step %d, %q\n%s", mm.step, mm.note, text(m))
		}
	}
	carried()
	if m = key(m, "6"); mm.menus.menu == nil || mm.menus.waiting != nil ||
		!strings.Contains(text(m), "Ash replaces Oak") {
		t.Fatalf("\n%s", text(m))
	}
	if m = key(m, "esc"); mm.w.Shelf.Place() != oak {
		t.Errorf("%s is open", mm.w.Shelf.Place())
	}
	// Another run begins before it is answered.
	carried()
	m = key(m, "4", "c", "home", "enter")
	<-mm.runPage.run.Ended()
	if m = feed(m, ticked{}); mm.menus.menu != nil || mm.menus.waiting != nil ||
		!strings.Contains(text(m), "every block that a twin needs") {
		t.Errorf("\n%s", text(m))
	}
	// Another shelf is opened before it is answered: it isn't asked whether that one is replaced.
	carried()
	m = key(m, "4", "o", "end", "enter")
	m = key(typed(m, dir), "enter")
	if mm.w.Shelf.Place() != dir || mm.menus.waiting != nil {
		t.Fatalf("%q %v", mm.note, mm.menus.waiting)
	}
	if m = key(m, "6"); mm.menus.menu != nil {
		t.Errorf("\n%s", text(m))
	}
	if _, retired, _ := mm.w.Shelf.Retired(t.Context()); retired {
		t.Error("a shelf is retired that nobody chose")
	}
}
