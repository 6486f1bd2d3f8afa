// Package plan makes the disk as it will be: passes over one plan, each of which gives another plan and leaves its own
// as it was. Nothing is written here, and nobody else changes a plan.
package plan

import (
	"context"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/identity"
	"twinshelf/internal/inside"
	"twinshelf/internal/rehearse"
	"twinshelf/internal/startup"
	"twinshelf/internal/table"
)

// Plan is a disk as it will be. It never changes, and neither does anything that it points to.
type Plan struct {
	Order Order
	// Layout says which part goes where.
	Layout *fit.Layout
	// Disk is the planned disk, readable before it exists.
	Disk *rehearse.Planned
	// Added is the part that is made of the room left over; nil for none.
	Added *Added
	// Startup says whether the planned disk should start.
	Startup *startup.Report
	// Repairs are what is put right so that it does, Repaired the same in words.
	Repairs  []disk.Patch
	Repaired []string
	// Fresh says what gets an identity of its own; nil when the target keeps those of its source.
	Fresh *identity.Renewed
	// Elsewhere are the identities of file systems on the machine's other disks, as they will be.
	Elsewhere []string

	source disk.Mapped      // the order's, with marks in its gaps
	hit    *inside.Touching // the files with gaps, where that was asked
	gaps   []string         // what becomes of them, in words
}

// Added is a part that the source doesn't have.
type Added struct {
	Part table.Part
	NewPart
}

// Notes say what changes on the disk, in words.
func (p *Plan) Notes() []string {
	if p.Added != nil {
		return append(slices.Concat(p.Layout.Notes, p.gaps), p.Added.words())
	}
	return slices.Concat(p.Layout.Notes, p.Layout.Unused, p.gaps)
}

// Renewed are the new identities by the old ones, where the target gets its own; nil where it doesn't.
func (p *Plan) Renewed() map[string]string {
	if p.Fresh == nil {
		return nil
	}
	return p.Fresh.IDs
}

// pass takes a plan one step on.
type pass struct {
	doing string // what it is busy with, in words
	run   func(context.Context, Plan) (Plan, error)
}

// Make plans a disk and checks it as if it were the finished one. It refuses what can't work.
func Make(ctx context.Context, o Order) (*Plan, error) {
	return through(ctx, o, append(passes(), pass{"looking at the planned disk as if it were there", check}))
}

// Rehearse plans a disk that may exist already: what Make would refuse is left to whoever compares them.
func Rehearse(ctx context.Context, o Order) (*Plan, error) { return through(ctx, o, passes()) }

func passes() []pass {
	return []pass{
		{"looking which files have gaps", mark},
		{"reading what the parts hold, and how large they can be", layOut},
		{"making a new part of the room that is left", addPart},
		{"following the way the disk starts", repair},
		{"giving identities", renew},
		{"writing down which files have gaps", list},
		{"following the way the planned disk starts", judge},
		{"looking what of the start-up changed since the date before", compare},
	}
}

// through takes an order through passes.
func through(ctx context.Context, o Order, passes []pass) (*Plan, error) {
	p := Plan{Order: o}
	for _, x := range passes {
		if o.Doing != nil {
			o.Doing(x.doing)
		}
		var err error
		if p, err = x.run(ctx, p); err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return nil, err
		}
	}
	return &p, nil
}
