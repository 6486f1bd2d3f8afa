package plan

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"

	"github.com/zeebo/blake3"

	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/identity"
	"twinshelf/internal/rehearse"
	"twinshelf/internal/span"
	"twinshelf/internal/startup"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// layOut decides which part goes where, and composes the disk.
func layOut(ctx context.Context, p Plan) (Plan, error) {
	wish := p.Order.Wish.Wish
	wish.Spare = wish.Spare || p.Order.Wish.NewPart.Kind != ""
	l := p.Order.known()
	p.Order.Like = nil // a plan keeps no others
	var err error
	if l == nil {
		if l, err = fit.Make(ctx, p.source, p.Order.Target, wish); err != nil {
			return p, err
		}
	}
	p.Layout = l
	p.Disk, err = rehearse.Compose(p.source, l.Size, l.Sector, l.Moves, l.Patches)
	return p, err
}

// known is the layout of a plan that the order is like; nil where each of them could be laid out differently.
func (o Order) known() *fit.Layout {
	for _, p := range o.Like {
		was := p.Order
		if o.Origin != "" && o.Origin == was.Origin &&
			o.Target.Size == was.Target.Size && o.Target.Sector == was.Target.Sector &&
			reflect.DeepEqual(o.Wish.Wish, was.Wish.Wish) && o.Wish.NewPart == was.Wish.NewPart &&
			o.Wish.Gaps == was.Wish.Gaps && o.Wish.Unlocked == was.Wish.Unlocked {
			return p.Layout
		}
	}
	return nil
}

// step is what a new part is aligned to, in bytes.
const step = 1 << 20

// addPart makes a new part of the room that is left, with a file system, when that is wished.
func addPart(_ context.Context, p Plan) (Plan, error) {
	w, l := p.Order.Wish.NewPart, p.Layout
	if w.Kind == "" {
		return p, nil
	}
	room := span.Span{Start: (l.Leftover.Start + step - 1) / step * step, End: l.Leftover.End / step * step}
	if room.Empty() || l.Table.Kind == table.None {
		return p, errors.New("there is no room left for a new part: the others take all of it; let nothing grow, or " +
			"give them exact sizes")
	}
	maker, err := families.MakerOf(w.Kind)
	if err != nil {
		return p, err
	}
	id := blake3.Sum256([]byte(p.Order.Seed + "\nnew part"))
	form := fsys.Form{Kind: maker.Kind, Label: w.Label, Size: room.Len(), Sector: l.Sector, Start: room.Start,
		ID: [16]byte(id[:16]), Now: p.Order.Made}
	if err := maker.Check(form); err != nil {
		return p, fmt.Errorf("the new part: %w", err)
	}
	volume, err := maker.Format(form)
	if err != nil {
		return p, fmt.Errorf("the new part: %w", err)
	}
	for i := range volume {
		volume[i].Off += room.Start
	}
	t, err := table.Read(p.Disk, l.Size, l.Sector)
	if err != nil {
		return p, err
	}
	part := table.Part{Span: room, Name: w.Label, GUID: table.NewGUID(form.ID)}
	part.Type = table.TypeFor(t.Kind, maker.Kind)
	entries, number, err := t.Add(p.Disk, part, l.Size)
	if err != nil {
		return p, fmt.Errorf("the new part: %w", err)
	}
	part.Number = number
	p.Added = &Added{part, NewPart{maker.Kind, w.Label}}
	p.Disk, err = p.Disk.With(append(entries, volume...))
	return p, err
}

func (a *Added) words() string {
	return fmt.Sprintf("part %d is new: %s of %s in the room that is left", a.Part.Number, a.Kind,
		units.Bytes(a.Part.Span.Len()))
}

// gone are the identities of the parts that are left out, with their titles.
func (p *Plan) gone() map[string]string {
	out := map[string]string{}
	for _, x := range p.Layout.Parts {
		if !x.To.Empty() {
			continue
		}
		for _, id := range []string{x.ID, x.Part.GUID} {
			if id != "" {
				out[id] = fmt.Sprintf("part %d", x.Part.Number)
			}
		}
	}
	return out
}

// repair looks whether the disk should start, and puts right what can be put right unless that is declined.
func repair(ctx context.Context, p Plan) (Plan, error) {
	r, err := startup.Check(ctx, p.Disk,
		startup.Options{Moves: p.Layout.Moves, Gone: p.gone(), Elsewhere: p.Order.Elsewhere,
			OtherHardware: p.Order.Wish.OtherHardware})
	if err != nil {
		return p, err
	}
	p.Startup = r
	patches, does := r.Repairs()
	if len(patches) == 0 || p.Order.Wish.AsItStarts {
		return p, nil
	}
	p.Repairs, p.Repaired = patches, does
	p.Disk, err = p.Disk.With(patches)
	return p, err
}

// renew gives the disk identities of its own, and tells it those of disks that are made in the same piece of work.
func renew(ctx context.Context, p Plan) (Plan, error) {
	o := p.Order
	p.Elsewhere = slices.Clone(o.Elsewhere)
	for i, id := range p.Elsewhere {
		if now, ok := o.Others[id]; ok {
			p.Elsewhere[i] = now
		}
	}
	var err error
	switch {
	case o.Wish.Fresh:
		opts := identity.Options{Seed: o.Seed, Others: o.Others}
		if p.Added != nil {
			opts.Own = p.Added.Part.Number
		}
		p.Fresh, err = identity.Renew(ctx, p.Disk, opts)
	case len(o.Others) > 0:
		p.Fresh, err = identity.Follow(ctx, p.Disk, o.Others)
	default:
		return p, nil
	}
	if err != nil {
		return p, err
	}
	p.Disk, err = p.Disk.With(p.Fresh.Patches)
	return p, err
}

// judge says whether the disk should start as it is now.
func judge(ctx context.Context, p Plan) (Plan, error) {
	if len(p.Repaired) > 0 || p.Fresh != nil {
		r, err := startup.Check(ctx, p.Disk,
			startup.Options{Gone: p.gone(), Elsewhere: p.Elsewhere, Before: p.Startup})
		if err != nil {
			return p, err
		}
		p.Startup = r
	}
	if p.Order.Wish.AsItStarts {
		p.Startup = p.Startup.Decline()
	}
	return p, nil
}

// compare says what of the start-up changed since the date before, where something of it isn't good.
func compare(ctx context.Context, p Plan) (Plan, error) {
	if p.Order.Earlier == nil || !p.Startup.Troubled() {
		return p, nil
	}
	before, taken, err := p.Order.Earlier(ctx)
	if err != nil || before == nil {
		return p, err
	}
	changed, err := startup.Changed(ctx, p.Order.Source, before)
	if errors.Is(err, context.Canceled) {
		return p, err
	}
	// What can't be read of an earlier date takes nothing from this one.
	p.Startup = p.Startup.Since(units.Moment(taken), changed)
	return p, nil
}

// check looks at the planned disk as if it were the finished one.
func check(ctx context.Context, p Plan) (Plan, error) {
	t, err := table.Read(p.Disk, p.Disk.Size(), p.Disk.SectorSize())
	if err != nil {
		return p, err
	}
	if was := p.Layout.Table; was.Sound(p.Order.Source.Size()) &&
		(!t.Sound(p.Disk.Size()) || t.Worst() == table.Damage && was.Worst() != table.Damage) {
		return p, fmt.Errorf("the planned disk's table would not be sound (%s); nothing was written",
			t.Complaint(was.Kind, len(t.Parts), p.Disk.Size()))
	}
	for _, x := range p.Layout.Parts {
		if err := sound(ctx, p.Disk, x); err != nil {
			return p, err
		}
	}
	return p, nil
}

// sound looks at a file system whose size changes.
func sound(ctx context.Context, d disk.Device, x fit.Part) error {
	if x.To.Empty() || x.Becomes == x.Volume {
		return nil
	}
	c, err := families.Examine(ctx, disk.Section(d, x.To.Start, x.To.Len()), x.To.Len(), d.SectorSize())
	if err != nil {
		return err
	}
	if !c.Maps || c.Info.Size != x.Becomes || c.Info.Kind != x.Kind {
		return fmt.Errorf("the %s of part %d would not be sound with its new size (%s); nothing was written: let "+
			"that part keep its size", x.Kind, x.Part.Number, c.Why)
	}
	return nil
}
