package workshop

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/bench"
	"twinshelf/internal/demotest"
	"twinshelf/internal/disk"
	"twinshelf/internal/plan"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/units"
)

func TestMain(m *testing.M) {
	code := m.Run()
	demotest.Done()
	os.Exit(code)
}

// ferry opens a workshop on a demo bench.
func ferry(t *testing.T) (*Workshop, []*bench.Disk) {
	t.Helper()
	b := demotest.Bench(t)
	w, err := New(b.State, []string{b.Disks}, false)
	if err != nil {
		t.Fatal(err)
	}
	if err := w.OpenShelf(t.Context(), b.Shelf); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.Shelf.Close)
	disks := w.Bench.List()
	for _, d := range disks {
		w.Bench.Probe(context.Background(), d)
	}
	return w, disks
}

func named(t *testing.T, disks []*bench.Disk, tail string) *bench.Disk {
	t.Helper()
	d, err := bench.Find(disks, tail)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func TestWhatBelongsTogether(t *testing.T) {
	w, disks := ferry(t)
	twins, problems := w.Shelf.Twins(t.Context())
	if len(twins) != 70 || len(problems) != 0 {
		t.Fatalf("%d twins, %v", len(twins), problems)
	}
	for tail, machine := range map[string]string{"0A64": "Purser's laptop", "D98F": "Purser's laptop",
		"40B1": "Ticket desk", "7731": ""} {
		if got := SuggestMachine(twins, []*bench.Disk{named(t, disks, tail)}); got != machine {
			t.Errorf("%s: %q instead of %q", tail, got, machine)
		}
	}
	if c := Companions(twins, disks, named(t, disks, "0A64")); len(c) != 1 || c[0] != named(t, disks, "D98F") {
		t.Errorf("companions of the laptop's first disk: %v", c)
	}
	if c := Companions(twins, disks, named(t, disks, "7731")); len(c) != 0 {
		t.Errorf("companions of a new disk: %v", c)
	}
}

func TestRestoreAndItsSummary(t *testing.T) {
	w, disks := ferry(t)
	twin, err := w.Shelf.Find(t.Context(), "Purser's laptop")
	if err != nil {
		t.Fatal(err)
	}
	target := named(t, disks, "40B1")
	p, err := w.PlanRestore(t.Context(), Origin{Twin: twin}, target, plan.Wish{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	s := SummarizeRestore([]*Pair{p})[0]
	if s.Confirm != "40B1" || len(s.Lost) != 4 || !strings.Contains(s.Lost[2], "Ticket desk") || len(s.Doubts) != 2 ||
		!strings.Contains(strings.Join(s.Doubts, "\n"), "gets no target") {
		t.Errorf("%+v", s)
	}
	r, proof := w.StartRestore(context.Background(), []*Pair{p})
	if err := r.Wait(); err != nil || proof() == nil || !proof().Holds() {
		t.Fatalf("%v %+v", err, proof())
	}
	if s := r.Snapshot(); s.All == 0 || s.Skipped == 0 {
		t.Errorf("moved %d, skipped %d", s.All, s.Skipped)
	}
	if proofs, _ := w.Shelf.Proofs(t.Context(), twin.ID); len(proofs) != 1 ||
		proofs[0].Of != disk.Sticker(target.Identity) {
		t.Errorf("%+v", proofs)
	}
}

func TestWhatIsMissing(t *testing.T) {
	w, err := New(t.TempDir(), nil, false)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.PlanCapture(t.Context(), "Kiosk", nil, nil, nil); !errors.Is(err, ErrNoShelf) {
		t.Errorf("%v", err)
	}
	if _, err := w.PlanRestore(t.Context(), Origin{Twin: &shelf.Twin{}}, nil, plan.Wish{}, nil); !errors.Is(err,
		ErrNoShelf) {
		t.Errorf("%v", err)
	}
	if err := w.OpenShelf(t.Context(), t.TempDir()); !errors.Is(err, store.ErrNoShelf) {
		t.Errorf("%v", err)
	}
	w, disks := ferry(t)
	if _, err := w.PlanCapture(t.Context(), "Kiosk", []*bench.Disk{{Path: "x.img", Problem: "there is no such file"}},
		nil, nil); err == nil || !strings.Contains(err.Error(), "no such file") {
		t.Errorf("%v", err)
	}
	// Out of reach stays out of reach for the plan too.
	oak := named(t, disks, "41C8")
	twin, err := w.Shelf.Find(t.Context(), "Weighbridge")
	if err != nil {
		t.Fatal(err)
	}
	var refused *disk.Refusal
	if _, err := w.PlanRestore(t.Context(), Origin{Twin: twin}, oak, plan.Wish{}, nil); !errors.As(err, &refused) {
		t.Errorf("%v", err)
	}
}

func TestConfirm(t *testing.T) {
	for _, c := range []struct {
		id   disk.Identity
		want string
	}{
		{disk.Identity{Serial: "HH1-90C2E7731"}, "7731"}, {disk.Identity{Serial: "A1"}, "A1"},
		{disk.Identity{Size: 500 * units.GB}, "500 GB"},
	} {
		if got, _ := Confirm(c.id); got != c.want {
			t.Errorf("%+v: %q", c.id, got)
		}
	}
}

// TestDamagedTwinFileHidesNoOther: one hurt twin is reported and the others listed.
func TestDamagedTwinFileHidesNoOther(t *testing.T) {
	w, _ := ferry(t)
	files, _ := filepath.Glob(filepath.Join(w.Shelf.Place(), "twins", "slipway-crane*", "*.twin"))
	if len(files) != 1 {
		t.Fatalf("%v", files)
	}
	if err := os.Truncate(files[0], 300); err != nil {
		t.Fatal(err)
	}
	if twins, problems := w.Shelf.Twins(t.Context()); len(twins) != 70 || len(problems) != 0 {
		t.Errorf("with its copy: %d twins, %v", len(twins), problems)
	}
	if err := os.Truncate(strings.Replace(files[0], "/twins/", "/copies/twins/", 1), 300); err != nil {
		t.Fatal(err)
	}
	twins, problems := w.Shelf.Twins(t.Context())
	if len(twins) != 69 || len(problems) != 1 || !strings.Contains(problems[0].Error(), "slipway-crane") {
		t.Errorf("%d twins, %v", len(twins), problems)
	}
}
