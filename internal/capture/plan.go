// Package capture puts the disks of a machine on a shelf: it reads what has to
// be read in disk order, stores every block once, and lets the twin appear last.
package capture

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/health"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/survey"
	"twinshelf/internal/units"
)

// Source is one disk to capture.
type Source struct {
	Survey *survey.Survey
	// Path is where the disk is attached.
	Path string
	// LeaveOut are the numbers of parts that the person doesn't want.
	LeaveOut map[int]bool
	// Rotational helps the estimate.
	Rotational bool
	// Health is what the drive says of itself; nil where nobody has asked it.
	Health *health.Report
}

// Trust says whose records of what is unchanged spare the reading.
type Trust int

const (
	// TrustSure is for the file systems that note every change.
	TrustSure Trust = iota
	// TrustNone has everything read.
	TrustNone
	// TrustMost is also for those whose records may miss one (fsys.Unchanging, Caveat).
	TrustMost
)

// Next is the choice that follows, round in a circle.
func (t Trust) Next() Trust { return (t + 1) % (TrustMost + 1) }

// Plan is a capture that hasn't begun.
type Plan struct {
	Shelf   *shelf.Shelf
	Machine string
	Note    string
	Sources []Source
	Tool    string
	// KeepUnlocking has the keys of unlocked volumes kept with the twin; only a sealed shelf does that.
	KeepUnlocking bool
	// Trust says what isn't read again.
	Trust Trust
	// Packing says how closely what is new is packed.
	Packing Packing
	// Glimpses, where there are some, keep what was read of the disks to find out what they hold: the twin's names can
	// be listed from them.
	Glimpses *shelf.Glimpses
	// Names, where it is given, lists the names of a twin that isn't on the shelf so far, from glimpses alone; nil
	// where they don't go far enough. NamesKept says afterwards whether the shelf has that listing.
	Names     func(ctx context.Context, t *shelf.Twin, s *shelf.Session) *shelf.Listing
	NamesKept bool
	// Now is the time that the twin carries; zero means the time it starts.
	Now time.Time
	// there is the share of what is captured that the shelf has already, as far as a sample tells.
	there float64
	// depth is how many blocks of a disk are read at the same time; 0 has that found out.
	depth int
}

// Estimate is what a capture will probably need.
type Estimate struct {
	Read   int64         `json:"read"`   // bytes
	Keep   int64         `json:"keep"`   // bytes in use; more than Read where the device knows its holes
	Likely int64         `json:"likely"` // bytes it will probably add to the shelf
	Most   int64         `json:"most"`   // bytes it can add at the most
	Free   store.Room    `json:"free"`   // bytes free where the shelf lies
	Time   time.Duration `json:"seconds"`
	// Before says how many twins of this machine the shelf has.
	Before int `json:"before"`
}

// Assumed rates in bytes per second for an estimate before anything was
// measured: a rotating disk's own pace, otherwise that of hashing and packing.
const (
	rotatingRate = 120 * units.MB
	packingRate  = 200 * units.MB
	// First captures of mixed content shrink to about six tenths; later ones of the same
	// machine without history bring about one part in ten.
	firstShare, laterShare = 0.6, 0.1
	// perBlock is what the shelf keeps about each block, rounded up.
	perBlock = 256
)

// Estimate says what the capture needs and whether there is room.
func (p *Plan) Estimate(ctx context.Context) (Estimate, error) {
	var e Estimate
	seconds := 0.0
	for _, s := range p.Sources {
		rate := float64(packingRate)
		if s.Rotational {
			rate = rotatingRate
		}
		read := int64(0)
		for _, a := range s.Survey.Areas {
			if !s.LeaveOut[a.Number()] || a.Part == nil {
				read += a.ToRead
				e.Keep += a.Content.Used
			}
		}
		e.Read += read
		seconds += float64(read) / rate
	}
	e.Time = time.Duration(seconds * float64(time.Second))
	e.Most = e.Read + e.Read/int64(p.Shelf.Head().BlockSize)*perBlock + units.MiB
	twins, _ := shelf.TwinsOf(ctx, p.Shelf, p.Machine)
	var later []int64
	for _, t := range twins {
		if strings.EqualFold(t.Machine, p.Machine) {
			e.Before++
			later = append(later, t.Added)
		}
	}
	switch {
	case e.Before == 0:
		e.Likely = int64(float64(e.Read) * firstShare * (1 - p.there))
	case e.Before == 1:
		e.Likely = int64(float64(e.Read) * laterShare)
	default: // the first one, listed last, brought everything
		sum := int64(0)
		for _, n := range later[:e.Before-1] {
			sum += n
		}
		e.Likely = sum / int64(e.Before-1)
	}
	e.Likely = min(e.Likely, e.Most)
	var err error
	e.Free, err = p.Shelf.Free(ctx)
	return e, err
}

// TooLittle says that the shelf probably has too little room, Tight that it may have.
func (e Estimate) TooLittle() bool { return e.Likely > int64(e.Free) }
func (e Estimate) Tight() bool     { return e.Most > int64(e.Free) }

// Words says the verdict on the room in one sentence.
func (e Estimate) Words() string {
	switch {
	case e.TooLittle():
		return fmt.Sprintf("the shelf has too little room: %s, about %s needed; make room or use another shelf",
			e.Free.Words(), units.Bytes(e.Likely))
	case e.Tight():
		return fmt.Sprintf("it will probably fit (%s), but only if the contents can be packed: at the most %s are "+
			"needed", e.Free.Words(), units.Bytes(e.Most))
	case !e.Free.Known():
		return "whether it fits can't be told: the shelf lies where nobody says how much room is left"
	}
	return fmt.Sprintf("it fits, even if nothing can be packed (%s)", e.Free.Words())
}

// ErrNoRoom means that the shelf has too little room for the capture.
var ErrNoRoom = errors.New("too little room")

// Check refuses a plan that can't work, before anything is read.
func (p *Plan) Check(ctx context.Context) error {
	if strings.TrimSpace(p.Machine) == "" {
		return errors.New("the machine has no name; give it one, so that its twins are found again")
	}
	if strings.ContainsFunc(p.Machine, units.Moves) {
		return errors.New("the machine's name has control characters in it; give it one that can be read")
	}
	if len(p.Sources) == 0 {
		return errors.New("no disk is chosen")
	}
	if err := p.checkUnlocking(ctx); err != nil {
		return err
	}
	e, err := p.Estimate(ctx)
	if err != nil {
		return err
	}
	if e.TooLittle() {
		return fmt.Errorf("%w: %s", ErrNoRoom, e.Words())
	}
	return nil
}

// checkUnlocking refuses to keep keys where that can't be.
func (p *Plan) checkUnlocking(ctx context.Context) error {
	switch {
	case !p.KeepUnlocking:
		return nil
	case !p.Shelf.Sealed():
		return fmt.Errorf("the unlocking can't be kept: %w", shelf.ErrOpenShelf)
	}
	for _, s := range p.Sources {
		if len(shelf.Unlocked(ctx, &shelf.Twin{Disks: []shelf.TwinDisk{*Describe(s.Survey)}})) > 0 {
			return nil
		}
	}
	return fmt.Errorf("the unlocking can't be kept: %w", shelf.ErrNothingUnlocked)
}

// Warnings are what the person must know before a capture that isn't quiet.
func (p *Plan) Warnings() []string {
	var out []string
	for _, s := range p.Sources {
		name := disk.Sticker(s.Survey.Device.Identity())
		for _, w := range s.Survey.Warnings() {
			out = append(out, name+": "+w)
		}
	}
	return out
}

// Health says of each disk that isn't sound by its own figures what they show.
func (p *Plan) Health() []string {
	var out []string
	for _, s := range p.Sources {
		if v := s.Health.Verdict(); v.Level >= health.Watch {
			out = append(out, disk.Sticker(s.Survey.Device.Identity())+": "+v.Words())
		}
	}
	return out
}

// Failing says whether a drive loses data, or says that it will: then a rescue spares it.
func (p *Plan) Failing() bool {
	return slices.ContainsFunc(p.Sources, func(s Source) bool { return s.Health.Verdict().Level == health.Failing })
}

// Wholes say of which parts, although it is known what they hold, all is read and why: their accounts contradict each
// other, or they aren't read here.
func (p *Plan) Wholes() []string {
	var out []string
	for _, s := range p.Sources {
		for _, a := range s.Survey.Parts() {
			c := a.Content
			if !s.LeaveOut[a.Number()] && !c.Maps && c.Info.Known() && c.Info.Unclean == "" {
				out = append(out,
					fmt.Sprintf("part %d (%s, %s): all of it is read: %s", a.Part.Number, a.Title(), a.Holds(), c.Why))
			}
		}
	}
	return out
}

// Phases are the names of the phases of a capture.
var Phases = []string{phaseRead, phaseRetry, phaseKeep}

const (
	phaseRead  = "Read and store"
	phaseRetry = "Try unreadable places again"
	phaseKeep  = "Make it durable"
)
