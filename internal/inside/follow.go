package inside

import (
	"context"
	"io/fs"
	"slices"

	"twinshelf/internal/names"
	"twinshelf/internal/shelf"
)

const mostLooked = 100 // other dates that are looked at

// Having finds the newest other date of the machine that has an item; nil when there is none.
func (l *Library) Having(ctx context.Context, in *Machine, text string) *shelf.Twin {
	if in.Twin == nil {
		return nil
	}
	twins, _ := l.s.Twins(ctx)
	twins = slices.DeleteFunc(twins, func(t *shelf.Twin) bool {
		return t.Machine != in.Twin.Machine || t.ID == in.Twin.ID
	})
	slices.SortFunc(twins, func(a, b *shelf.Twin) int { return b.Taken.Compare(a.Taken) })
	for _, t := range twins[:min(len(twins), mostLooked)] {
		if ctx.Err() != nil {
			return nil
		}
		other, err := OfTwin(ctx, l.s, t)
		if err != nil {
			continue
		}
		if _, _, _, err := other.Resolve(ctx, text); err == nil {
			return t
		}
	}
	return nil
}

// Follow follows an item of a twin over the dates of its machine, oldest first. Of a twin that can't be read only the
// ID and the time are there, and why nobody knows.
func (l *Library) Follow(ctx context.Context, machine string, p *Part, path string) ([]Sight, error) {
	twins, _ := l.s.Twins(ctx)
	unread, err := l.s.Unread(ctx, machine, twins)
	if err != nil {
		return nil, err
	}
	twins = slices.DeleteFunc(twins, func(t *shelf.Twin) bool { return t.Machine != machine })
	slices.Reverse(twins) // newest first, as they are listed
	sights, err := l.History(ctx, twins, p.Key(), p.Disk, p.Number, path)
	if err != nil {
		return nil, err
	}
	for _, id := range unread {
		sights = append(sights, Sight{Twin: &shelf.Twin{ID: id, Machine: machine, Taken: shelf.TakenOf(id)},
			Why: "the description of the twin can't be read; \"twinshelf shelf check --mend\" may mend it"})
	}
	slices.SortStableFunc(sights, func(a, b Sight) int { return a.Twin.Taken.Compare(b.Twin.Taken) })
	return sights, nil
}

// SettleVersions looks at the contents where a version has the size of the one before and only its time or identity
// differs, and counts equal ones as one version. Files of more than most bytes are left as they are.
func (l *Library) SettleVersions(ctx context.Context, p *Part, path string, sights []Sight,
	most int64) error {
	was, fewer := 0, 0 // the version before as it was counted, and how many turned out to be none
	for i := range sights {
		s := &sights[i]
		now := s.Version
		if i > 0 && now > was && was > 0 && alike(sights[i-1], *s) && s.Entry.Size <= most {
			if l.sameAt(ctx, p, path, sights[i-1].Twin, s.Twin) {
				fewer++
			}
			if ctx.Err() != nil {
				return ctx.Err()
			}
		}
		if s.There {
			was = now
			s.Version -= fewer
		} else {
			was = 0
		}
	}
	return nil
}

// alike says whether an item was a file of the same size at two dates.
func alike(a, b Sight) bool {
	return a.There && a.Entry.Kind == names.File && b.Entry.Kind == names.File && a.Entry.Size == b.Entry.Size
}

// sameAt says whether a file is known to have had the same contents at two dates.
func (l *Library) sameAt(ctx context.Context, p *Part, path string, before, after *shelf.Twin) bool {
	a, err := l.openAt(ctx, p, path, before)
	if err != nil {
		return false
	}
	b, err := l.openAt(ctx, p, path, after)
	if err != nil {
		return false
	}
	same, err := SameContents(ctx, a, b)
	return err == nil && same
}

// openAt opens a file of a part as it was in a twin.
func (l *Library) openAt(ctx context.Context, p *Part, path string, t *shelf.Twin) (*Opened, error) {
	in, err := OfTwin(ctx, l.s, t)
	if err != nil {
		return nil, err
	}
	same := in.Same(p)
	if same == nil {
		return nil, fs.ErrNotExist
	}
	return same.Open(ctx, path)
}
