package rescue

import (
	"context"
	"errors"
	"iter"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/careful"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
)

// Where a structure can't be read that a volume can't be opened without, its copy tells about what it said. That is no
// knowledge: all of the part is wanted all the same. But what is used by that guess comes before the rest of it, and
// files have names.

// guessing is the drive as it would be if its mirrored structures could be read: from their copies, and zeros where
// nothing tells.
type guessing struct {
	kept
	pairs []fsys.Mirror // bytes of the disk
}

// ReadAt reads from the drive; what it doesn't give, from copies.
func (g guessing) ReadAt(b []byte, off int64) (int, error) {
	n, err := g.kept.ReadAt(b, off)
	if !errors.Is(err, disk.ErrMedium) {
		return n, err
	}
	sp := span.At(off, int64(len(b))).Intersect(span.Span{End: g.Size()})
	for part := range disk.Chunks(sp, g.p.work.Physical) {
		p := b[part.Start-off : part.End-off]
		if _, err := g.kept.ReadAt(p, part.Start); errors.Is(err, disk.ErrMedium) {
			g.copied(p, part)
		} else if err != nil {
			return 0, err
		}
	}
	if sp.Len() < int64(len(b)) {
		return g.kept.ReadAt(b[sp.Len():], sp.End) // it says that the disk ends there
	}
	return len(b), nil
}

// copied fills p, which can't be read, from copies.
func (g guessing) copied(p []byte, sp span.Span) {
	clear(p)
	for _, m := range g.pairs {
		in := sp.Intersect(m.Of)
		if in.Empty() {
			continue
		}
		to := p[in.Start-sp.Start : in.End-sp.Start]
		if _, err := g.kept.ReadAt(to, in.Start-m.Of.Start+m.At.Start); err != nil {
			clear(to)
		}
	}
}

// view is the drive for whoever looks for files on it: guessed where it has to be.
func (p *patient) view(ctx context.Context) disk.Device {
	k := p.asKept(ctx)
	if p.guess == nil {
		return k
	}
	return guessing{k, p.pairs}
}

// lookThroughCopies guesses what parts hold whose structures can't be read.
func (p *patient) lookThroughCopies(ctx context.Context) error {
	k := p.asKept(ctx)
	unread := false
	for _, a := range p.survey.Parts() {
		if a.Content.Volume != nil || !p.isHurt(a.Span) {
			continue
		}
		unread = true
		for _, m := range families.All().Mirrors(disk.Section(k, a.Span.Start, a.Span.Len()), a.Span.Len(),
			k.SectorSize()) {
			p.pairs = append(p.pairs, fsys.Mirror{Of: m.Of.Shift(a.Span.Start), At: m.At.Shift(a.Span.Start)})
		}
	}
	if !unread || len(p.pairs) == 0 {
		return ctx.Err()
	}
	s, err := survey.Of(ctx, guessing{k, p.pairs}, p.InUse)
	if err != nil {
		return ctx.Err() // it was a guess
	}
	p.guess = s
	for _, a := range s.Parts() {
		if own := p.areaAt(a.Span); own != nil && own.Content.Volume == nil && a.Content.Volume != nil {
			p.rc.Note("part %d: what tells where its files lie can't be read in full; by the copies that its "+
				"file system (%s) "+
				"keeps, what is in use comes first, then all of it", a.Number(), a.Content.Info.Kind)
		}
	}
	return ctx.Err()
}

// isHurt says whether something in a stretch couldn't be read.
func (p *patient) isHurt(sp span.Span) bool {
	for r := range p.states.Runs(sp) {
		if r.State == careful.Doubtful || r.State.Tries() > 0 {
			return true
		}
	}
	return false
}

// areaAt is the area of the survey that is just so; nil when there is none.
func (p *patient) areaAt(sp span.Span) *survey.Area {
	for i := range p.survey.Areas {
		if p.survey.Areas[i].Span == sp {
			return &p.survey.Areas[i]
		}
	}
	return nil
}

// guessed is what an area uses by the guess, where nothing better is known.
func (p *patient) guessed(a *survey.Area) iter.Seq[span.Span] {
	if p.guess != nil && a.Content.Volume == nil {
		for i := range p.guess.Areas {
			if g := &p.guess.Areas[i]; g.Span == a.Span && g.Content.Volume != nil {
				return usedOf(g)
			}
		}
	}
	return usedOf(a)
}
