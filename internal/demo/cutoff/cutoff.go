// Package cutoff leaves a restore on a demo bench that was cut off, as after a power cut. It stands above the workshop,
// whose tests use demo benches.
package cutoff

import (
	"context"
	"errors"
	"path/filepath"
	"time"

	"twinshelf/internal/bench"
	"twinshelf/internal/demo"
	"twinshelf/internal/job"
	"twinshelf/internal/plan"
	"twinshelf/internal/shelf"
	"twinshelf/internal/workshop"
)

// Leave begins a restore of the harbour kiosk on a demo bench and cuts it off: it can go on.
func Leave(ctx context.Context, b demo.Bench) error {
	s, err := shelf.Open(ctx, b.Shelf, nil)
	if err != nil {
		return err
	}
	defer s.Close()
	w, err := workshop.New(b.State, []string{b.Disks}, false)
	if err != nil {
		return err
	}
	w.Shelf = s
	var target *bench.Disk
	for _, d := range w.Bench.List() {
		if filepath.Base(d.Path) == demo.CutOffTarget {
			target = d
		}
	}
	if target == nil {
		return errors.New("the disk for a restore that is cut off is missing")
	}
	w.Bench.Probe(ctx, target)
	if target.Device == nil {
		return errors.New(target.Problem)
	}
	defer target.Device.Close()
	twins, bad := w.Shelf.Twins(ctx)
	if err := errors.Join(bad...); err != nil {
		return err
	}
	o := workshop.Origin{}
	for _, t := range twins {
		if t.Machine == demo.CutOffMachine && (o.Twin == nil || t.Taken.After(o.Twin.Taken)) {
			o.Twin = t
		}
	}
	p, err := w.PlanRestore(ctx, o, target, plan.Wish{}, nil)
	if err != nil {
		return err
	}
	if _, err := w.NewJob(ctx, job.Case{Customer: "Signe Arvo, Skarnholm ferry line", Machine: demo.CutOffMachine,
		Contact: "the harbour office, afternoons", Asked: "move the kiosk to the larger disk",
		Technician: "Tam Leclair"}); err != nil {
		return err
	}
	r, _ := w.StartRestore(ctx, []*workshop.Pair{p})
	for s := r.Snapshot(); !s.Over() && (s.PhaseNo == 0 || s.Done*100 < s.Total*20); s = r.Snapshot() {
		time.Sleep(100 * time.Microsecond)
	}
	r.Cancel()
	if err := r.Wait(); err != nil && !errors.Is(err, context.Canceled) {
		return err
	}
	return nil
}
