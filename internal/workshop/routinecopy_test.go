package workshop

import (
	"bytes"
	"context"
	"errors"
	"io"
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

// head is the beginning of a disk.
func head(t *testing.T, path string) []byte {
	t.Helper()
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	b := make([]byte, 2<<20)
	if _, err := io.ReadFull(f, b); err != nil {
		t.Fatal(err)
	}
	return b
}

// TestRoutineCopies: a spare is erased only once that was confirmed, as it was confirmed, and only by model and serial
// number: another disk in its place, two that say that they are it, a source in use and a change of the text write
// nothing.
func TestRoutineCopies(t *testing.T) {
	w, disks := ferry(t)
	kiosk, spare := named(t, disks, "C3E9"), named(t, disks, "7731")
	r := saved(t, w, "spare: "+spare.Identity.Model+", "+spare.Identity.Serial+"\ndo: copy\n")
	before := head(t, spare.Path)
	same := func(why string) {
		t.Helper()
		if !bytes.Equal(head(t, spare.Path), before) {
			t.Fatalf("%s: the spare was written", why)
		}
	}
	var unsure *UnconfirmedError
	if _, err := w.RunRoutine(t.Context(), r, routine.Due{}, waits); !errors.As(err, &unsure) {
		t.Errorf("not confirmed: %v", err)
	}
	same("not confirmed")
	sum := SummarizeRoutine(r)
	if len(sum) != 1 || sum[0].Confirm != spare.Identity.Serial || !strings.Contains(sum[0].Head, "nobody is asked") {
		t.Errorf("%+v", sum)
	}
	if err := w.ConfirmRoutine(r); err != nil {
		t.Fatal(err)
	}
	changed := *r
	changed.Disks = []routine.Disk{{Model: "Tern T 1", Serial: "T1-0000"}}
	if _, err := w.RunRoutine(t.Context(), &changed, routine.Due{}, waits); !errors.As(err, &unsure) {
		t.Errorf("changed: %v", err)
	}
	label := disk.LabelPath(spare.Path)
	was, err := os.ReadFile(label)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(label, bytes.ReplaceAll(was, []byte(spare.Identity.Serial), []byte("WS-0")),
		0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := w.RunRoutine(t.Context(), r, routine.Due{}, waits); !errors.Is(err, ErrAway) {
		t.Errorf("another disk in its place: %v", err)
	}
	same("another disk")
	if err := os.WriteFile(label, was, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := w.ToggleReach(spare.Identity); err != nil {
		t.Fatal(err)
	}
	if _, err := w.RunRoutine(t.Context(), r, routine.Due{}, waits); err == nil {
		t.Error("a spare out of reach is written")
	}
	same("out of reach")
	if err := w.ToggleReach(spare.Identity); err != nil {
		t.Fatal(err)
	}
	e, err := w.RunRoutine(t.Context(), r, routine.Due{}, waits)
	if err != nil || e.Outcome != routine.Done || !strings.Contains(e.Says, "copied onto 1 spare and read back") {
		t.Fatalf("%+v %v", e, err)
	}
	const volume = 1<<20 + 0x43 // serial number, label and type of the first part's FAT32
	if a, b := head(t, kiosk.Path), head(t, spare.Path); !bytes.Equal(a[volume:volume+23], b[volume:volume+23]) ||
		bytes.Equal(b, before) {
		t.Errorf("the spare isn't a copy: %q and %q", a[volume:volume+23], b[volume:volume+23])
	}
	clone := filepath.Join(filepath.Dir(spare.Path), "clone.img")
	testkit.Do(t, "cp", "--sparse=always", spare.Path, clone)
	testkit.Do(t, "cp", label, disk.LabelPath(clone))
	if _, err := w.RunRoutine(t.Context(), r, routine.Due{}, waits); err == nil ||
		!strings.Contains(err.Error(), "both say that they are") {
		t.Errorf("two spares: %v", err)
	}
}

// TestOwnRule: a routine's own rule drops only what its last run named, and the sheet is laid into its folder; the case
// that a person chose stays chosen.
func TestOwnRule(t *testing.T) {
	w, _ := ferry(t)
	folder := t.TempDir()
	chosen := w.State.Job
	r := saved(t, w, "shelf: Oak\ndo: capture\ndo: thin\ndo: sheet to "+folder+"\nkeep: one a year for ever; never "+
		"fewer than 1\n")
	count := func() (n int) {
		twins, _ := w.Shelf.Twins(t.Context())
		for _, x := range twins {
			if x.Machine == r.Machine {
				n++
			}
		}
		return n
	}
	for range 2 { // dates of one day
		only := saved(t, w, "shelf: Oak\ndo: capture\n")
		if _, err := w.RunRoutine(t.Context(), only, routine.Due{}, waits); err != nil {
			t.Fatal(err)
		}
	}
	saved(t, w, "shelf: Oak\ndo: capture\n")
	had := count()
	first, err := w.RunRoutine(t.Context(), r, routine.Due{}, waits)
	if err != nil || len(first.Leaving) == 0 || count() != had+1 || !strings.Contains(first.Says, "0 twins dropped") {
		t.Fatalf("nothing was said before: %d of %d left, %+v %v", count(), had, first, err)
	}
	second, err := w.RunRoutine(t.Context(), r, routine.Due{}, waits)
	if err != nil || count() != had+2-len(first.Leaving) {
		t.Errorf("%d left of %d, %d were named: %+v %v", count(), had, len(first.Leaving), second, err)
	}
	for _, id := range first.Leaving {
		if _, err := w.Shelf.Find(t.Context(), id); err == nil {
			t.Errorf("%s is still there", id)
		}
	}
	sheets, err := filepath.Glob(filepath.Join(folder, "Harbour kiosk *.pdf"))
	if err != nil || len(sheets) == 0 {
		t.Errorf("%q %v", sheets, err)
	}
	if w.State.Job != chosen {
		t.Errorf("the case %q was chosen before, %q now", chosen, w.State.Job)
	}
}

// TestRoutineIsStopped: another process sees how a run goes and stops it; what was tried again counts its tries, and a
// step that fails doesn't keep the next one where the routine goes on.
func TestRoutineIsStopped(t *testing.T) {
	w, _ := ferry(t)
	r := saved(t, w, "shelf: Oak\ndo: capture\n")
	stopped := make(chan error, 1)
	e, err := w.RunRoutine(t.Context(), r, routine.Due{}, func(x *run.Run) error {
		x.TogglePause()
		go func() { stopped <- w.StopRoutine(t.Context(), r.Name) }()
		return x.Wait()
	})
	if !errors.Is(err, context.Canceled) || e.Outcome != routine.Stopped {
		t.Errorf("%+v %v", e, err)
	}
	if err := <-stopped; err != nil {
		t.Error(err)
	}
	if err := w.StopRoutine(t.Context(), r.Name); !errors.As(err, new(*routine.IdleError)) {
		t.Errorf("nothing runs: %v", err)
	}
	r = saved(t, w, "shelf: Oak\ndo: carry to Nowhere\ndo: check 1 %\non failure: go on\non failure: try again 1 time "+
		"after 1 minute\n")
	e, err = w.RunRoutine(t.Context(), r, routine.Due{Slot: time.Now(), Try: 1}, waits)
	if err == nil || e.Outcome != routine.Failed || e.Try != 1 || !strings.Contains(e.Says, "carry to Nowhere") ||
		!strings.Contains(strings.Join(e.Log, "\n"), "checked") || strings.Contains(strings.Join(e.Log, "\n"),
		"tried again") {
		t.Errorf("%+v %v", e, err)
	}
}

// TestSealedShelf: a routine opens a sealed shelf by a passphrase that it says where to find, and by no other.
func TestSealedShelf(t *testing.T) {
	w, _ := ferry(t)
	w.Passphrase = func(string) ([]byte, error) {
		t.Error("somebody was asked")
		return nil, errors.New("nobody is there")
	}
	dir := t.TempDir()
	wrong, right := filepath.Join(dir, "wrong"), filepath.Join(dir, "right")
	for path, p := range map[string]string{wrong: "low tide", right: "gulls over the pier"} {
		if err := os.WriteFile(path, []byte(p+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	sealed := elm(t, true)
	lines := "shelf: " + sealed + "\ndo: check 100 %\npassphrase: file " + wrong + "\n"
	if e, err := w.RunRoutine(t.Context(), saved(t, w, lines), routine.Due{}, waits); err == nil ||
		!strings.Contains(e.Says, "not one of this shelf's") {
		t.Errorf("a wrong passphrase: %+v %v", e, err)
	}
	if e, err := w.RunRoutine(t.Context(), saved(t, w, lines+"passphrase: file "+right+"\n"), routine.Due{},
		waits); err != nil || e.Outcome != routine.Done {
		t.Errorf("%+v %v", e, err)
	}
	w.Passphrase = nil
	if e, err := w.RunRoutine(t.Context(), saved(t, w, "shelf: "+elm(t, true)+"\ndo: check 100 %\n"), routine.Due{},
		waits); err == nil || !strings.Contains(e.Says, "passphrase: file") {
		t.Errorf("without one: %+v %v", e, err)
	}
}
