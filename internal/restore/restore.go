// Package restore writes a planned disk onto a target: through the guard, in
// disk order, with the first MiB last, so that a half-written disk isn't taken
// for a good one.
package restore

import (
	"fmt"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/plan"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Restore is the writing of a plan onto a target that hasn't begun.
type Restore struct {
	*plan.Plan
	Target disk.Target
	Guard  *disk.Guard

	// Lenient lets the writing go on where the source can't be read: there the target gets zeros, and Missing says so.
	Lenient bool

	// Follow, which may be nil, hears again and again which stretch of the target was written so far, without being
	// flushed. It isn't called for a drive that may lose what was written before, nor where an earlier run goes on; it
	// must not block. Keep are the stretches of the target that are left as they are.
	Follow func(written span.Span)
	Keep   span.Set
	// Beside is how many other targets are written at the same time: each holds less then.
	Beside int

	toWrite int64
	data    int64
	notes   Notes
	key     string
	came    Progress // how far it has come, here or in an earlier run
	found   bool     // an earlier run was found that can go on
	settled bool     // the target failed at something, which was gone over
	every   time.Duration
}

// New gets ready to write a plan onto a target, through the guard; nothing is written yet.
func New(p *plan.Plan, target disk.Target, guard *disk.Guard) (*Restore, error) {
	if err := guard.Check(target); err != nil {
		return nil, err
	}
	r := &Restore{Plan: p, Target: target, Guard: guard, every: checkpoint}
	for piece, err := range p.Disk.Pieces() {
		if err != nil {
			return nil, fmt.Errorf("the twin can't be restored: %w; prove it to see which parts are hurt", err)
		}
		switch piece.Kind {
		case disk.Data:
			r.data += piece.Len()
			r.toWrite += piece.Len()
		case disk.Zero:
			r.toWrite += piece.Len()
		}
	}
	return r, nil
}

// Bytes are the bytes to write at the most, and how many of them aren't zeros.
func (p *Restore) Bytes() (write, data int64) { return p.toWrite, p.data }

// TargetFailed says whether the target failed at something while it was written, even where it kept it in the end.
func (p *Restore) TargetFailed() bool { return p.settled }

// Assumed rate for the estimate, in bytes per second.
const writingRate = 150 * units.MB

// Estimate is how long the writing will probably take.
func (p *Restore) Estimate() time.Duration {
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
		switch asleep := (fsys.Rest{State: r.Rest}).Asleep(); {
		case r.AsCut:
			out = append(out, fmt.Sprintf("part %d (%s) was captured as if the power had been cut (%s): at its first "+
				"start the system replays its log, and may check the drive", r.Part, r.Title(), r.Unclean))
		case asleep:
			out = append(out,
				fmt.Sprintf("part %d (%s) holds a sleeping system (%s): it wakes up on the hardware that "+
					"it was put to sleep on; on other hardware that fails, or does harm", r.Part, r.Title(), r.Unclean))
		case r.Unclean != "":
			out = append(out, fmt.Sprintf("part %d (%s) was not quiet when it was captured: %s", r.Part, r.Title(),
				r.Unclean))
		}
	}
	if n := d.Missing.Total(); n > 0 {
		out = append(out, fmt.Sprintf("%s of the source could not be read and will be missing; the system may check "+
			"its file systems when it starts, nothing is repaired here", units.Bytes(n)))
	}
	return out
}
