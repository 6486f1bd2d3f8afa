package inside

import (
	"context"
	"errors"

	"twinshelf/internal/names"
)

// PartDifference is what differs in one part.
type PartDifference struct {
	Part *Part  // of the newer side
	Why  string // why nothing can be told
	All  []names.Difference
}

// Compare gives what differs between two machines' contents, part by part. A path limits it to one folder of one
// part.
func Compare(ctx context.Context, lib *Library, before, after *Machine, only *Part,
	folder string) ([]PartDifference, error) {
	var out []PartDifference
	for _, p := range after.Parts {
		if only != nil && p != only {
			continue
		}
		d := PartDifference{Part: p}
		was := before.Same(p)
		if was == nil {
			d.Why = "the other side has no such part"
			out = append(out, d)
			continue
		}
		a, err := indexOf(ctx, lib, before, was)
		var b *names.Index
		if err == nil {
			b, err = indexOf(ctx, lib, after, p)
		}
		if err == nil {
			d.All, err = names.Compare(ctx, a, b, folder)
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			d.Why = err.Error()
		}
		out = append(out, d)
	}
	return out, nil
}

// Same is the part that is the same one as p of another date or disk; nil when there is none.
func (in *Machine) Same(p *Part) *Part {
	var atPlace *Part
	for _, o := range in.Parts {
		if o.Key() == p.Key() {
			return o
		}
		if o.Disk == p.Disk && o.Number == p.Number {
			atPlace = o
		}
	}
	return atPlace
}

// indexOf gives the index of a part: that of the shelf, or one made now.
func indexOf(ctx context.Context, lib *Library, in *Machine, p *Part) (*names.Index, error) {
	if in.Twin != nil && lib != nil {
		all, err := lib.Of(ctx, in.Twin)
		if err != nil {
			return nil, err
		}
		for _, l := range all {
			if l.Disk == p.Disk && l.Part == p.Number {
				if l.Index == nil {
					return nil, errors.New(l.Why)
				}
				return l.Index, nil
			}
		}
		return nil, errors.New("the part has no index")
	}
	t, err := p.Tree(ctx)
	if err != nil {
		return nil, err
	}
	m := &names.Memory{}
	made, err := names.Make(ctx, t, m)
	if err != nil {
		return nil, err
	}
	return names.Open(ctx, m, made.Keys)
}

// ConfirmDifferences settles which of the differences that are unsure are real, by looking at the contents.
func ConfirmDifferences(ctx context.Context, before *Machine, d *PartDifference) error {
	was := before.Same(d.Part)
	var out []names.Difference
	for _, x := range d.All {
		if x.Unsure && x.New.Kind == names.File && was != nil {
			same, known := sameIn(ctx, was, d.Part, x.Path)
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if same {
				continue
			}
			x.Unsure = x.Unsure && !known
		}
		out = append(out, x)
	}
	d.All = out
	return nil
}

// sameIn says whether a file has the same contents in two parts; known is false when that can't be told.
func sameIn(ctx context.Context, before, after *Part, path string) (same, known bool) {
	a, err := before.Open(ctx, path)
	if err != nil {
		return false, false
	}
	b, err := after.Open(ctx, path)
	if err != nil {
		return false, false
	}
	same, err = SameContents(ctx, a, b)
	return same, err == nil
}
