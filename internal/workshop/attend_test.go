package workshop

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/plan"
)

// vanishes has a stand-in vanish after so many bytes, each time that it is attached.
func vanishes(t *testing.T, d *bench.Disk, after int64) {
	t.Helper()
	l, err := disk.ReadLabel(d.Path)
	if err != nil {
		t.Fatal(err)
	}
	l.Faults = &disk.Faults{GoneAfter: after}
	b, err := json.Marshal(l)
	if err == nil {
		err = os.WriteFile(disk.LabelPath(d.Path), b, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// TestVanishingSource: a capture and a copy wait for a drive that vanishes, and go on with it: nothing of it is
// missing.
func TestVanishingSource(t *testing.T) {
	w, _ := ferry(t)
	disks := w.Bench.List()
	kiosk, target := named(t, disks, "C3E9"), named(t, disks, "7731")
	vanishes(t, kiosk, 48<<20)
	for _, d := range []*bench.Disk{kiosk, target} {
		if w.Bench.Probe(t.Context(), d); d.Problem != "" {
			t.Fatal(d.Problem)
		}
	}
	p, err := w.PlanCapture(t.Context(), "Harbour kiosk", []*bench.Disk{kiosk}, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	r, result := w.StartCapture(t.Context(), p, nil)
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	if twin := result(); !twin.Disks[0].Missing.Empty() || twin.Used < 1e9 {
		t.Errorf("%v is missing of %d bytes", twin.Disks[0].Missing, twin.Used)
	}
	pair, err := w.PlanRestore(t.Context(), Origin{Bench: kiosk}, target, plan.Wish{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	r, proof := w.StartRestore(t.Context(), []*Pair{pair})
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	for _, c := range proof().Claims {
		if !c.Holds && !strings.Contains(c.Says, "start") {
			t.Errorf("%+v", c)
		}
	}
}
