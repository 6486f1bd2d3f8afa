package workshop

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/plan"
	"twinshelf/internal/restore"
)

// TestInterruptedRestoreGoesOn: a cancelled restore is found again when the same is planned, goes on, and proves;
// another plan begins anew.
func TestInterruptedRestoreGoesOn(t *testing.T) {
	w, disks := ferry(t)
	twin, err := w.Shelf.Find(t.Context(), "Ticket desk")
	if err != nil {
		t.Fatal(err)
	}
	target := named(t, disks, "7731")
	planned := func(wish plan.Wish) *Pair {
		t.Helper()
		w.Bench.Probe(context.Background(), target) // as it is now
		p, err := w.PlanRestore(t.Context(), Origin{Twin: twin}, target, wish, nil)
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	p := planned(plan.Wish{})
	if p.Plan.Before() != nil {
		t.Fatal("there is an earlier run of a plan that was never carried out")
	}
	r, _ := w.StartRestore(context.Background(), []*Pair{p})
	for s := r.Snapshot(); s.Done < 8<<20 && !s.Over(); s = r.Snapshot() {
		time.Sleep(time.Millisecond)
	}
	r.Cancel()
	if err := r.Wait(); !errors.Is(err, context.Canceled) {
		t.Fatalf("it ended before it could be cancelled: %v", err)
	}
	if p := planned(plan.Wish{Wish: fit.Wish{Keep: true}}); p.Plan.Before() != nil {
		t.Error("another plan goes on from it")
	}
	p = planned(plan.Wish{})
	if b := p.Plan.Before(); b == nil || b.Upto < 1<<20 ||
		!strings.Contains(strings.Join(SummarizeRestore([]*Pair{p})[0].Steps, "\n"),
			"goes on where an earlier run was cut off") {
		t.Fatalf("it isn't found: %+v", b)
	}
	r, proof := w.StartRestore(context.Background(), []*Pair{p})
	if err := r.Wait(); err != nil || !proof().Holds() {
		t.Fatalf("%v %+v", err, proof())
	}
	if notes := strings.Join(r.Snapshot().Notes, "\n"); !strings.Contains(notes, "goes on at byte") {
		t.Errorf("notes: %s", notes)
	}
	if p := planned(plan.Wish{}); p.Plan.Before() != nil {
		t.Error("the note outlives the end")
	}
}

// TestTargetsAreProposed: only blank disks, each for one, and none for a disk that is still there.
func TestTargetsAreProposed(t *testing.T) {
	w, disks := ferry(t)
	twin, err := w.Shelf.Find(t.Context(), "Purser's laptop")
	if err != nil {
		t.Fatal(err)
	}
	if got := bench.Propose(twin, disks); got[0] != nil || got[1] != nil {
		t.Errorf("%v and %v are proposed although both disks are there", got[0], got[1])
	}
	var others []*bench.Disk
	for _, d := range disks {
		if d.Identity.Tail() != "0A64" && d.Identity.Tail() != "D98F" {
			others = append(others, d)
		}
	}
	if got := bench.Propose(twin, others); got[0] == nil || got[0].Identity.Tail() != "7731" || got[1] != nil {
		t.Errorf("proposed %v and %v", got[0], got[1])
	}
	if d := bench.Attached(disk.Identity{Model: "Dunlin D 128", Serial: "DU128-77F20A64"}, disks); d == nil ||
		d.Identity.Tail() != "0A64" {
		t.Errorf("%v", d)
	}
}

// TestCounterfeitTarget: a drive that has less room than it says, and begins again at its start, is found out before
// anything is written for good; the start of it is cleared, and no proof comes of it.
func TestCounterfeitTarget(t *testing.T) {
	w, disks := ferry(t)
	twin, err := w.Shelf.Find(t.Context(), "Ticket desk")
	if err != nil {
		t.Fatal(err)
	}
	target := named(t, disks, "7731")
	l, err := disk.ReadLabel(target.Path)
	if err != nil {
		t.Fatal(err)
	}
	l.Faults = &disk.Faults{Wraps: target.Identity.Size * 5 / 8 / 4096 * 4096}
	b, err := json.Marshal(l)
	if err == nil {
		err = os.WriteFile(disk.LabelPath(target.Path), b, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	w.Bench.Probe(t.Context(), target)
	p, err := w.PlanRestore(t.Context(), Origin{Twin: twin}, target, plan.Wish{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	r, proof := w.StartRestore(t.Context(), []*Pair{p})
	var low *restore.Capacity
	if err := r.Wait(); !errors.As(err, &low) || low.Size != target.Identity.Size || proof() != nil {
		t.Errorf("%v, %+v", err, proof())
	}
	head := make([]byte, 1<<20)
	if d := target.Device; disk.ReadFull(d, head, 0) != nil || !disk.IsZero(head) {
		t.Error("its start isn't cleared")
	}
}
