package backendtest

import (
	"testing"

	"twinshelf/internal/store/backend"
)

func TestCounterConforms(t *testing.T) {
	Conform(t, func(*testing.T) func() backend.Backend {
		c := NewCounter()
		return func() backend.Backend { return c }
	})
}

// TestCounts: requests are counted as object storage does.
func TestCounts(t *testing.T) {
	c := NewCounter()
	put(t, c, "packs/1", "small")
	put(t, c, "packs/2", string(make([]byte, 2*partOf)))
	if _, err := c.List(t.Context(), "packs"); err != nil {
		t.Fatal(err)
	}
	get(t, c, "packs/1", "small")
	want := Asked{Puts: 1 + 5 + 1, Gets: 2 + 1, Lists: 1, Deletes: 1, Up: 5 + 2*partOf, Down: 5}
	if got := c.Now(); got != want {
		t.Errorf("%+v, not %+v", got, want)
	}
}
