package rescue

import (
	"iter"
	"slices"

	"twinshelf/internal/disk/careful"
	"twinshelf/internal/fsys"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// layer is a part of what is wanted: the first is the most precious.
type layer func() iter.Seq[span.Span]

const (
	// ends is how much of both ends of a disk is looked at first: tables lie there, and their copies.
	ends = units.MiB
	// narrow gaps between parts hold start-up code, wide ones nothing.
	narrow = 8 * units.MiB
	// mostPrecious bounds the memory for the first layer.
	mostPrecious = 1 << 16
)

// layers are what is wanted, the most precious first. A stretch may be in several.
func (p *patient) layers(unused bool) []layer {
	out := []layer{p.structures}
	for _, m := range p.first {
		out = append(out, func() iter.Seq[span.Span] { return m.Where.All() })
	}
	out = append(out, p.inUse, func() iter.Seq[span.Span] { return p.wanted() })
	if unused {
		whole := span.Of(span.Span{End: p.Device.Size()})
		out = append(out, func() iter.Seq[span.Span] { return whole.All() })
	}
	return out
}

// taken are the areas that aren't left out.
func (p *patient) taken() []survey.Area {
	return slices.DeleteFunc(slices.Clone(p.survey.Areas), func(a survey.Area) bool {
		return a.Part != nil && p.LeaveOut[a.Number()]
	})
}

// structures are the ends of the disk and of its parts, what lies between the parts, and all that starts the machine.
func (p *patient) structures() iter.Seq[span.Span] {
	size := p.Device.Size()
	set := span.Of(span.Span{End: min(size, ends)}, span.Span{Start: max(0, size-ends), End: size})
	for _, a := range p.taken() {
		if a.Part == nil {
			if a.Span.Len() <= narrow {
				set.Add(a.Span)
			}
			continue
		}
		set.Add(span.At(a.Span.Start, min(a.Span.Len(), fsys.Edge)))
		set.Add(span.Span{Start: max(a.Span.Start, a.Span.End-fsys.Edge), End: a.Span.End})
	}
	for _, a := range p.taken() {
		if a.Role != table.RoleStartup {
			continue
		}
		for sp := range usedOf(&a) {
			if set.Add(sp); set.Count() > mostPrecious {
				break // the rest has its turn with what is used
			}
		}
	}
	return set.All()
}

// inUse is what the maps call used, also where they aren't believed.
func (p *patient) inUse() iter.Seq[span.Span] {
	return func(yield func(span.Span) bool) {
		for _, a := range p.taken() {
			if a.Part == nil {
				continue // what lies between parts matters less
			}
			for sp := range p.guessed(&a) {
				if !yield(sp) {
					return
				}
			}
		}
	}
}

// usedOf is what the maps of an area call used, on the disk; all of an area without maps. Where maps end in an error so
// does what they give: wanted has all of such an area.
func usedOf(a *survey.Area) iter.Seq[span.Span] {
	spans := a.Content.Spans()
	if v := a.Content.Volume; !a.Content.Maps && v != nil && a.Content.Info.Opaque == "" {
		spans = v.Used()
	}
	return func(yield func(span.Span) bool) {
		at := a.Span.Start
		for sp, err := range spans {
			sp = sp.Shift(a.Span.Start).Intersect(a.Span)
			if err != nil || sp.Start < at {
				return
			}
			if at = sp.End; !sp.Empty() && !yield(sp) {
				return
			}
		}
	}
}

// wanted is all that should be got: what is used, and all of an area whose maps aren't believed.
func (p *patient) wanted() iter.Seq[span.Span] {
	return func(yield func(span.Span) bool) {
		for _, a := range p.taken() {
			at := a.Span.Start
			for sp, err := range a.Content.Spans() {
				sp = sp.Shift(a.Span.Start)
				if err != nil { // its maps can't be read any more
					sp = span.Span{Start: at, End: a.Span.End}
				}
				if !yield(sp) {
					return
				}
				if at = sp.End; err != nil {
					break
				}
			}
		}
	}
}

// mapped says whether everything that is wanted is so by maps that are believed.
func (p *patient) mapped() bool {
	return !slices.ContainsFunc(p.taken(), func(a survey.Area) bool { return a.Part != nil && !a.Content.Maps })
}

// tally is how much of what is wanted is in which state, in bytes.
type tally struct {
	wanted, got, untouched, doubtful, tried int64
}

// count counts what is wanted.
func (p *patient) count() tally {
	var t tally
	for r := range p.runs() {
		n := r.Len()
		t.wanted += n
		switch {
		case r.State == careful.Got:
			t.got += n
		case r.State == careful.Untouched:
			t.untouched += n
		case r.State == careful.Doubtful:
			t.doubtful += n
		default:
			t.tried += n
		}
	}
	return t
}

// runs are the runs of states of what is wanted.
func (p *patient) runs() iter.Seq[careful.Run] {
	return func(yield func(careful.Run) bool) {
		for sp := range p.wanted() {
			for r := range p.states.Runs(sp) {
				if r.Span = r.Intersect(sp); !r.Empty() && !yield(r) {
					return
				}
			}
		}
	}
}

// shown is how far the drive is, for its rail.
func (p *patient) shown() iter.Seq2[span.Span, run.Cell] {
	return func(yield func(span.Span, run.Cell) bool) {
		for r := range p.runs() {
			cell := run.Unreadable
			switch r.State {
			case careful.Got:
				cell = run.Finished
			case careful.Untouched:
				cell = run.ToCome
			case careful.Doubtful:
				cell = run.Doubtful
			}
			if !yield(r.Span, cell) {
				return
			}
		}
	}
}

// mostMissing is how many stretches a twin says are missing. Where there are more, those that lie next to each other
// count as one, with what was got between them: the record of what was tried has them all.
const mostMissing = 1 << 15

// missing is what is wanted and wasn't got.
func (p *patient) missing() span.Set {
	return joined(func(yield func(span.Span) bool) {
		for r := range p.runs() {
			if r.State != careful.Got && !yield(r.Span) {
				return
			}
		}
	}, mostMissing)
}

// joined is a set of ascending stretches, of at the most so many: the narrowest gaps are closed for that.
func joined(spans iter.Seq[span.Span], most int) span.Set {
	var list []span.Span
	gap := int64(0)
	add := func(to []span.Span, sp span.Span) []span.Span {
		if n := len(to); n > 0 && sp.Start-to[n-1].End <= gap {
			to[n-1].End = max(to[n-1].End, sp.End)
			return to
		}
		return append(to, sp)
	}
	for sp := range spans {
		for list = add(list, sp); len(list) > 2*most; {
			gap = max(4096, 2*gap)
			short := list[:0]
			for _, x := range list {
				short = add(short, x)
			}
			list = short
		}
	}
	return span.Of(list...)
}
