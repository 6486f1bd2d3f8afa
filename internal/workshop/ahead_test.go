package workshop

import (
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"testing"

	"twinshelf/internal/bench"
	"twinshelf/internal/capture"
)

// TestNamesListedAhead: where what was read of the disks tells all names, the shelf has their listing with the twin,
// and it is the one that is made of the twin itself.
func TestNamesListedAhead(t *testing.T) {
	w, disks := ferry(t)
	ahead, parts := 0, 0
	for i, d := range disks {
		if d.Survey == nil || len(d.Survey.Parts()) == 0 {
			continue
		}
		p, err := w.PlanCapture(t.Context(), fmt.Sprint("Machine ", i), []*bench.Disk{d}, nil, nil)
		if err != nil {
			t.Fatal(err)
		}
		p.Trust = capture.TrustNone
		r, result := w.StartCapture(t.Context(), p, nil)
		if err := r.Wait(); err != nil {
			t.Fatal(err)
		}
		if !p.NamesKept {
			continue
		}
		ahead++
		twin := result()
		early, err := w.Shelf.Listing(t.Context(), twin.ID)
		if err != nil || early == nil {
			t.Fatalf("%s: no listing: %v", d.Path, err)
		}
		if err := os.Remove(filepath.Join(w.Shelf.Place(), "names", twin.ID+".note")); err != nil {
			t.Fatal(err)
		}
		lib, err := w.Library()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := lib.Of(t.Context(), twin); err != nil {
			t.Fatal(err)
		}
		late, err := w.Shelf.Listing(t.Context(), twin.ID)
		if err != nil || !reflect.DeepEqual(early, late) {
			t.Errorf("%s: %+v before, %+v after: %v", d.Path, early, late, err)
		}
		parts += len(late.Parts)
	}
	if ahead < 3 || parts < 4 {
		t.Errorf("the names of %d twins with %d parts were listed ahead", ahead, parts)
	}
}
