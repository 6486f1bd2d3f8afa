package workshop

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/keeping"
	"twinshelf/internal/settings"
	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store"
)

// elm makes a second shelf beside the demo's.
func elm(t *testing.T, sealed bool) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "elm")
	var s *shelf.Shelf
	var err error
	if sealed {
		s, err = shelf.Create(t.Context(), dir,
			store.New{Name: "Elm", Passphrase: []byte("gulls over the pier"),
				Cost: store.Cost{Passes: 1, Memory: 64, Threads: 1}})
	} else {
		s, err = shelf.Create(t.Context(), dir, store.New{Name: "Elm"})
	}
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
	return dir
}

func TestCarryAndKnownShelves(t *testing.T) {
	ctx := context.Background()
	w, _ := ferry(t)
	if err := w.Remember(ctx, w.Shelf); err != nil {
		t.Fatal(err)
	}
	dir := elm(t, true)
	if _, err := w.OpenOther(ctx, dir); !errors.Is(err, store.ErrSealed) {
		t.Errorf("a sealed one without a passphrase: %v", err)
	}
	asked := 0
	w.Passphrase = func(string) ([]byte, error) { asked++; return []byte("gulls over the pier"), nil }
	to, err := w.OpenOther(ctx, dir)
	if err != nil || asked != 1 {
		t.Fatal(err, asked)
	}
	r, moved := w.StartCarry(ctx, to, nil)
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	m := moved()
	if m.Twins != 70 || len(m.Compared) != 70 || m.Bytes == 0 {
		t.Errorf("%+v", m.Carried)
	}
	for _, c := range m.Compared {
		if !c.Here || !c.There || c.Differ {
			t.Errorf("%+v", c)
		}
	}
	if r, moved = w.StartCarry(ctx, to, nil); r.Wait() != nil || moved().Twins != 0 || moved().Already != 70 {
		t.Errorf("a second time: %+v", moved().Carried)
	}
	twins, _ := to.Twins(ctx)
	if err := to.Discard(ctx, twins[0], "test"); err != nil {
		t.Fatal(err)
	}
	if err := w.Remember(ctx, to); err != nil {
		t.Fatal(err)
	}
	to.Close()
	known := w.Known(ctx)
	if len(known) != 2 || !known[0].Here || known[0].Open || !known[1].Open ||
		!strings.Contains(known[1].Words(), "open") {
		t.Errorf("%+v", known)
	}
	if len(known[0].Disks) != 0 {
		t.Errorf("whose disks a sealed shelf knows lies open: %+v", known[0].Disks)
	}
	bridge := slices.IndexFunc(known[1].Disks, func(d settings.KnownDisk) bool { return d.Machine == "Weighbridge" })
	if bridge < 0 || len(known[1].Disks) != 7 {
		t.Errorf("%+v", known[1].Disks)
	} else if d := known[1].Disks[bridge]; d.Model != "Turnstone CF 4" || d.Twins != 60 {
		t.Errorf("%+v", d)
	} else {
		for _, tw := range twins {
			if tw.Machine == d.Machine && tw.Taken.After(d.Newest) {
				t.Errorf("%+v, and there is a twin of %v", d, tw.Taken)
			}
		}
	}
	if also := AlsoOn(known, twins[1].ID); len(also) != 1 || also[0] != "Elm" {
		t.Errorf("%s is also on %v", twins[1].ID, also)
	}
	if also := AlsoOn(known, twins[0].ID); len(also) != 0 {
		t.Errorf("a discarded one is also on %v", also)
	}
	if again, err := w.OpenOther(ctx, "Elm"); err != nil {
		t.Errorf("by its name: %v", err)
	} else {
		again.Close()
	}
	if got := w.InReach(ctx, false); got != w.Shelf.Place() {
		t.Errorf("in reach is %s", got)
	}
	if got := w.InReach(ctx, true); got != dir {
		t.Errorf("with sealed ones %s is in reach", got)
	}
	if err := os.Rename(dir, dir+".away"); err != nil {
		t.Fatal(err)
	}
	if _, err := w.OpenOther(ctx, "Elm"); err == nil || !strings.Contains(err.Error(), "last seen") ||
		!strings.Contains(err.Error(), "69 twins") {
		t.Errorf("one that isn't there: %v", err)
	}
	if err := w.Shelf.Retire(ctx, "test"); err != nil {
		t.Fatal(err)
	}
	if got := w.InReach(ctx, false); got != "" {
		t.Errorf("a retired one is in reach: %s", got)
	}
}

// TestReplaceComparesNow: what was carried a while ago doesn't make a shelf one that may be retired.
func TestReplaceComparesNow(t *testing.T) {
	w, _ := ferry(t)
	to, err := w.OpenOther(t.Context(), elm(t, false))
	if err != nil {
		t.Fatal(err)
	}
	defer to.Close()
	if r, _ := w.StartCarry(t.Context(), to, nil); r.Wait() != nil {
		t.Fatal(r.Wait())
	}
	twins, _ := to.Twins(t.Context())
	if err := to.Discard(t.Context(), twins[0], "test"); err != nil {
		t.Fatal(err)
	}
	if err := w.Replace(t.Context(), to); !errors.Is(err, ErrStillNeeded) {
		t.Errorf("one that went since: %v", err)
	}
	file := filepath.Join(w.Shelf.Place(), shelftest.TwinFile(t, w.Shelf, twins[0].ID))
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	if err := w.Replace(t.Context(), to); !errors.Is(err, ErrStillNeeded) {
		t.Errorf("one of which only the copy is left: %v", err)
	}
	if err := os.WriteFile(file, whole, 0o600); err != nil {
		t.Fatal(err)
	}
	if r, _ := w.StartCarry(t.Context(), to, nil); r.Wait() != nil {
		t.Fatal(r.Wait())
	}
	if err := w.Replace(t.Context(), to); err != nil {
		t.Errorf("with all carried: %v", err)
	}
	if _, retired, _ := w.Shelf.Retired(t.Context()); !retired {
		t.Error("it isn't retired")
	}
}

// TestMountWritableUnsure: a shelf with a twin that can't be read doesn't know every disk of a machine.
func TestMountWritableUnsure(t *testing.T) {
	w, disks := ferry(t)
	twins, _ := w.Shelf.Twins(t.Context())
	file := shelftest.TwinFile(t, w.Shelf, twins[0].ID)
	for _, f := range []string{file, store.CopyOf(file)} {
		if err := os.Truncate(filepath.Join(w.Shelf.Place(), f), 10); err != nil {
			t.Fatal(err)
		}
	}
	no := new(disk.Refusal)
	if _, err := w.MountWritable(t.Context(), named(t, disks, "7731"), 1); !errors.As(err, &no) ||
		!strings.Contains(no.Reason, "can't be told") {
		t.Errorf("%v", err)
	}
}

func TestCarryThatIsCancelled(t *testing.T) {
	w, _ := ferry(t)
	to, err := w.OpenOther(t.Context(), elm(t, false))
	if err != nil {
		t.Fatal(err)
	}
	defer to.Close()
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	r, _ := w.StartCarry(ctx, to, nil)
	if err := r.Wait(); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	if twins, problems := to.Twins(t.Context()); len(problems) > 0 || len(twins) == 70 {
		t.Errorf("%d twins, %v", len(twins), problems)
	}
	if r, moved := w.StartCarry(context.Background(), to, nil); r.Wait() != nil || moved().Twins+moved().Already != 70 {
		t.Errorf("the next time: %+v", moved().Carried)
	}
}

// TestThinningAfterACapture: only a rule that says so drops twins without being asked, and tells it.
func TestThinningAfterACapture(t *testing.T) {
	ctx := context.Background()
	w, disks := ferry(t)
	kiosk := named(t, disks, "C3E9")
	count := func() int {
		twins, _ := w.Shelf.Twins(ctx)
		n := 0
		for _, t := range twins {
			if t.Machine == "Harbour kiosk" {
				n++
			}
		}
		return n
	}
	var said []string // before the capture
	takes := func() string {
		t.Helper()
		p, err := w.PlanCapture(t.Context(), "Harbour kiosk", []*bench.Disk{kiosk}, nil, nil)
		if err != nil {
			t.Fatal(err)
		}
		leaving, err := w.Outgoing(ctx, "Harbour kiosk")
		if err != nil {
			t.Fatal(err)
		}
		said = leaving.Words()
		r, _ := w.StartCapture(ctx, p, leaving)
		if err := r.Wait(); err != nil {
			t.Fatal(err)
		}
		return strings.Join(r.Snapshot().Notes, "\n")
	}
	rule, err := keeping.ReadRule("one a year for ever; never fewer than 1")
	if err != nil {
		t.Fatal(err)
	}
	if err := keeping.SetRule(ctx, w.Shelf, "", rule); err != nil {
		t.Fatal(err)
	}
	if notes := takes(); count() != 4 || strings.Contains(notes, "went by the rule") || len(said) != 0 {
		t.Errorf("%d twins, %s", count(), notes)
	}
	rule.Auto = true
	if err := keeping.SetRule(ctx, w.Shelf, "Harbour kiosk", rule); err != nil {
		t.Fatal(err)
	}
	if notes := takes(); count() != 1 || !strings.Contains(notes, "4 twins of Harbour kiosk went by the rule") ||
		len(said) != 5 || !strings.Contains(said[0], "takes 4 twins of Harbour kiosk off the shelf") {
		t.Errorf("%d twins, %s, said before: %q", count(), notes, said)
	}
	// What wasn't said before the capture stays, whatever the rule says by then.
	p, err := w.PlanCapture(t.Context(), "Harbour kiosk", []*bench.Disk{kiosk}, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	silent, _ := w.StartCapture(ctx, p, nil)
	if err := silent.Wait(); err != nil || count() != 2 {
		t.Errorf("%v, %d twins", err, count())
	}
	rule.Auto = false // nor does anything go when the rule has been changed meanwhile
	leaving, err := w.Outgoing(ctx, "Harbour kiosk")
	if err != nil || leaving == nil || len(leaving.Fates) != 2 {
		t.Fatalf("%v %+v", err, leaving)
	}
	if err := keeping.SetRule(ctx, w.Shelf, "Harbour kiosk", rule); err != nil {
		t.Fatal(err)
	}
	if p, err = w.PlanCapture(t.Context(), "Harbour kiosk", []*bench.Disk{kiosk}, nil, nil); err != nil {
		t.Fatal(err)
	}
	late, _ := w.StartCapture(ctx, p, leaving)
	if err := late.Wait(); err != nil || count() != 3 {
		t.Errorf("%v, %d twins", err, count())
	}
	if twins, _ := w.Shelf.Twins(ctx); len(twins) != 70 {
		t.Errorf("%d twins of all machines", len(twins))
	}
	r, freed := w.StartGiveBack(ctx)
	if err := r.Wait(); err != nil || freed().Bytes == 0 {
		t.Errorf("%v %+v", err, freed())
	}
	c, report := w.StartCheck(ctx, keeping.CheckKind{Share: 1})
	if err := c.Wait(); err != nil || !report().Sound() || !report().Whole {
		t.Errorf("%v %+v", err, report())
	}
	if snap := c.Snapshot(); snap.Done != snap.Total || snap.Total == 0 {
		t.Errorf("%d of %d", snap.Done, snap.Total)
	}
}

func TestForesightAndChart(t *testing.T) {
	w, _ := ferry(t)
	twins, _ := w.Shelf.Twins(t.Context())
	f, err := w.Foresee(t.Context(), twins)
	if err != nil || f.PerWeek <= 0 || len(f.Machines) != 6 || f.Free == 0 || !strings.Contains(f.Words(), "a week") {
		t.Errorf("%v %+v", err, f)
	}
	if f.Full.Before(time.Now()) && !f.Full.IsZero() {
		t.Errorf("full at %s", f.Full)
	}
	s, err := w.DrawGrowth(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(string(s.SVG()), "Ticket desk") {
		t.Error("a machine has no line")
	}
}
