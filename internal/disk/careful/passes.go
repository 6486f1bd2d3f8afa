package careful

import (
	"context"
	"iter"

	"twinshelf/internal/span"
)

// Source reads stretches of a drive, and keeps what it reads. The stretches begin and end at sectors.
type Source interface {
	// Fetch reads a stretch and gives how many bytes of its beginning came. An error that is a *Failed means that the
	// drive couldn't read it; any other ends the work.
	Fetch(ctx context.Context, sp span.Span) (int64, error)
}

// Failed is what a drive says of a stretch that it can't read.
type Failed struct {
	At  int64 // byte of the disk from which on nothing came
	Err error
}

func (f *Failed) Error() string { return f.Err.Error() }

// Unwrap gives what the drive said.
func (f *Failed) Unwrap() error { return f.Err }

// Reading is the work on one drive.
type Reading struct {
	States *States
	Source Source
	// Physical is how many bytes the drive reads at the least: a bad one takes them all along.
	Physical int64
	// Large is how much is read at once where nothing is bad, in bytes; 0 for the usual.
	Large int64
	// Hasty has Narrow leave what is near a bad place for later, and take up long stretches only.
	Hasty bool
	// After, if any, is told of every read.
	After func(sp span.Span, got int64)
}

const (
	// large is what is read at once where nothing is bad.
	large = 1 << 20
)

// fetch reads a stretch and notes what came.
func (r *Reading) fetch(ctx context.Context, sp span.Span) (got int64, failed bool, err error) {
	got, err = r.Source.Fetch(ctx, sp)
	got -= got % r.States.sector
	if got > 0 {
		r.States.MarkGot(span.At(sp.Start, got))
	}
	if r.After != nil {
		r.After(sp, got)
	}
	if err == nil {
		return got, false, nil
	}
	if _, bad := err.(*Failed); bad { //nolint:errorlint // a Source gives it bare
		return got, true, ctx.Err()
	}
	return got, false, err
}

func (r *Reading) large() int64 {
	if r.Large > 0 {
		return r.Large
	}
	return large
}

// Stride reads what nobody has touched yet of the stretches, which are ascending, in large reads. From a bad place it
// jumps on, farther with every further one; what it jumps over is doubtful.
func (r *Reading) Stride(ctx context.Context, wanted iter.Seq[span.Span]) error {
	var jumps Jumps
	for sp := range r.among(wanted, func(s State) bool { return s == Untouched }) {
		for !sp.Empty() {
			if landing := jumps.Landing(); sp.Start < landing {
				over := sp.Intersect(span.Span{Start: sp.Start, End: landing})
				r.States.MarkDoubtful(over)
				sp.Start = over.End
				continue
			}
			piece := sp.Intersect(span.At(sp.Start, r.large()))
			got, failed, err := r.fetch(ctx, piece)
			if err != nil {
				return err
			}
			sp.Start = piece.End
			if !failed {
				jumps.Gave(got)
				continue
			}
			jumps.Failed(piece)
			r.States.MarkDoubtful(span.Span{Start: piece.Start + got, End: piece.End})
		}
	}
	return ctx.Err()
}

// among yields the parts of ascending stretches whose sectors have such a state. What changes while it goes on counts
// from the next chunk of sectors on.
func (r *Reading) among(wanted iter.Seq[span.Span], is func(State) bool) iter.Seq[span.Span] {
	return func(yield func(span.Span) bool) {
		at := int64(0)
		for sp := range wanted {
			sp.Start = max(sp.Start/r.States.sector*r.States.sector, at) // two may share a sector
			for run := range r.States.Runs(sp) {
				if is(run.State) && !yield(run.Span) {
					return
				}
				at = run.End
			}
		}
	}
}

// gapSizes are how long the doubtful stretches are that a round of Narrow takes up, the longest first.
var gapSizes = []int64{256 << 20, 32 << 20, 4 << 20, 512 << 10, 64 << 10, 4 << 10}

// Narrow works on the doubtful stretches among the wanted: from both edges to the first bad sector, then in the
// middle of what is left, half by half. Long ones come first, since most can be got there for a read that fails.
func (r *Reading) Narrow(ctx context.Context, wanted func() iter.Seq[span.Span]) error {
	for _, least := range gapSizes {
		if r.Hasty && least < hastyGap {
			break
		}
		for gap := range r.among(wanted(), func(s State) bool { return s == Doubtful }) {
			if gap.Len() < least {
				continue
			}
			if err := r.narrow(ctx, gap, least, false, false); err != nil {
				return err
			}
		}
	}
	return ctx.Err()
}

const (
	hastyGrain = 64 << 10
	hastyGap   = 512 << 10
)

// grain is how little is read at the least, in bytes.
func (r *Reading) grain() int64 {
	if r.Hasty {
		return max(hastyGrain, r.Physical)
	}
	return r.Physical
}

// narrow works on one gap; front and back say that its edges are known to be bad. It halves what is left as long as
// that is as long as least.
func (r *Reading) narrow(ctx context.Context, gap span.Span, least int64, front, back bool) error {
	var err error
	if !front {
		if gap, err = r.edge(ctx, gap, false); err != nil {
			return err
		}
	}
	if !back && !gap.Empty() {
		if gap, err = r.edge(ctx, gap, true); err != nil {
			return err
		}
	}
	if gap.Len() < least || gap.Len() < 4*r.grain() {
		return nil
	}
	middle := span.At((gap.Start+gap.Len()/2)/r.Physical*r.Physical, r.grain()).Intersect(gap)
	_, failed, err := r.fetch(ctx, middle)
	if err != nil {
		return err
	}
	if failed && !r.Hasty {
		r.States.MarkFailed(middle)
	}
	if err := r.narrow(ctx, span.Span{Start: gap.Start, End: middle.Start}, least, true, failed); err != nil {
		return err
	}
	return r.narrow(ctx, span.Span{Start: middle.End, End: gap.End}, least, failed, true)
}

// edge reads a gap from its front or its back up to the first bad place, in steps that shrink when one fails and grow
// while none does, and gives what is left of it.
func (r *Reading) edge(ctx context.Context, gap span.Span, back bool) (span.Span, error) {
	step := max(r.grain(), min(r.large(), gap.Len()/2)/r.Physical*r.Physical)
	for !gap.Empty() {
		piece := span.Span{Start: gap.Start, End: (gap.Start + step) / r.Physical * r.Physical}.Intersect(gap)
		if back {
			piece = span.Span{Start: max(gap.Start, (gap.End-step+r.Physical-1)/r.Physical*r.Physical), End: gap.End}
		}
		got, failed, err := r.fetch(ctx, piece)
		if err != nil {
			return gap, err
		}
		if !back {
			gap.Start += got
		}
		switch {
		case !failed && back:
			gap.End = piece.Start
		case !failed:
		case r.Hasty && piece.Len() <= hastyGrain:
			return gap, nil
		case piece.Len() <= r.Physical:
			bad := span.Span{Start: piece.Start + got, End: piece.End}
			if back {
				bad = piece
				gap.End = piece.Start
			} else {
				gap.Start = piece.End
			}
			r.States.MarkFailed(bad)
			return gap, nil
		default:
			step = max(r.grain(), step/4/r.Physical*r.Physical)
			continue
		}
		step = min(r.large(), 2*step)
	}
	return gap, nil
}

// Single tries every wanted sector that wasn't got on its own, those first that were tried least, until each was tried
// so many times.
func (r *Reading) Single(ctx context.Context, wanted func() iter.Seq[span.Span], tries int) error {
	for round := range tries {
		for sp := range r.among(wanted(), func(s State) bool { return s != Got && s.Tries() <= round }) {
			if err := r.single(ctx, sp); err != nil {
				return err
			}
		}
	}
	return ctx.Err()
}

func (r *Reading) single(ctx context.Context, sp span.Span) error {
	for !sp.Empty() {
		end := (sp.Start/r.Physical + 1) * r.Physical
		piece := sp.Intersect(span.Span{Start: sp.Start, End: end})
		got, failed, err := r.fetch(ctx, piece)
		if err != nil {
			return err
		}
		if failed {
			r.States.MarkFailed(span.Span{Start: piece.Start + got, End: piece.End})
		}
		sp.Start = piece.End
	}
	return nil
}

// Touch reads a stretch that somebody needs now, and says whether all of it came. Where it fails it is doubtful, or
// tried, if it is a single physical sector.
func (r *Reading) Touch(ctx context.Context, sp span.Span) (all bool, err error) {
	got, failed, err := r.fetch(ctx, sp)
	if err != nil || !failed {
		return !failed, err
	}
	if left := (span.Span{Start: sp.Start + got, End: sp.End}); sp.Len() <= r.Physical {
		r.States.MarkFailed(left)
	} else {
		r.States.MarkDoubtful(left)
	}
	return false, nil
}
