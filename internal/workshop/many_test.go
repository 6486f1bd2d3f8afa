package workshop

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/plan"
	"twinshelf/internal/restore"
	"twinshelf/internal/shelf"
	"twinshelf/internal/testkit"
)

// till is a target like the others: an image file with a label.
func till(t *testing.T, w *Workshop, n int, size int64, faults *disk.Faults) *bench.Disk {
	t.Helper()
	img := testkit.Image(t, fmt.Sprintf("till-%d.img", n), size)
	b, err := json.Marshal(disk.Label{Model: "Heron H7", Serial: fmt.Sprintf("HR-77%02d", n), Faults: faults})
	if err == nil {
		err = os.WriteFile(disk.LabelPath(img), b, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	d := (&bench.Bench{Images: []string{img}}).List()[0]
	w.Bench.Probe(t.Context(), d)
	return d
}

// onto plans a twin's disk onto targets; those after the first get identities of their own.
func onto(t *testing.T, w *Workshop, twin *shelf.Twin, targets ...*bench.Disk) []*Pair {
	t.Helper()
	var pairs []*Pair
	for i, d := range targets {
		p, err := w.PlanBeside(t.Context(), pairs, Origin{Twin: twin}, d, plan.Wish{Fresh: i > 0}, nil)
		if err != nil {
			t.Fatal(err)
		}
		pairs = append(pairs, p)
	}
	pairs, err := w.Together(t.Context(), pairs)
	if err != nil {
		t.Fatal(err)
	}
	return pairs
}

// TestManyTargets: a disk of a twin goes onto several targets at the same time; each is proven by itself, with the
// identity that was chosen for it; one that can't be used fails alone.
func TestManyTargets(t *testing.T) {
	w, _ := ferry(t)
	twin, err := w.Shelf.Find(t.Context(), "Ticket desk")
	if err != nil {
		t.Fatal(err)
	}
	size := twin.Disks[0].Identity.Size
	proofs := func() int {
		all, _ := w.Shelf.Proofs(t.Context(), twin.ID)
		return len(shelf.TargetProofs(all))
	}
	before := proofs()
	pairs := onto(t, w, twin, till(t, w, 1, size, nil), till(t, w, 2, size, nil), till(t, w, 3, size, nil))
	if pairs[1].Plan.Layout != pairs[0].Plan.Layout || pairs[2].Plan.Layout != pairs[0].Plan.Layout {
		t.Error("targets of one size are laid out anew")
	}
	r, proof := w.StartRestore(t.Context(), pairs)
	if err := r.Wait(); err != nil || !proof().Holds() || proofs() != before+3 {
		t.Fatalf("%v, %d proofs, %+v", err, proofs()-before, proof())
	}
	if s := r.Snapshot(); s.Done != s.Total || len(s.Found) != 3 || !strings.Contains(s.Found[2], "HR-7703") &&
		!strings.Contains(s.Found[2], "…7703: written and read back") {
		t.Errorf("%d of %d, %q", s.Done, s.Total, s.Found)
	}
	ids := map[string]int{}
	for _, p := range pairs {
		w.Bench.Probe(t.Context(), p.Target)
		ids[p.Target.Survey.Table.ID]++
	}
	if len(ids) != 3 || ids[twin.Disks[0].Table.ID] != 1 {
		t.Errorf("the identities are %v", ids)
	}

	before = proofs()
	bad := till(t, w, 5, size, &disk.Faults{Wraps: size / 2 / 4096 * 4096})
	pairs = onto(t, w, twin, till(t, w, 4, size, nil), bad, till(t, w, 6, size, nil))
	r, proof = w.StartRestore(t.Context(), pairs)
	var failed *TargetsFailed
	var low *restore.Capacity
	if err := r.Wait(); !errors.As(err, &failed) || len(failed.Failed) != 1 || !errors.As(err, &low) ||
		!strings.Contains(err.Error(), "7705: ") {
		t.Errorf("%v", err)
	}
	if p := proof(); p == nil || !p.Holds() || proofs() != before+2 {
		t.Errorf("%d proofs of the others: %+v", proofs()-before, p)
	}
}
