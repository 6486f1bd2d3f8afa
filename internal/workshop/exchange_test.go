package workshop

import (
	"path/filepath"
	"sync"
	"testing"

	"twinshelf/internal/shelf"
)

// TestShelfIsExchangedWhileItIsRead: what works in the background asks for the open shelf while the screen exchanges it.
func TestShelfIsExchangedWhileItIsRead(t *testing.T) {
	w, err := New(t.TempDir(), nil, false)
	if err != nil {
		t.Fatal(err)
	}
	a, b := filepath.Join(t.TempDir(), "a"), filepath.Join(t.TempDir(), "b")
	for _, d := range []string{a, b} {
		s, err := shelf.Create(d, "x", 0)
		if err != nil {
			t.Fatal(err)
		}
		s.Close()
	}
	if err := w.OpenShelf(a); err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	wg.Go(func() { // what model.replan and readShelf do in the background
		for range 20 {
			_, _ = w.Leaving("desk")
			_ = w.Known()
		}
	})
	s, err := shelf.Open(b)
	if err != nil {
		t.Fatal(err)
	}
	w.Use(s) // what model.use does in Update
	wg.Wait()
}
