// Package rescue captures machines whose drives are dying: it gets what can be got, the most precious first, in as many
// sittings as it takes. Whatever was read is on the shelf at once, as a twin that says what is missing; the next
// sitting goes on from it, reads nothing good again, and makes it better.
package rescue

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/careful"
	"twinshelf/internal/disk/health"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// Pass is a way of going over the drives.
type Pass int

// The passes, in their order. Each leaves to the next what it couldn't get without lingering.
const (
	// Look reads the tables, start-up and what file systems keep of themselves.
	Look Pass = iota + 1
	// Stride reads what is used in disk order, and jumps on from bad places.
	Stride
	// Narrow closes in on bad places from both sides.
	Narrow
	// Single tries what is left sector by sector.
	Single
)

// Words is what a pass does, as it is shown.
func (p Pass) Words() string { return passWords[p-1] }

var passWords = []string{"Read what tells where everything lies", "Read what is in use", "Close in on bad places",
	"Try single sectors"}

// keepWords is the last phase.
const keepWords = "Make it durable"

// Phases are the names of the phases of a sitting.
var Phases = append(append([]string(nil), passWords...), keepWords)

// Source is one drive of the machine.
type Source struct {
	Device disk.Device
	// Health is what the drive said of itself; nil where it wasn't asked.
	Health *health.Report
	// LeaveOut are the numbers of parts that the person doesn't want.
	LeaveOut map[int]bool
	// Drive says how it is read.
	Drive careful.Options
	// Physical is the size of its physical sectors in bytes; 0 for that of its logical ones.
	Physical int
	// InUse names parts that somebody writes to now, see survey.Of.
	InUse map[int]string
}

// physical is the size of the drive's physical sectors in bytes.
func (s *Source) physical() int64 { return int64(max(s.Physical, s.Device.SectorSize())) }

// Plan is a sitting that hasn't begun.
type Plan struct {
	Shelf   *shelf.Shelf
	Machine string
	Note    string
	Tool    string
	Sources []Source
	// Until is the last pass; 0 for all.
	Until Pass
	// Tries is how often a bad sector is tried on its own, in all sittings together; 0 for once.
	Tries int
	// First are folders and files that come before everything else that is in use, in this order; see inside.Lying.
	First []string
	// FillFrom are drives that may have what these don't give any more, such as the other one of a mirror; see fill.
	FillFrom []disk.Device
	// Unused has what nobody uses read too.
	Unused bool
	// Anew begins a rescue anew, although the shelf has one of these drives.
	Anew bool
	// Every is after how long what was read is made durable; 0 for the usual.
	Every time.Duration
	// Now is the time that the twin carries; zero means when it begins.
	Now time.Time
}

const (
	mostTries = 100
	// every is after how long what was read becomes a twin.
	every = time.Minute
)

// Errors of plans.
var (
	// ErrChanged means that a drive doesn't hold any more what it held in the sitting before.
	ErrChanged = errors.New("its content has changed since the last sitting")
	// ErrNothing means that not a byte could be read.
	ErrNothing = errors.New("nothing could be read")
)

// Check refuses a plan that can't work, before anything is read.
func (p *Plan) Check(ctx context.Context) error {
	switch {
	case strings.TrimSpace(p.Machine) == "":
		return errors.New("the machine has no name; give it one, so that its twins are found again")
	case strings.ContainsFunc(p.Machine, units.Moves):
		return errors.New("the machine's name has control characters in it; give it one that can be read")
	case len(p.Sources) == 0:
		return errors.New("no disk is chosen")
	case p.Until < 0 || p.Until > Single:
		return fmt.Errorf("there are %d passes, none is number %d", Single, p.Until)
	case p.Tries < 0 || p.Tries > mostTries:
		return fmt.Errorf("a sector can be tried 1 to %d times, not %d", mostTries, p.Tries)
	}
	return ctx.Err()
}

func (p *Plan) until() Pass {
	if p.Until == 0 {
		return Single
	}
	return p.Until
}

// Before is the twin of the newest sitting that this one goes on from; nil for none.
func (p *Plan) Before(ctx context.Context) *shelf.Twin {
	if p.Anew {
		return nil
	}
	twins, _ := p.Shelf.Twins(ctx) // newest first within a machine
	for _, t := range twins {
		if t.Rescue != nil && strings.EqualFold(t.Machine, p.Machine) && p.has(t) {
			return t
		}
	}
	return nil
}

// has says whether a twin has just the drives of the plan, in their order.
func (p *Plan) has(t *shelf.Twin) bool {
	if len(t.Disks) != len(p.Sources) {
		return false
	}
	for i := range p.Sources {
		id, was := p.Sources[i].Device.Identity(), t.Disks[i].Identity
		if id.Serial != was.Serial || id.Model != was.Model || p.Sources[i].Device.Size() != was.Size {
			return false
		}
	}
	return true
}
