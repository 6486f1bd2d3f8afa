package ready

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/careful"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Surface is a look at every sector of a disk by which nothing on it is changed. A check that writes is an Erase by the
// way Check.
type Surface struct {
	Device disk.Device
	Medium Medium
	// Drive says how it is read.
	Drive careful.Options
	// Physical is the size of its physical sectors in bytes; 0 for that of its logical ones.
	Physical int
	// Found is what the check came to, once it has ended.
	Found Found
}

// Found is what a check of a surface came to.
type Found struct {
	Bytes int64 `json:"bytes"`
	// Holes are known to be zeros, since no drive stands behind them: those of an image file.
	Holes int64         `json:"holes,omitempty"`
	Took  time.Duration `json:"seconds"`
	// Bad couldn't be read, Slow were read at less than a tenth of the usual rate.
	Bad  span.Set `json:"bad"`
	Slow span.Set `json:"slow"`
}

// ErrSurface means that not every sector is good.
var ErrSurface = errors.New("not every sector is good")

const (
	phaseSurface = "Read every sector"
	phaseCloser  = "Look closer at bad places"
)

// SurfacePhases are the names of the phases.
var SurfacePhases = []string{phaseSurface, phaseCloser}

// Expected is how long it will probably take.
func (s *Surface) Expected() run.Expected {
	rate := float64(flashRate)
	if s.Medium.Rotational {
		rate = rotatingRate
	}
	return run.Expected{time.Duration(float64(s.Device.Size()) / rate * float64(time.Second))}
}

// Run reads everything.
func (s *Surface) Run(rc *run.Context) error {
	begun := time.Now()
	d := careful.NewDrive(s.Device, s.Drive)
	defer d.Close()
	look := &looking{Drive: d, buf: disk.Aligned(units.MiB)}
	work := &careful.Reading{States: careful.NewStates(s.Device.Size(), s.Device.SectorSize()), Source: look,
		Physical: int64(max(s.Physical, s.Device.SectorSize())), Large: units.MiB}
	var stopped error
	work.After = func(sp span.Span, got int64) {
		rc.MarkRead(span.At(sp.Start, got), run.Finished)
		if got < sp.Len() {
			rc.MarkRead(span.Span{Start: sp.Start + got, End: sp.End}, run.Unreadable)
		}
		step := rc.Step
		if look.holed {
			step = rc.Skip
		}
		if err := step(got); err != nil {
			stopped = err
		}
	}
	whole := span.Of(span.Span{End: s.Device.Size()})
	all := func() iter.Seq[span.Span] { return whole.All() }
	rc.Rails(s.Device.Size(), 0)
	rc.Phase(phaseSurface, s.Device.Size())
	err := work.Stride(rc, all())
	if err == nil && work.States.Got() < s.Device.Size() {
		rc.Phase(phaseCloser, s.Device.Size()-work.States.Got())
		if err = work.Narrow(rc, all); err == nil {
			err = work.Single(rc, all, 1)
		}
	}
	if err = errors.Join(err, stopped); err != nil {
		return err
	}
	s.Found = Found{Bytes: s.Device.Size(), Holes: look.holes, Took: time.Since(begun), Slow: d.Rates().Slow()}
	for r := range work.States.Runs(span.Span{End: s.Device.Size()}) {
		if r.State != careful.Got {
			s.Found.Bad.Add(r.Span)
		}
	}
	for _, w := range s.Found.Words("read") {
		rc.Note("%s", w)
	}
	return s.Found.err()
}

// looking reads and keeps nothing. Holes of an image file aren't read: no drive stands behind them.
type looking struct {
	*careful.Drive
	buf   []byte
	hole  span.Span
	holed bool  // the last read was of one
	holes int64 // bytes
}

// Fetch reads a stretch.
func (l *looking) Fetch(ctx context.Context, sp span.Span) (int64, error) {
	if !l.hole.Covers(sp) {
		l.hole = disk.HoleFrom(l.Device(), sp.Start)
	}
	if l.holed = l.hole.Covers(sp); l.holed {
		l.holes += sp.Len()
		return sp.Len(), ctx.Err()
	}
	n, err := l.Read(ctx, l.buf[:sp.Len()], sp.Start)
	return int64(n), err
}

// Words say what was found; did is what was done with every sector.
func (f *Found) Words(did string) []string {
	good := f.Bytes - f.Bad.Total()
	words := fmt.Sprintf("every sector of %s was %s, at %s on average", units.Bytes(f.Bytes), did, f.rate())
	if !f.Bad.Empty() {
		words = fmt.Sprintf("%s of %s were %s; %s in %s couldn't be, the first at byte %d", units.Bytes(good),
			units.Bytes(f.Bytes), did, units.Bytes(f.Bad.Total()), units.Plural(f.Bad.Count(), "place"),
			f.Bad.Bounds().Start)
	}
	if f.Holes > 0 {
		words += fmt.Sprintf("; %s of it are holes of the image file, and weren't read", units.Bytes(f.Holes))
	}
	out := []string{words}
	if !f.Slow.Empty() {
		out = append(out, fmt.Sprintf("%s in %s took over ten times as long as the rest, first from byte %d on: "+
			"they may "+
			"be bad soon", units.Bytes(f.Slow.Total()), units.Plural(f.Slow.Count(), "place"), f.Slow.Bounds().Start))
	}
	return out
}

func (f *Found) rate() string {
	return units.Rate(float64(f.Bytes-f.Holes) / max(1e-9, f.Took.Seconds()))
}

func (f *Found) err() error {
	if f.Bad.Empty() {
		return nil
	}
	return fmt.Errorf("%w: %s can't be read, the first at byte %d; don't trust this drive with anything",
		ErrSurface, units.Bytes(f.Bad.Total()), f.Bad.Bounds().Start)
}
