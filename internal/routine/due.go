package routine

import (
	"fmt"
	"strings"
	"time"

	"twinshelf/internal/units"
)

// Outcome is how a run of a routine ended.
type Outcome string

// The outcomes.
const (
	Done    Outcome = "done"
	Nothing Outcome = "nothing new" // it was done, and the shelf had everything
	Failed  Outcome = "failed"
	Stopped Outcome = "stopped" // by a person, who doesn't want it made up for
	Cut     Outcome = "cut off" // the process was ended; it is made up for
	Missed  Outcome = "missed"  // nothing ran at that time
)

// Well says whether what was to be done was done.
func (o Outcome) Well() bool { return o == Done || o == Nothing }

// Entry is a run of a routine, or a time at which none was.
type Entry struct {
	// Slot is the time for which it ran: that of the clock, or when the disks came; zero for one by hand.
	Slot    time.Time `json:"meant_for,omitzero"`
	Began   time.Time `json:"begun,omitzero"`
	Ended   time.Time `json:"ended"`
	Outcome Outcome   `json:"outcome"`
	Says    string    `json:"says,omitempty"`  // what became of it, in a sentence
	Twin    string    `json:"twin,omitempty"`  // ID
	Bytes   int64     `json:"added,omitempty"` // new on the shelf
	Log     []string  `json:"log,omitempty"`   // line by line
	// Try counts how often it was tried again for that time; 0 for the first try.
	Try int `json:"tried_again,omitempty"`
	// Leaving are twins (ID) that the routine's own rule drops at its next run.
	Leaving []string `json:"leaving,omitempty"`
}

// Pace is what a person said of when a routine may run.
type Pace struct {
	// Made is when it was made or changed, Resumed when it was taken up again: what was due before isn't made up for.
	Made    time.Time `json:"made"`
	Resumed time.Time `json:"resumed,omitzero"`
	// Paused says that it doesn't run until Until, or until somebody resumes it where that is zero.
	Paused bool      `json:"paused,omitempty"`
	Until  time.Time `json:"until,omitzero"`
	// Confirmed is the Consent that a person gave to what it erases; empty for none.
	Confirmed string `json:"confirmed,omitempty"`
	// Alarmed is when somebody was told last that nothing ended well for too long.
	Alarmed time.Time `json:"alarmed,omitzero"`
}

// World is what matters of the machine at a moment.
type World struct {
	Now     time.Time
	Battery bool // it runs on battery
	Busy    bool // somebody works on disks
	// Since is since when a disk is attached, by its serial number; disks that aren't there aren't in it.
	Since map[string]time.Time
}

// Due says whether a routine is to run.
type Due struct {
	Now  bool
	Slot time.Time // for which time
	Try  int       // how often it was tried for that time already
	// Next is when it is due by the clock; zero where it goes by no clock. While it waits for something else it may lie
	// in the past.
	Next time.Time
	// Missed are the times since the last run at which nothing ran, but for Slot, the newest last; at most mostMissed.
	Missed []time.Time
	Waits  string // what it waits for, in words; empty where it is only the clock
}

const (
	// mostMissed is how many missed times are told, mostBack how far back they are looked for.
	mostMissed = 200
	mostBack   = 70 * 24 * time.Hour
	// ahead is by how much clocks may differ: what was later than that was written by a wrong one and doesn't count.
	ahead = time.Hour
	// tryAgain is how long one that goes by age waits after a failure.
	tryAgain = time.Hour
)

// Due says whether the routine is to run, by its history, the oldest entry first.
func (r *Routine) Due(history []Entry, p Pace, w World) Due {
	zone, err := r.Place()
	if err != nil {
		return Due{Waits: err.Error()}
	}
	base := latest(p.Made, p.Resumed)
	var last, well Entry
	for _, e := range history {
		if latest(e.Slot, e.Began, e.Ended).After(w.Now.Add(ahead)) {
			continue
		}
		if e.Outcome.Well() {
			well = e
		}
		if e.Outcome == Cut {
			continue
		}
		base, last = latest(base, e.Slot), e
		if e.Outcome != Missed {
			base = latest(base, e.Began)
		}
	}
	d := r.byClock(base, w.Now, zone)
	r.byAge(&d, well, last, p, w.Now)
	r.byDisks(&d, base, w)
	r.again(&d, last, p, w.Now)
	if d.Next.IsZero() || d.Slot.IsZero() {
		if next, ok := r.next(w.Now, zone); ok {
			d.Next = r.open(next.Add(r.later(next)), zone)
		}
	}
	if d.Now && p.Paused && (p.Until.IsZero() || w.Now.Before(p.Until)) {
		d.Now, d.Waits = false, "it is paused"
		if !p.Until.IsZero() {
			d.Waits += " until " + units.Moment(p.Until)
		}
		return d
	}
	if d.Now {
		r.conditions(&d, w)
	}
	return d
}

func latest(all ...time.Time) (out time.Time) {
	for _, t := range all {
		if t.After(out) {
			out = t
		}
	}
	return out
}

// byClock finds the newest time since base at which it was due.
func (r *Routine) byClock(base, now time.Time, zone *time.Location) (d Due) {
	at := latest(base, now.Add(-mostBack))
	for {
		slot, ok := r.next(at, zone)
		if !ok || slot.After(now) {
			break
		}
		if !d.Slot.IsZero() {
			d.Missed = append(d.Missed, d.Slot)
			d.Missed = d.Missed[max(0, len(d.Missed)-mostMissed):]
		}
		d.Slot, at = slot, slot
	}
	if d.Slot.IsZero() {
		return d
	}
	d.Next = r.open(d.Slot.Add(r.later(d.Slot)), zone)
	if !d.Next.After(now) {
		d.Next = r.open(now, zone) // of one that waits since yesterday the hours may be over
	}
	d.Now = !d.Next.After(now)
	return d
}

// byAge has it run when the last success is too old.
func (r *Routine) byAge(d *Due, well, last Entry, p Pace, now time.Time) {
	for _, w := range r.When {
		if w.Kind != Older || d.Now {
			continue
		}
		from := latest(well.Ended, p.Resumed)
		if from.IsZero() {
			from = p.Made.Add(-w.For) // never: at once
		}
		at := from.Add(w.For)
		if !last.Outcome.Well() && last.Outcome != Missed {
			at = latest(at, last.Ended.Add(tryAgain))
		}
		if d.Next.IsZero() || at.Before(d.Next) {
			d.Next = at
		}
		if !at.After(now) {
			d.Now, d.Slot = true, at
		}
	}
}

// again has it run once more for a time at which it failed.
func (r *Routine) again(d *Due, last Entry, p Pace, now time.Time) {
	changed := latest(p.Made, p.Resumed).After(last.Ended)
	if d.Now || !d.Slot.IsZero() || last.Outcome != Failed || last.Slot.IsZero() || changed ||
		last.Try >= r.Failing.Times {
		return
	}
	at := last.Ended.Add(r.Failing.After)
	if d.Next.IsZero() || at.Before(d.Next) {
		d.Next = at
	}
	d.Slot, d.Try, d.Now = last.Slot, last.Try+1, !at.After(now)
}

// Silent is since when nothing ended well, where that is told now: once, and again after as long.
func (r *Routine) Silent(history []Entry, p Pace, now time.Time) (since time.Time, told bool) {
	if r.Silence <= 0 || p.Paused && (p.Until.IsZero() || now.Before(p.Until)) {
		return since, false
	}
	since = latest(p.Made, p.Resumed)
	for _, e := range history {
		if e.Outcome.Well() && !e.Ended.After(now.Add(ahead)) {
			since = latest(since, e.Ended)
		}
	}
	return since, now.Sub(latest(since, p.Alarmed)) >= r.Silence
}

// byDisks has it run when all of its disks have been there for long enough, once each time that they come.
func (r *Routine) byDisks(d *Due, base time.Time, w World) {
	for _, x := range r.When {
		if x.Kind != Attached || d.Now {
			continue
		}
		since, all := w.attached(r.Disks)
		if all && since.After(base) && !since.Add(x.For).After(w.Now) {
			d.Now, d.Slot = true, since
		}
	}
}

// attached is since when all of the disks are there.
func (w World) attached(disks []Disk) (since time.Time, all bool) {
	for _, d := range disks {
		t, there := w.Since[d.Serial]
		if !there {
			return time.Time{}, false
		}
		since = latest(since, t)
	}
	return since, true
}

// conditions has one that is due wait for what isn't as it should be.
func (r *Routine) conditions(d *Due, w World) {
	var away []string
	for _, x := range r.Disks {
		if _, there := w.Since[x.Serial]; !there {
			away = append(away, x.String())
		}
	}
	switch {
	case len(away) > 0:
		d.Now, d.Waits = false, fmt.Sprintf("%s isn't attached", strings.Join(away, " and "))
		if len(away) > 1 {
			d.Waits = strings.Join(away, " and ") + " aren't attached"
		}
	case r.Mains && w.Battery:
		d.Now, d.Waits = false, "the machine runs on battery"
	case r.Idle && w.Busy:
		d.Now, d.Waits = false, "other work on disks is on"
	}
}
