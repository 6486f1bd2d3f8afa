package workshop

import (
	"context"
	"os"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/plan"
)

// PlanExport plans to write a disk, as it would be on a target of size bytes, into a new image file.
// The file is made at once, and removed again when nothing can be planned.
func (w *restoring) PlanExport(ctx context.Context, o Origin, path string, size int64, wish plan.Wish,
	doing func(string)) (*Pair, error) {
	if err := disk.CreateImage(path, size); err != nil {
		return nil, err
	}
	p, err := planInto(ctx, w, o, path, wish, doing)
	if err != nil {
		os.Remove(path)
	}
	return p, err
}

func planInto(ctx context.Context, w *restoring, o Origin, path string, wish plan.Wish,
	doing func(string)) (*Pair, error) {
	image := bench.Bench{Host: w.Bench.Host, Images: []string{path}}
	d := image.List()[0]
	d.Identity.Sector = o.Describe().Identity.Sector
	image.Probe(ctx, d)
	return w.PlanRestore(ctx, o, d, wish, doing)
}
