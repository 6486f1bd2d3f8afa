package tui

import (
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
	ask("m", "gulls over the pier")
	<-mm.run.Ended()
	m = feed(m, ticked{})
	if len(mm.result) == 0 || !strings.Contains(mm.result[0], "9 twins carried") {
		t.Fatalf("%q", mm.result)
	}
	m = key(m, "4")
	ask("o", "gulls over the pier")
	if mm.w.Shelf.Place() != dir || len(mm.twins()) != 9 || mm.w.Bench.Shelves[0] != dir {
		t.Errorf("%s has %d twins: %s", mm.w.Shelf.Place(), len(mm.twins()), mm.note)
	}
	raw, err := os.ReadFile(filepath.Join(dir, "head"))
	if err != nil || strings.Contains(string(raw), "gulls") {
		t.Errorf("%v", err)
	}
}
