package workshop

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/job"
	"twinshelf/internal/plan"
	"twinshelf/internal/ready"
	"twinshelf/internal/sheet"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
)

// forget takes away the cases that the demo begins with, here and on its shelf.
func forget(t *testing.T, w *Workshop) {
	t.Helper()
	for _, dir := range []string{w.State.Folder(), w.Shelf.Place()} {
		if err := os.RemoveAll(filepath.Join(dir, "jobs")); err != nil {
			t.Fatal(err)
		}
	}
}

// kiosksWork captures the kiosk and restores it onto the new disk: two works of one case.
func kiosksWork(t *testing.T, w *Workshop) *job.Job {
	t.Helper()
	disks := w.Bench.List()
	for _, d := range disks {
		w.Bench.Probe(t.Context(), d)
	}
	kiosk, target := named(t, disks, "C3E9"), named(t, disks, "7731")
	p, err := w.PlanCapture(t.Context(), "Harbour kiosk", append(disks[:0:0], kiosk), nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	r, result := w.StartCapture(t.Context(), p, nil)
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	pair, err := w.PlanRestore(t.Context(), Origin{Twin: result()}, target, plan.Wish{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	r, _ = w.StartRestore(t.Context(), []*Pair{pair})
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	j := w.Job()
	if j == nil {
		t.Fatal("no case was opened")
	}
	return j
}

// TestWorkIsOnRecord: a case opens by itself with the first work, and has of each work what was planned, confirmed and
// came of it; the shelf has the same, sealed with it.
func TestWorkIsOnRecord(t *testing.T) {
	w, _ := ferry(t)
	forget(t, w)
	j := kiosksWork(t, w)
	if j.Machine != "Harbour kiosk" || !strings.HasSuffix(j.Number, "-001") || len(j.Problems) > 0 {
		t.Errorf("%+v", j.Case)
	}
	works := j.Works()
	if len(works) != 2 {
		t.Fatalf("%+v", works)
	}
	capture, restored := works[0], works[1]
	if capture.Sort != job.Capture || capture.Result == nil || capture.Result.State != "done" ||
		capture.Result.Twin == "" || capture.Result.Used < 1e9 || len(capture.From) != 1 ||
		len(capture.From[0].Parts) != 3 || capture.Shelf != "Oak" || capture.Expected <= 0 {
		t.Errorf("the capture: %+v %+v", capture, capture.Result)
	}
	if restored.Sort != job.Restore || restored.Twin != capture.Result.Twin || restored.Result == nil ||
		len(restored.Result.Claims) < 5 || len(restored.Before) != 1 || len(restored.After) != 1 ||
		len(restored.Before[0].Parts) != 0 || len(restored.After[0].Parts) != 3 || len(restored.Does) == 0 {
		t.Errorf("the restore: %+v %+v", restored, restored.Result)
	}
	after, from := restored.After[0], restored.From[0]
	if after.Identity.Tail() != "7731" || after.Parts[1].Size < from.Parts[1].Size {
		t.Errorf("%+v", after)
	}
	// Another machine has the shelf, and nothing else.
	other, err := New(t.TempDir(), nil, false)
	if err != nil {
		t.Fatal(err)
	}
	s, err := shelf.Open(t.Context(), w.Shelf.Place(), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	other.Shelf = s
	jobs, problems := other.Jobs(t.Context())
	if len(jobs) != 1 || len(problems) > 0 || jobs[0].ID != j.ID || len(jobs[0].Entries) != len(j.Entries) {
		t.Fatalf("%+v %v", jobs, problems)
	}
	// What both enter comes together.
	if err := other.NoteJob(t.Context(), jobs[0], "seen on the other machine"); err != nil {
		t.Fatal(err)
	}
	if err := w.NoteJob(t.Context(), j, "seen here"); err != nil {
		t.Fatal(err)
	}
	if jobs, problems = w.Jobs(t.Context()); len(problems) > 0 || len(jobs[0].Notes()) != 2 {
		t.Errorf("%+v %v", jobs[0].Notes(), problems)
	}
}

// TestWhichCase: work on another machine doesn't come into this one's case, and what is cancelled or fails is on
// record too.
func TestWhichCase(t *testing.T) {
	w, disks := ferry(t)
	ctx := t.Context()
	asked, err := w.NewJob(ctx, job.Case{Customer: "Pell Okonja", Asked: "a larger disk"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.NewJob(ctx, job.Case{Number: asked.Number}); !errors.Is(err, ErrNumberTaken) {
		t.Errorf("two cases of one number: %v", err)
	}
	twin := func(name string) *shelf.Twin {
		tw, err := w.Shelf.Find(ctx, name)
		if err != nil {
			t.Fatal(err)
		}
		return tw
	}
	prove := func(name string) {
		r, _ := w.StartProofTwin(ctx, twin(name))
		if err := r.Wait(); err != nil {
			t.Fatal(err)
		}
	}
	prove("Weighbridge") // the case was opened before anything was known of its machine
	if j := w.Job(); j.ID != asked.ID || j.Machine != "Weighbridge" || j.Customer != "Pell Okonja" {
		t.Errorf("%+v", j)
	}
	prove("Slipway crane")
	crane := w.Job()
	if crane.ID == asked.ID || crane.Machine != "Slipway crane" {
		t.Errorf("%+v", crane)
	}
	prove("Weighbridge") // back into the open case of that machine
	if j := w.Job(); j.ID != asked.ID || len(j.Works()) != 2 {
		t.Errorf("%+v", j)
	}
	if got := w.machineOf(ctx, named(t, disks, "C3E9")); got != "Harbour kiosk" { // a copy goes into its case
		t.Errorf("the kiosk's disk belongs to %q", got)
	}
	if got := w.machineOf(ctx, named(t, disks, "7731")); got != "" {
		t.Errorf("a blank disk belongs to %q", got)
	}
	if err := w.CloseJob(ctx, w.Job()); err != nil || w.Job() != nil {
		t.Error(err, w.Job())
	}
	if err := w.UseJob(crane.ID); err != nil {
		t.Fatal(err)
	}
	target := named(t, disks, "7731") // a layout is of no machine: it belongs to the case that is chosen
	e, err := w.PlanErase(ctx, target, ready.Quick)
	if err != nil {
		t.Fatal(err)
	}
	cancelled, cancel := context.WithCancel(ctx)
	cancel()
	r := w.StartErase(cancelled, e)
	if err := r.Wait(); !errors.Is(err, context.Canceled) {
		t.Fatal(err)
	}
	works := w.Job().Works()
	if last := works[len(works)-1]; last.Sort != job.Erase || last.Result == nil || last.Result.State != "cancelled" {
		t.Errorf("%+v", last)
	}
}

// TestRecordThatCantBeKept: the work goes on, and the run says that it isn't on record.
func TestRecordThatCantBeKept(t *testing.T) {
	w, _ := ferry(t)
	forget(t, w)
	if err := os.WriteFile(filepath.Join(w.State.Folder(), "jobs"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	tw, err := w.Shelf.Find(t.Context(), "Weighbridge")
	if err != nil {
		t.Fatal(err)
	}
	r, proof := w.StartProofTwin(t.Context(), tw)
	if err := r.Wait(); err != nil || !proof().Holds() {
		t.Fatal(err)
	}
	if !slices.ContainsFunc(r.Snapshot().Notes, func(n string) bool { return strings.Contains(n, "isn't on record") }) {
		t.Errorf("%q", r.Snapshot().Notes)
	}
}

// TestUnreadFilesAreOnRecord: the capture of a failing disk enters the files that it hit.
func TestUnreadFilesAreOnRecord(t *testing.T) {
	w, disks := ferry(t)
	p, err := w.PlanCapture(t.Context(), "Slipway crane", append(disks[:0:0], named(t, disks, "E6F5")), nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	r, result := w.StartCapture(t.Context(), p, nil)
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	works := w.Job().Works()
	got := works[0].Result
	if result().Missing() == 0 || got.Unread != result().Missing() || len(got.Hit) == 0 {
		t.Errorf("%d bytes are missing; on record: %+v", result().Missing(), got)
	}
}

// TestLooksAndAnswers: what a disk was like is entered once, and a work says what was asked and typed before it.
func TestLooksAndAnswers(t *testing.T) {
	w, disks := ferry(t)
	forget(t, w)
	ctx := t.Context()
	j, err := w.NewJob(ctx, job.Case{Machine: "Purser's laptop"})
	if err != nil {
		t.Fatal(err)
	}
	first := named(t, disks, "0A64")
	for i, want := range []bool{true, false} {
		if entered, err := w.LookJob(ctx, j, first); err != nil || entered != want {
			t.Errorf("look %d: %v %v", i, entered, err)
		}
	}
	twin, err := w.Shelf.Find(ctx, "Purser's laptop")
	if err != nil {
		t.Fatal(err)
	}
	target := named(t, disks, "7731")
	pair, err := w.PlanRestore(ctx, Origin{Twin: twin}, target, plan.Wish{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	r, _ := w.StartRestore(ctx, []*Pair{pair})
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	j = w.Job()
	looks, works := j.Looks(), j.Works()
	if len(looks) != 1 || looks[0].Look.Identity.Tail() != "0A64" || len(looks[0].Look.Parts) != 2 || len(works) != 1 {
		t.Fatalf("%+v %+v", looks, works)
	}
	k := works[0]
	if len(k.Confirmed) != 1 || !strings.HasPrefix(k.Confirmed[0], "7731 was typed") || len(k.Answers) != 1 ||
		!strings.Contains(k.Answers[0].Asked, "disk 2 of the machine") || k.Answers[0].Answer != "yes" {
		t.Errorf("%q %+v", k.Confirmed, k.Answers)
	}
	w.Bench.Probe(ctx, target)
	if entered, err := w.LookJob(ctx, j, target); err != nil || !entered {
		t.Errorf("%v %v", entered, err)
	}
	text := ""
	for _, b := range mustSheet(t, w, j).Blocks() {
		for _, f := range b.Facts {
			text += f[0] + " " + f[1] + "\n"
		}
	}
	for _, want := range []string{"Looked at", "Dunlin D 128", "Confirmed 7731 was typed",
		"Asked disk 2 of the machine"} {
		if !strings.Contains(text, want) {
			t.Errorf("the sheet doesn't say %q:\n%s", want, text)
		}
	}
}

func mustSheet(t *testing.T, w *Workshop, j *job.Job) sheet.Sheet {
	t.Helper()
	s, err := w.SheetOf(j, sheet.ForEngineers)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// TestCasesAreCarried: cases go along with a shelf, and with some machines of it theirs alone.
func TestCasesAreCarried(t *testing.T) {
	w, _ := ferry(t)
	forget(t, w)
	ctx := t.Context()
	for _, machine := range []string{"Weighbridge", "Slipway crane"} {
		if _, err := w.NewJob(ctx, job.Case{Machine: machine}); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		machines []string
		want     int
	}{{[]string{"Slipway crane"}, 1}, {[]string{"Chart table"}, 0}, {nil, 2}} {
		to, err := shelf.Create(ctx, filepath.Join(t.TempDir(), "elm"), store.New{Name: "Elm"})
		if err != nil {
			t.Fatal(err)
		}
		var twins []*shelf.Twin
		for _, m := range c.machines {
			tw, err := w.Shelf.Find(ctx, m)
			if err != nil {
				t.Fatal(err)
			}
			twins = append(twins, tw)
		}
		r, _ := w.StartCarry(ctx, to, twins)
		if err := r.Wait(); err != nil {
			t.Fatal(err)
		}
		ids, err := shelf.CasesOn(to).IDs(ctx)
		if err != nil || len(ids) != c.want || len(r.Snapshot().Notes) > 0 {
			t.Errorf("%q: %d cases, %v, %q", c.machines, len(ids), err, r.Snapshot().Notes)
		}
		to.Close()
	}
}

// BenchmarkThousandCases lists a thousand cases of ten entries each.
func BenchmarkThousandCases(b *testing.B) {
	w, err := New(b.TempDir(), nil, false)
	if err != nil {
		b.Fatal(err)
	}
	for range 1000 {
		var all []job.Entry
		e := job.NewEntry(job.About)
		e.About = &job.Case{Number: "2026-1", Machine: "Weighbridge"}
		for all = append(all, e); len(all) < 10; {
			n := job.NewEntry(job.Noted)
			n.Note = strings.Repeat("the old drive clicks ", 100)
			all = append(all, n)
		}
		if err := w.book().Append(job.NewID(), all...); err != nil {
			b.Fatal(err)
		}
	}
	for b.Loop() {
		if jobs, problems := w.Jobs(b.Context()); len(jobs) != 1000 || len(problems) > 0 {
			b.Fatal(len(jobs), problems)
		}
	}
}
