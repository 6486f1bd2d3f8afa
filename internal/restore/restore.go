// Package restore writes a planned disk onto a target: through the guard, in
// disk order, with the first MiB last, so that a half-written disk isn't taken
// for a good one.
package restore

import (
	"context"
	"fmt"
	"slices"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/identity"
	"twinshelf/internal/rehearse"
	"twinshelf/internal/shelf"
	"twinshelf/internal/startup"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// Plan is a restore that hasn't begun.
type Plan struct {
	Source disk.Mapped
	Target disk.Target
	Guard  *disk.Guard
	Fit    *fit.Plan

	// Lenient lets the writing go on where the source can't be read: there the target gets zeros, and Missing says so.
	Lenient bool

	// Startup says whether the planned disk should start, Repaired what is repaired so that it does, in words.
	Startup  *startup.Report
	Repaired []string
	// Fresh says what gets an identity of its own; nil when the target keeps those of its source.
	Fresh *identity.Renewed

	planned *rehearse.Planned
	repairs []disk.Patch
	toWrite int64
	data    int64
	notes   Notes
	key     string
	came    Progress // how far it has come, here or in an earlier run
	found   bool     // an earlier run was found that can go on
	every   time.Duration
}

// New plans the restore of source onto target as it is wished; nothing is written. It refuses what can't
// work or mustn't be done.
func New(ctx context.Context, source disk.Mapped, target disk.Target, guard *disk.Guard, wish fit.Wish) (*Plan, error) {
	f, err := fit.Make(ctx, source, target.Identity, wish)
	if err != nil {
		return nil, err
	}
	if err := guard.Check(target); err != nil {
		return nil, err
	}
	p := &Plan{Source: source, Target: target, Guard: guard, Fit: f, every: checkpoint}
	planned, err := p.compose(ctx, wish)
	if err != nil {
		return nil, err
	}
	p.planned = planned
	for piece, err := range planned.Pieces() {
		if err != nil {
			return nil, fmt.Errorf("the twin can't be restored: %w; prove it to see which parts are hurt", err)
		}
		switch piece.Kind {
		case disk.Data:
			p.data += piece.Len()
			p.toWrite += piece.Len()
		case disk.Zero:
			p.toWrite += piece.Len()
		}
	}
	// The planned disk is checked as if it were the finished one.
	t, err := table.Read(planned, planned.Size(), planned.SectorSize())
	if err != nil {
		return nil, err
	}
	if f.Table.Sound(source.Size()) &&
		(!t.Sound(planned.Size()) || t.Worst() == table.Damage && f.Table.Worst() != table.Damage) {
		return nil, fmt.Errorf("the planned disk's table would not be sound (%v); nothing was written", t.Findings)
	}
	return p, p.sound(ctx)
}

// sound looks at the file systems whose size changes as if they were there.
func (p *Plan) sound(ctx context.Context) error {
	for _, x := range p.Fit.Parts {
		if x.To.Empty() || x.Becomes == x.Volume {
			continue
		}
		c, err := families.Examine(ctx, disk.Section(p.planned, x.To.Start, x.To.Len()), x.To.Len(),
			p.planned.SectorSize())
		if err != nil {
			return err
		}
		if !c.Maps || c.Info.Size != x.Becomes || c.Info.Kind != x.Kind {
			return fmt.Errorf("the %s of part %d would not be sound with its new size (%s); nothing was written: let "+
				"that part keep its size", x.Kind, x.Part.Number, c.Why)
		}
	}
	return nil
}

// Rehearse composes the disk that a restore onto such a target would make, and gives what its start-up repairs are.
func Rehearse(ctx context.Context, source disk.Mapped, target disk.Identity,
	wish fit.Wish) (planned *rehearse.Planned, repairs []disk.Patch, err error) {
	f, err := fit.Make(ctx, source, target, wish)
	if err != nil {
		return nil, nil, err
	}
	p := &Plan{Source: source, Fit: f}
	planned, err = p.compose(ctx, wish)
	return planned, p.repairs, err
}

// compose makes the planned disk, looks whether it should start, and repairs what can be repaired unless that is
// declined.
func (p *Plan) compose(ctx context.Context, wish fit.Wish) (*rehearse.Planned, error) {
	planned, err := rehearse.Compose(p.Source, p.Fit)
	if err != nil {
		return nil, err
	}
	o := startup.Options{Moves: p.Fit.Moves, Gone: map[string]string{}, Elsewhere: wish.Elsewhere}
	for _, x := range p.Fit.Parts {
		if x.To.Empty() {
			title := fmt.Sprintf("part %d", x.Part.Number)
			for _, id := range []string{x.ID, x.Part.GUID} {
				if id != "" {
					o.Gone[id] = title
				}
			}
		}
	}
	if p.Startup, err = startup.Check(ctx, planned, o); err != nil {
		return nil, err
	}
	if patches, does := p.Startup.Repairs(); len(patches) > 0 && !wish.AsItStarts {
		p.repairs, p.Repaired = patches, does
		if planned, err = p.over(patches); err != nil {
			return nil, err
		}
	}
	if planned, err = p.renew(ctx, planned, wish); err != nil {
		return nil, err
	}
	defer func() {
		if p.Startup != nil {
			p.Startup.Declined = wish.AsItStarts
		}
	}()
	if len(p.Repaired) > 0 || p.Fresh != nil {
		p.Startup, err = startup.Check(ctx, planned,
			startup.Options{Gone: o.Gone, Elsewhere: p.Fit.Elsewhere, Before: p.Startup})
	}
	return planned, err
}

// renew gives the planned disk identities of its own, and tells it those of disks that are restored together with it.
func (p *Plan) renew(ctx context.Context, planned *rehearse.Planned, wish fit.Wish) (*rehearse.Planned, error) {
	p.Fit.Elsewhere = slices.Clone(wish.Elsewhere)
	for i, id := range p.Fit.Elsewhere {
		if now, ok := wish.Others[id]; ok {
			p.Fit.Elsewhere[i] = now
		}
	}
	var err error
	switch {
	case wish.Fresh:
		o := identity.Options{Seed: wish.Seed, Others: wish.Others}
		if a := p.Fit.Added; a != nil {
			o.Own = a.Part.Number
		}
		if p.Fresh, err = identity.Renew(ctx, planned, o); err != nil {
			return nil, err
		}
		p.Fit.Renewed = p.Fresh.IDs
	case len(wish.Others) > 0:
		if p.Fresh, err = identity.Follow(ctx, planned, wish.Others); err != nil {
			return nil, err
		}
	default:
		return planned, nil
	}
	return p.over(p.Fresh.Patches)
}

// over composes the planned disk again with more patches over it.
func (p *Plan) over(patches []disk.Patch) (*rehearse.Planned, error) {
	p.Fit.Patches = disk.Over(patches, p.Fit.Patches)
	return rehearse.Compose(p.Source, p.Fit)
}

// Planned is the disk as it will be.
func (p *Plan) Planned() *rehearse.Planned { return p.planned }

// Bytes are the bytes to write at the most, and how many of them aren't zeros.
func (p *Plan) Bytes() (write, data int64) { return p.toWrite, p.data }

// Assumed rate for the estimate, in bytes per second.
const writingRate = 150 * units.MB

// Estimate is how long the writing will probably take.
func (p *Plan) Estimate() time.Duration {
	return time.Duration(float64(p.data) / writingRate * float64(time.Second))
}

// Warnings says what is missing or doubtful in a disk of a twin, in words.
func Warnings(d *shelf.TwinDisk) []string {
	var out []string
	for _, r := range d.Parts() {
		if !r.Captured {
			out = append(out,
				fmt.Sprintf("part %d (%s) was not captured; on the target it will hold whatever is there now", r.Part,
					r.Title()))
		}
		if r.Unclean != "" {
			out = append(out, fmt.Sprintf("part %d (%s) was not quiet when it was captured: %s", r.Part, r.Title(),
				r.Unclean))
		}
	}
	if n := d.Missing.Total(); n > 0 {
		out = append(out, fmt.Sprintf("%s of the source could not be read and will be zeros", units.Bytes(n)))
	}
	return out
}
