package workshop

import (
	"context"
	"errors"
	"strings"
	"testing"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/ready"
	"twinshelf/internal/table"
	"twinshelf/internal/testkit"
)

func TestWhatAShelfNeeds(t *testing.T) {
	w, _ := ferry(t)
	twins, _ := w.Shelf.Twins(t.Context())
	desk, err := UsedOn(twins, "ticket-desk")
	if err != nil || desk == 0 {
		t.Fatal(desk, err)
	}
	if n, err := UsedOn(twins, "Ticket"); err != nil || n != desk {
		t.Errorf("by its beginning: %d %v", n, err)
	}
	for name, want := range map[string]string{"Lighthouse": "it has Chart table, Harbour kiosk, Purser's laptop, " +
		"Slipway crane, Ticket desk, Weighbridge", "": "no twin of"} {
		if _, err := UsedOn(twins, name); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", name, err)
		}
	}
	one, err := ShelfNeed(twins, []string{"Ticket desk"}, 1)
	if err != nil || one.Bytes < desk {
		t.Errorf("%+v %v", one, err)
	}
	more, err := ShelfNeed(twins, Machines(twins), 100)
	if err != nil || more.Bytes <= one.Bytes || len(more.Words) != 7 || !strings.Contains(more.Words[0], "assumed") ||
		!strings.Contains(more.Words[1], "as so far") {
		t.Errorf("%+v %v", more, err)
	}
	for _, dates := range []int{0, -3, 1 << 30} {
		if _, err := ShelfNeed(twins, Machines(twins), dates); err == nil {
			t.Errorf("%d dates", dates)
		}
	}
	if _, err := ShelfNeed(twins, nil, 3); err == nil {
		t.Error("for no machine at all")
	}
	if _, err := ShelfNeed(nil, []string{"Ticket desk"}, 3); err == nil ||
		!strings.Contains(err.Error(), "open a shelf") {
		t.Errorf("without a shelf: %v", err)
	}
}

func TestReadyInTheWorkshop(t *testing.T) {
	ctx := context.Background()
	w, disks := ferry(t)
	twins, _ := w.Shelf.Twins(ctx)
	heron := named(t, disks, "7731")
	d, err := DraftAnew(heron, table.GPT)
	if err != nil {
		t.Fatal(err)
	}
	kiosk, err := newestOf(twins, "Harbour kiosk")
	if err != nil {
		t.Fatal(err)
	}
	if err := d.System(ShapeOf(kiosk, 0)); err != nil {
		t.Fatal(err)
	}
	if len(d.Parts) != 3 || d.Parts[2].Form != nil || d.Parts[1].Form == nil || d.Parts[1].Form.Kind != "ext4" ||
		d.Parts[2].Type != table.TypeLinuxSwap {
		t.Errorf("%+v", d.Parts)
	}
	p, err := w.PlanReady(ctx, d, heron)
	if err != nil {
		t.Fatal(err)
	}
	s := SummarizeReady(p, d.New, heron)
	if !s.Mild || s.Confirm != "7731" || !strings.Contains(s.Head, "laid out anew") || len(s.Steps) != 4 {
		t.Errorf("%+v", s)
	}
	if err := w.StartReady(ctx, p).Wait(); err != nil {
		t.Fatal(err)
	}
	// The plan is for the disk as it was.
	var refused *disk.Refusal
	if err := w.StartReady(ctx, p).Wait(); !errors.As(err, &refused) {
		t.Errorf("carried out twice: %v", err)
	}
	heron = again(t, w, "7731")
	if c, err := DraftChange(heron); err != nil || len(c.Parts) != 3 {
		t.Errorf("%v", err)
	}
	r, err := w.PlanReturn(heron, "")
	if err != nil {
		t.Fatal(err)
	}
	if s := SummarizeReturn(r, heron); len(s.Lost) != 3 || !strings.Contains(s.Head, "put back") {
		t.Errorf("%+v", s)
	}
	if _, err := w.PlanReturn(heron, "20200101T000000.000"); err == nil {
		t.Error("a keepsake that isn't there")
	}
	if err := w.StartReturn(ctx, r).Wait(); err != nil {
		t.Fatal(err)
	}
	if !again(t, w, "7731").Survey.Blank() {
		t.Error("it isn't blank again")
	}
	oak := named(t, disks, "PP5-3300B41C8")
	if _, err := w.PlanErase(ctx, oak, ready.Quick); !errors.As(err, &refused) {
		t.Errorf("a disk out of reach is erased: %v", err)
	}
	if c, err := DraftChange(oak); err != nil {
		t.Error(err)
	} else if _, err := w.PlanReady(ctx, c, oak); !errors.As(err, &refused) {
		t.Errorf("a disk out of reach is laid out: %v", err)
	}
	if err := w.ToggleReach(oak.Identity); err != nil {
		t.Fatal(err)
	}
	e, err := w.PlanErase(ctx, oak, ready.Zeros)
	if err != nil {
		t.Fatal(err)
	}
	if s := SummarizeErase(e, oak); s.Mild || len(s.Lost) != 1 ||
		!strings.Contains(strings.Join(s.Notes, " "), "rotating") {
		t.Errorf("%+v", s)
	}
	if err := w.StartErase(ctx, e).Wait(); err != nil {
		t.Fatal(err)
	}
	if again(t, w, "PP5-3300B41C8").Survey.Table.Kind != table.None {
		t.Error("a table is left")
	}
}

// again looks at a disk as it is now.
func again(t *testing.T, w *Workshop, tail string) *bench.Disk {
	t.Helper()
	d := named(t, w.Bench.List(), tail)
	w.Bench.Probe(context.Background(), d)
	return d
}

func TestMountsOfTheBench(t *testing.T) {
	testkit.Root(t)
	w, disks := ferry(t)
	kiosk := named(t, disks, "C3E9")
	dir, err := Mount(kiosk, 2)
	if err != nil {
		t.Fatal(err)
	}
	seen := again(t, w, "C3E9")
	if got := seen.MountWords(); got != "mounted at "+dir || seen.Reach == "" {
		t.Errorf("%q, reach %q", got, seen.Reach)
	}
	if done, err := Unmount(seen); err != nil || len(done) != 1 || done[0] != dir {
		t.Errorf("%v %v", done, err)
	}
	if seen = again(t, w, "C3E9"); seen.MountWords() != "" || seen.Reach != "" {
		t.Errorf("%q, reach %q", seen.MountWords(), seen.Reach)
	}
	if _, err := Unmount(seen); err == nil {
		t.Error("unmounted twice")
	}
	for _, part := range []int{3, 9} { // swap, and none
		if _, err := Mount(kiosk, part); err == nil {
			t.Errorf("part %d is mounted", part)
		}
	}
}

func TestMakersHaveSystems(t *testing.T) {
	for _, m := range families.Makers() {
		if len(m.Systems) == 0 || m.About == "" {
			t.Errorf("%s doesn't say who reads it", m.Kind)
		}
	}
}
