package rescue

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"sync"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/careful"
	"twinshelf/internal/fsys"
	"twinshelf/internal/inside"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
)

// patient is one drive of a sitting.
type patient struct {
	*Source
	rc     *run.Context
	drive  *careful.Drive
	states *careful.States
	canvas *canvas
	work   *careful.Reading
	survey *survey.Survey
	guess  *survey.Survey // see lookThroughCopies; nil for none
	pairs  []fsys.Mirror
	buf    []byte
	hole   span.Span
	holed  bool // the last read was of one

	reading      sync.Mutex // held by kept
	reads, fails int64
	got          int64 // bytes, in this sitting
	hit          shelf.Hit
	filled       []shelf.Filled
	first        []inside.Meant // what the person wishes first
	after        func() error
	failure      error // of after
	looked       bool  // the survey is that of what lies in the parts
	nested       bool  // the read is for a map, in the middle of other work
}

// large is what is read at once, in bytes.
const large = 1 << 20

func newPatient(rc *run.Context, s *Source, c *canvas) *patient {
	p := &patient{Source: s, rc: rc, canvas: c, states: careful.NewStates(s.Device.Size(), s.Device.SectorSize()),
		buf: disk.Aligned(large)}
	o := s.Drive
	o.Same = p.sameAsGot
	p.drive = careful.NewDrive(s.Device, o)
	p.work = &careful.Reading{States: p.states, Source: p, Physical: s.physical(),
		Large: large, After: p.read}
	return p
}

// Fetch reads a stretch onto the canvas.
func (p *patient) Fetch(ctx context.Context, sp span.Span) (int64, error) {
	if p.failure != nil {
		return 0, p.failure
	}
	buf := p.buf[:sp.Len()]
	if p.holed = p.isHole(sp); p.holed {
		return sp.Len(), p.canvas.blank(ctx, sp)
	}
	p.reads++
	n, err := p.drive.Read(ctx, buf, sp.Start)
	n -= n % p.Device.SectorSize()
	if n > 0 {
		if kept := p.canvas.write(ctx, buf[:n], sp.Start); kept != nil {
			return 0, kept
		}
	}
	var bad *careful.Failed
	if errors.As(err, &bad) {
		p.fails++
		return int64(n), bad
	}
	return int64(n), err
}

// read is told of every read.
func (p *patient) read(sp span.Span, got int64) {
	p.got += got
	if got > 0 {
		p.rc.MarkRead(span.At(sp.Start, got), run.Finished)
	}
	if got < sp.Len() {
		p.rc.MarkRead(span.Span{Start: sp.Start + got, End: sp.End}, run.Doubtful)
	}
	step := p.rc.Step
	if p.holed {
		step = p.rc.Skip // nothing was moved
	}
	if err := step(got); err != nil && p.failure == nil {
		p.failure = err
	}
	if p.after != nil && p.failure == nil && !p.nested {
		p.failure = p.after()
	}
}

// isHole says whether the device knows that a stretch holds zeros.
func (p *patient) isHole(sp span.Span) bool {
	if !p.hole.Covers(sp) {
		p.hole = disk.HoleFrom(p.drive.Device(), sp.Start)
	}
	return p.hole.Covers(sp)
}

// kept is the drive as a Device on which nothing is read twice: what is asked for and was never tried is read, and
// stays. It goes by whoever looks at the drive's structures, so it gets these first.
type kept struct {
	disk.Device
	ctx context.Context // of the sitting: reads of a Device bring none
	mu  *sync.Mutex
	p   *patient
}

// around is how much is read around a small read where nothing is known to be bad, in bytes: structures lie together.
const around = 64 << 10

// ReadAt reads from the canvas, and first onto it what isn't there.
func (k kept) ReadAt(b []byte, off int64) (int, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if off < 0 {
		return 0, fmt.Errorf("a read at byte %d", off)
	}
	sp := span.At(off, int64(len(b))).Intersect(span.Span{End: k.Size()})
	if sp.Empty() && len(b) > 0 {
		return 0, io.EOF
	}
	if err := k.fetch(sp); err != nil {
		return 0, err
	}
	// What was got can be read also when the sitting is being ended.
	if err := k.p.canvas.read(context.WithoutCancel(k.ctx), b[:sp.Len()], off); err != nil {
		return 0, err
	}
	if sp.Len() < int64(len(b)) {
		return int(sp.Len()), io.EOF
	}
	return len(b), nil
}

func (k kept) fetch(sp span.Span) error {
	wide := span.Span{Start: sp.Start / around * around, End: min(k.Size(), (sp.End+around-1)/around*around)}
	if k.p.states.HasGot(sp) {
		return nil
	}
	k.p.nested = k.p.looked // a twin that is being made asks for maps again
	defer func() { k.p.nested = false }()
	for part := range k.untried(wide, large, careful.Untouched) {
		if _, err := k.p.work.Touch(k.ctx, part); err != nil {
			return err
		}
	}
	for part := range k.untried(sp, k.p.work.Physical, careful.Doubtful) {
		if got, err := k.p.work.Touch(k.ctx, part); err != nil {
			return err
		} else if !got {
			break // who asked gets nothing anyway
		}
	}
	if k.p.states.HasGot(sp) {
		return nil
	}
	return fmt.Errorf("read of %d bytes at byte %d: %w", sp.Len(), sp.Start, disk.ErrMedium)
}

// untried are the parts of a stretch in a state, piece by piece.
func (k kept) untried(sp span.Span, piece int64, is careful.State) iter.Seq[span.Span] {
	return func(yield func(span.Span) bool) {
		for r := range k.p.states.Runs(sp) {
			if r.State != is {
				continue
			}
			for part := range disk.Chunks(r.Span, piece) {
				if !yield(part) {
					return
				}
			}
		}
	}
}

// NextData says what the drive knows of its holes.
func (k kept) NextData(off int64) (span.Span, error) {
	if s, ok := k.Device.(disk.Sparse); ok {
		return s.NextData(off)
	}
	if off >= k.Size() {
		return span.Span{}, io.EOF
	}
	return span.Span{Start: off, End: k.Size()}, nil
}

// look divides the drive by its table, then looks at what is in its parts. Everything that is read for that is kept.
func (p *patient) look(ctx context.Context, divided func() error) error {
	k := p.asKept(ctx)
	s, err := survey.Divided(ctx, k)
	if err != nil {
		return err
	}
	if err := p.divide(ctx, s); err != nil {
		return err
	}
	if err := divided(); err != nil {
		return err
	}
	if s, err = survey.Of(ctx, k, p.InUse); err != nil {
		return err
	}
	p.looked = true
	if err := p.divide(ctx, s); err != nil {
		return err
	}
	return p.lookThroughCopies(ctx)
}

// asKept is the drive as a Device that keeps what is read.
func (p *patient) asKept(ctx context.Context) kept { return kept{p.Device, ctx, &p.reading, p} }

// divide takes over a survey, and divides the canvas like it.
func (p *patient) divide(ctx context.Context, s *survey.Survey) error {
	var areas []span.Span
	for _, a := range s.Areas {
		areas = append(areas, a.Span)
	}
	c, err := p.canvas.arranged(ctx, areas, p.all(careful.Got))
	if err == nil {
		p.canvas, p.survey = c, s
	}
	return err
}

// all are the stretches of the disk in a state.
func (p *patient) all(is careful.State) iter.Seq[span.Span] {
	return func(yield func(span.Span) bool) {
		for r := range p.states.Runs(span.Span{End: p.Device.Size()}) {
			if r.State == is && !yield(r.Span) {
				return
			}
		}
	}
}

// describe is what a twin says of the drive now.
func (p *patient) describe(d *shelf.TwinDisk) {
	d.Health = p.Health
	for i := range d.Regions {
		r := &d.Regions[i]
		if p.LeaveOut[r.Part] && r.Part != 0 {
			r.Captured, r.Used = false, 0
			continue
		}
		r.Nodes = append([]string(nil), p.canvas.regions[i].Nodes...)
	}
}
