package workshop

import (
	"path/filepath"
	"sync"
	"testing"

	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
)

// TestShelfIsExchangedWhileItIsRead: what works in the background asks for the open shelf while the screen exchanges
// it.
func TestShelfIsExchangedWhileItIsRead(t *testing.T) {
	w, err := New(t.TempDir(), nil, false)
	if err != nil {
		t.Fatal(err)
	}
	a, b := filepath.Join(t.TempDir(), "a"), filepath.Join(t.TempDir(), "b")
	for _, d := range []string{a, b} {
		s, err := shelf.Create(t.Context(), d, store.New{Name: "x"})
		if err != nil {
			t.Fatal(err)
		}
		s.Close()
	}
	if err := w.OpenShelf(t.Context(), a); err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	wg.Go(func() { // what model.replan and readShelf do in the background
		for range 20 {
			_, _ = w.Outgoing(t.Context(), "desk")
			_ = w.Known(t.Context())
		}
	})
	s, err := shelf.Open(t.Context(), b, nil)
	if err != nil {
		t.Fatal(err)
	}
	w.Use(t.Context(), s) // what model.use does in Update
	wg.Wait()
}
