package workshop

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/routine"
	"twinshelf/internal/run"
	"twinshelf/internal/testkit"
)

// saved keeps a routine for the kiosk's disk, with further lines.
func saved(t *testing.T, w *Workshop, lines string) *routine.Routine {
	t.Helper()
	r, err := routine.Parse(strings.NewReader(routine.Head + "\nname: Kiosk\nmachine: Harbour kiosk\n" +
		"disk: Sandmartin S 64, SM640027C3E9\n" + lines))
	if err != nil {
		t.Fatal(err)
	}
	if err := w.Routines().Save(r, time.Now().Add(-time.Minute)); err != nil {
		t.Fatal(err)
	}
	return r
}

func waits(r *run.Run) error { return r.Wait() }

// TestRoutineRuns: a routine does its steps in their order onto the first shelf that can be had, and its history says
// what became of it: done, nothing new, failed with the reason, stopped; what was missed is there, too.
func TestRoutineRuns(t *testing.T) {
	w, disks := ferry(t)
	elm := elm(t, false)
	r := saved(t, w, "shelf: Nowhere\nshelf: Oak\ndo: capture\npack: close\ndo: prove\ndo: check 3 %\ndo: carry to "+
		elm+"\n")
	missed := time.Now().Add(-24 * time.Hour)
	e, err := w.RunRoutine(t.Context(), r, routine.Due{Missed: []time.Time{missed}}, waits)
	if err != nil || e.Outcome != routine.Done || e.Twin == "" || len(e.Log) < 4 ||
		!strings.Contains(e.Says, "captured onto Oak") || !strings.Contains(e.Says, "proven") ||
		!strings.Contains(e.Says, "carried to Elm") {
		t.Fatalf("%+v %v", e, err)
	}
	twin, err := w.Shelf.Find(t.Context(), e.Twin)
	if err != nil || twin.Machine != "Harbour kiosk" {
		t.Fatal(err)
	}
	if p := twin.Packing; p.Close == 0 || p.Swift+p.Usual+p.Firm+p.Closer > 0 {
		t.Errorf("packed otherwise than closely: %+v", p)
	}
	retired, err := w.OpenOther(t.Context(), elm)
	if err != nil {
		t.Fatal(err)
	}
	defer retired.Close()
	if err := retired.Retire(t.Context(), "full"); err != nil {
		t.Fatal(err)
	}
	r = saved(t, w, "shelf: Elm\nshelf: Oak\ndo: capture\n")
	if e, err = w.RunRoutine(t.Context(), r, routine.Due{}, waits); err != nil || e.Outcome != routine.Nothing {
		t.Errorf("the same again: %+v %v", e, err)
	}
	e, err = w.RunRoutine(t.Context(), r, routine.Due{}, func(r *run.Run) error { r.Cancel(); return r.Wait() })
	if !errors.Is(err, context.Canceled) || e.Outcome != routine.Stopped {
		t.Errorf("stopped: %+v %v", e, err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	e, err = w.RunRoutine(ctx, r, routine.Due{}, func(r *run.Run) error { cancel(); return r.Wait() })
	if !errors.Is(err, context.Canceled) || e.Outcome != routine.Cut {
		t.Errorf("cut off: %+v %v", e, err)
	}
	// The wrong machine: nobody can be asked.
	wrong := *r
	wrong.Machine = "Ticket desk"
	if sure, not := w.RoutineDoubts(t.Context(), r), w.RoutineDoubts(t.Context(), &wrong); len(sure) > 0 ||
		len(not) == 0 {
		t.Errorf("doubts: %q and %q", sure, not)
	}
	if e, err = w.RunRoutine(t.Context(), &wrong, routine.Due{}, waits); err == nil || e.Outcome != routine.Failed ||
		!strings.Contains(e.Says, "nobody to ask") {
		t.Errorf("the wrong machine: %+v %v", e, err)
	}
	// Another disk that says that it is the same one; and then none.
	kiosk := named(t, disks, "C3E9").Path
	clone := filepath.Join(filepath.Dir(kiosk), "clone.img")
	testkit.Do(t, "cp", "--sparse=always", kiosk, clone)
	testkit.Do(t, "cp", disk.LabelPath(kiosk), disk.LabelPath(clone))
	if _, err = w.RunRoutine(t.Context(), r, routine.Due{}, waits); err == nil ||
		!strings.Contains(err.Error(), "both say that they are") {
		t.Errorf("a clone: %v", err)
	}
	for _, name := range []string{kiosk, clone} {
		if err := os.Remove(name); err != nil {
			t.Fatal(err)
		}
	}
	if e, err = w.RunRoutine(t.Context(), r, routine.Due{}, waits); !errors.Is(err, ErrAway) ||
		e.Outcome != routine.Failed {
		t.Errorf("away: %+v %v", e, err)
	}
	r.Shelves = []string{"Nowhere"}
	if _, err = w.RunRoutine(t.Context(), r, routine.Due{}, waits); err == nil ||
		!strings.Contains(err.Error(), "no shelf of it can be had") {
		t.Errorf("no shelf: %v", err)
	}
	if all := w.Overdue(time.Now()); len(all) != 1 || !strings.Contains(all[0], "the routine Kiosk failed") {
		t.Errorf("said at the start: %q", all)
	}
	lock, err := w.Routines().Lock(r.Name)
	if err != nil {
		t.Fatal(err)
	}
	defer lock.Close()
	if _, err = w.RunRoutine(t.Context(), r, routine.Due{}, waits); !errors.As(err, new(*routine.BusyError)) {
		t.Errorf("twice at once: %v", err)
	}
	s, err := w.RoutineState(r, time.Now())
	if err != nil || !s.Running || s.LastWords() != "running now" {
		t.Errorf("%+v %v", s, err)
	}
	var outcomes []string
	for _, e := range s.History {
		outcomes = append(outcomes, string(e.Outcome))
	}
	const want = "missed, done, nothing new, stopped, cut off, failed, failed, failed, failed"
	if got := strings.Join(outcomes, ", "); got != want {
		t.Error(got)
	}
}

// TestRoutinesAreWatched: what is due runs once, what waits says for what, what is broken is told, and the watch ends
// with its context.
func TestRoutinesAreWatched(t *testing.T) {
	w, _ := ferry(t)
	saved(t, w, "shelf: Oak\ndo: check 1 %\nwhen: when older than 1 hour\n")
	other := saved(t, w, "shelf: Oak\ndo: capture\nwhen: when older than 1 hour\n")
	other.Name, other.Disks = "Buoy", []routine.Disk{{Model: "Tern T 1", Serial: "T1-0000"}}
	if err := w.Routines().Save(other, time.Now()); err != nil {
		t.Fatal(err)
	}
	saved(t, w, "shelf: Oak\ndo: check 1 %\nwhen: when older than 1 hour\n")
	broken := filepath.Join(w.State.Folder(), "routines/Broken")
	if err := os.Mkdir(broken, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(broken, "routine.txt"), []byte(routine.Head+"\nname Broken\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	var said []string
	err := w.WatchRoutines(ctx, waits, func(name, what string) {
		if said = append(said, name+": "+what); strings.HasPrefix(what, "done") {
			cancel()
		}
	})
	all := strings.Join(said, "\n")
	for _, want := range []string{"Kiosk: begins", "Kiosk: done: checked", "Buoy: waits: Tern T 1, T1-0000 isn't " +
		"attached",
		"Broken: ", "line 2"} {
		if !strings.Contains(all, want) {
			t.Errorf("no %q in %s", want, all)
		}
	}
	if all := strings.Join(w.Overdue(time.Now().Add(48*time.Hour)), "\n"); !strings.Contains(all, "Buoy is due since") {
		t.Errorf("said at the start: %s", all)
	}
	if h, _, _ := w.Routines().History("Kiosk"); err != nil || len(h) != 1 || h[0].Slot.IsZero() {
		t.Errorf("%+v %v", h, err)
	}
}
