package workshop

import (
	"bytes"
	"context"
	"fmt"
	"slices"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/survey"
)

// ChangedSince looks whether an attached disk differs from a twin of it in those places that change with most of what
// is written: its table, the beginning of each part, and what its volumes name. What it finds is certain; finding
// nothing proves nothing, since the rest isn't read.
func (w *looking) ChangedSince(ctx context.Context, d *bench.Disk, t *shelf.Twin, i int) (bool, error) {
	s := w.shelf()
	if s == nil || d.Survey == nil {
		return false, nil
	}
	then, err := s.OpenDisk(ctx, t, i)
	if err != nil {
		return false, fmt.Errorf("the twin of %s can't be compared with %s: %w", t.Machine, d.Path, err)
	}
	for _, r := range t.Disks[i].Regions {
		if !r.Captured {
			continue
		}
		if different, err := differs(ctx, then, d, r); different || err != nil {
			return different, err
		}
	}
	return false, nil
}

// differs compares the telling places of a region, as far as they are in use now: what a twin doesn't keep reads as
// zeros.
func differs(ctx context.Context, then disk.Device, d *bench.Disk, r shelf.Region) (bool, error) {
	k := slices.IndexFunc(d.Survey.Areas, func(a survey.Area) bool { return a.Span == r.Span })
	if k < 0 {
		return r.Part != 0, nil // the parts lie elsewhere now
	}
	places, err := d.Survey.Areas[k].Telling()
	if err != nil {
		return false, err
	}
	for sp := range places.All() {
		x, y := make([]byte, sp.Len()), make([]byte, sp.Len())
		if err := disk.ReadFull(disk.Until(ctx, then), x, sp.Start); err != nil {
			return false, err
		}
		if err := disk.ReadFull(disk.Until(ctx, d.Device), y, sp.Start); err != nil {
			return false, err
		}
		if !bytes.Equal(x, y) {
			return true, nil
		}
	}
	return false, nil
}
