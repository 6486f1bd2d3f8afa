// Package walk runs the demo's whole job without a screen.
package walk

import (
	"context"
	"errors"
	"io"
	"path/filepath"

	"twinshelf/internal/bench"
	"twinshelf/internal/demo"
	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/job"
	"twinshelf/internal/plan"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// hands work with the bench of the demo.
type hands struct{ w *workshop.Workshop }

// Run does the whole job in a new folder, and says what it does in sentences. It returns an error unless everything
// holds.
func Run(ctx context.Context, dir string, out io.Writer) error {
	return demo.Walk(ctx, dir, workshop.Tool(), out, &hands{})
}

// open opens the bench with the shelf, and gives the disk with a serial number that is attached there.
func open(ctx context.Context, b demo.Bench, s *shelf.Shelf, serial string) (*workshop.Workshop, *bench.Disk, error) {
	w, err := workshop.New(b.State, []string{b.Disks}, false)
	if err != nil {
		return nil, nil, err
	}
	w.Demo = true
	w.Use(ctx, s)
	d, err := bench.Find(w.Bench.List(), serial)
	if err != nil {
		return nil, nil, err
	}
	w.Bench.Probe(ctx, d)
	return w, d, nil
}

// PutBack restores the older twin onto the bigger disk and proves it, as a work of a case.
func (h *hands) PutBack(ctx context.Context, b demo.Bench, s *shelf.Shelf, t *shelf.Twin, serial string,
	say demo.Say) (*shelf.Proof, *fit.Layout, error) {
	w, target, err := open(ctx, b, s, serial)
	if err != nil {
		return nil, nil, err
	}
	h.w = w
	j, err := w.NewJob(ctx, job.Case{Machine: t.Machine, Customer: "Signe Arvo, Skarnholm ferry line",
		Asked: "move the kiosk to the larger disk"})
	if err != nil {
		return nil, nil, err
	}
	say("Case %s is opened.", j.Title())
	pair, err := w.PlanRestore(ctx, workshop.Origin{Twin: t}, target, plan.Wish{}, nil)
	if err != nil {
		return nil, nil, err
	}
	say("The older twin goes onto %s.", disk.Sticker(target.Identity))
	for _, n := range pair.Plan.Notes() {
		say("  Note: %s.", n)
	}
	r, proof := w.StartRestore(ctx, []*workshop.Pair{pair})
	if err := r.Wait(); err != nil {
		return nil, nil, err
	}
	_, bytes := pair.Plan.Bytes()
	say("Restored: %s of data written and flushed; then all of it was read back and compared.", units.Bytes(bytes))
	return proof(), pair.Plan.Layout, nil
}

// HandBack prints the sheet of the case and closes it.
func (h *hands) HandBack(ctx context.Context, dir string, say demo.Say) error {
	j := h.w.Job()
	if j == nil {
		return errors.New("the restore is in no case")
	}
	paper, _ := h.w.SheetOf(j, "") // no logo is set
	b, err := paper.PDF()
	if err != nil {
		return err
	}
	file := filepath.Join(dir, "job-sheet.pdf")
	if err := workshop.WriteNew(file, b); err != nil {
		return err
	}
	say("The machine is handed back with its job sheet, before and after drawn to scale: %s, %s (kept with --keep).",
		file, units.Bytes(int64(len(b))))
	return h.w.CloseJob(ctx, j)
}
