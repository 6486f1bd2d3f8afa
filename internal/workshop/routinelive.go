package workshop

import (
	"context"
	"errors"
	"fmt"

	"twinshelf/internal/bench"
	"twinshelf/internal/live"
	"twinshelf/internal/survey"
)

// frozen are the routine's disks as they are at one moment, while this machine writes to them. end takes away what that
// needs, and fails where what was read isn't to be believed.
func (x *routineRun) frozen(ctx context.Context) (disks []*bench.Disk, end func() error, err error) {
	var all []*live.Frozen
	end = func() (err error) {
		for _, f := range all {
			err = errors.Join(err, f.Whole(context.WithoutCancel(ctx)), f.End(ctx))
		}
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, end())
		}
	}()
	found, err := x.w.routineDisks(ctx, x.r.Disks)
	if err != nil {
		return nil, end, err
	}
	means := live.Usual()
	if err := live.Tidy(ctx, means); err != nil {
		return nil, end, err
	}
	for i, d := range found {
		if len(d.InUse()) == 0 {
			disks = append(disks, d)
			continue
		}
		if d.Image || d.Device == nil {
			return nil, end, fmt.Errorf("%s: snapshots are for disks of this machine", x.r.Disks[i])
		}
		f, err := live.Freeze(ctx, means, x.w.Bench.Host, d.Path, d.Device)
		if err != nil {
			return nil, end, fmt.Errorf("%s: %w", x.r.Disks[i], err)
		}
		all = append(all, f)
		x.e.Log = append(x.e.Log, f.Did...)
		still := *d
		if still.Survey, err = survey.Of(ctx, f, nil); err != nil {
			return nil, end, fmt.Errorf("%s: %w", x.r.Disks[i], err)
		}
		disks = append(disks, &still)
	}
	return disks, end, nil
}
