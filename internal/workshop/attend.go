package workshop

import (
	"context"
	"fmt"
	"slices"
	"time"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/disk/careful"
	"twinshelf/internal/disk/health"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
)

// hotFrom is from which temperature on a drive rests that doesn't tell its limit, in degrees Celsius; one that does
// rests a little below.
const hotFrom, hotBelow = 60, 3

// absent is for how long captures and copies wait for a drive that vanished. A rescue waits as long as it takes.
const absent = 30 * time.Minute

// attendance says how a drive is looked after: where it is looked for when it vanishes, how it is opened then, and when
// it rests.
func (w *room) attendance(d *bench.Disk, open func(string, disk.Identity) (*disk.File, error)) careful.Options {
	o := careful.Options{Reopen: func(context.Context) (disk.Device, error) {
		now := w.attached(d)
		if now == nil {
			return nil, careful.ErrNotThere
		}
		f, err := open(now.Path, now.Identity)
		if err != nil { // it isn't ready yet, or its driver has given it up
			return nil, fmt.Errorf("%w: %w", careful.ErrNotThere, err)
		}
		return f, nil
	}}
	if _, told := d.Health.Of(health.Temperature); told {
		o.Warmth = func(ctx context.Context) (now, limit int, ok bool) {
			at := w.attached(d)
			if at == nil {
				return 0, 0, false
			}
			r := w.Bench.Health(ctx, at)
			t, known := r.Of(health.Temperature)
			limit = hotFrom
			if most, says := r.Of(health.Hottest); says && most > hotFrom-hotBelow {
				limit = int(most) - hotBelow
			}
			return int(t), limit, known
		}
	}
	return o
}

// attached is a disk as it is attached now, maybe under another name; nil when it isn't.
func (w *room) attached(d *bench.Disk) *bench.Disk {
	id := d.Identity
	for _, now := range w.Bench.List() {
		if now.Problem == "" && now.Identity.Model == id.Model && now.Identity.Serial == id.Serial &&
			now.Identity.Size == id.Size && (id.Serial != "" || now.Path == d.Path) {
			return now
		}
	}
	return nil
}

// attend has the disks that a run reads looked after until end is called.
func (w *room) attend(rc *run.Context, disks []*bench.Disk) (end func(), err error) {
	var ends []func()
	end = func() {
		for _, f := range ends {
			f()
		}
	}
	for _, d := range disks {
		if d.Device == nil {
			continue
		}
		o := w.attendance(d, disk.Open)
		o.Absent, o.Waits = absent, rc.Waits
		witness, err := careful.NewWitness(rc, d.Device, telling(d.Survey))
		if err != nil {
			end()
			return nil, err
		}
		o.Same = witness.Same
		ends = append(ends, careful.Attend(rc, d.Device, o))
	}
	return end, nil
}

// telling are the places of a disk that change with most of what is written to it.
func telling(s *survey.Survey) []span.Span {
	var out []span.Span
	for i := range s.Areas {
		places, err := s.Areas[i].Telling()
		if err == nil { // maps that end in an error are the work's affair
			out = slices.AppendSeq(out, places.All())
		}
	}
	return out
}
