package workshop

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/keeping"
)

// TestWhatVanishedIsSaid: twins, marks and rules that this machine saw, and that somebody took away, are pointed out
// until that is accepted or they are back; what the journal tells of isn't.
func TestWhatVanishedIsSaid(t *testing.T) {
	w, _ := ferry(t)
	place := w.Shelf.Place()
	reopen := func() {
		t.Helper()
		w.Shelf.Close()
		if err := w.OpenShelf(t.Context(), place); err != nil {
			t.Fatal(err)
		}
		if err := w.Remember(t.Context(), w.Shelf); err != nil {
			t.Fatal(err)
		}
	}
	missing := func(words ...string) {
		t.Helper()
		reopen()
		got := strings.Join(w.Missing(), "\n")
		for _, x := range words {
			if !strings.Contains(got, x) {
				t.Errorf("nothing says %q: %q", x, got)
			}
		}
		if len(words) == 0 && got != "" {
			t.Errorf("said: %s", got)
		}
	}
	twins, _ := w.Shelf.Twins(t.Context())
	if err := w.Shelf.Keep(t.Context(), twins[1].ID, "the last good one"); err != nil {
		t.Fatal(err)
	}
	rule, err := keeping.ReadRule("every one for 30 days, then one a week for ever")
	if err != nil {
		t.Fatal(err)
	}
	if err := keeping.SetRule(t.Context(), w.Shelf, "", rule); err != nil {
		t.Fatal(err)
	}
	missing()
	if err := w.Shelf.Discard(t.Context(), twins[0], "room"); err != nil {
		t.Fatal(err)
	}
	missing() // the journal tells
	if err := w.Unkeep(t.Context(), twins[1].ID); err != nil {
		t.Fatal(err)
	}
	missing() // it was done here
	if err := w.Shelf.Keep(t.Context(), twins[2].ID, "why"); err != nil {
		t.Fatal(err)
	}
	missing()
	aside := t.TempDir()
	move := func(pattern string) {
		t.Helper()
		for _, dir := range []string{"", "copies"} {
			all, _ := filepath.Glob(filepath.Join(place, dir, pattern))
			for i, f := range all {
				if err := os.Rename(f, filepath.Join(aside, dir+filepath.Base(f)+string(rune('a'+i)))); err != nil {
					t.Fatal(err)
				}
			}
		}
	}
	move("twins/*/" + twins[3].ID + ".twin")
	missing("1 twin is gone", twins[3].ID)
	missing("1 twin is gone", twins[3].ID) // and goes on being said
	if err := w.AcceptMissing(); err != nil {
		t.Fatal(err)
	}
	missing()
	move("marks/*")
	move("rule*")
	missing("1 twin was kept for ever", twins[2].ID, "rules aren't those")
}
