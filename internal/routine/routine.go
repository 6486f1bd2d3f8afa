// Package routine is work that is saved by name and happens by itself: what is done to which disks, what sets it off,
// when it is due, and what became of it. It opens no disk and no shelf.
package routine

import (
	"errors"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
	"twinshelf/internal/keeping"
	"twinshelf/internal/units"
)

// Disk is a disk as a routine knows it: never by the name that a device has today.
type Disk struct {
	Model  string `json:"model"`
	Serial string `json:"serial"`
}

// DiskOf is an attached disk as a routine knows it.
func DiskOf(id disk.Identity) Disk { return Disk{id.Model, id.Serial} }

// String is as the text has it.
func (d Disk) String() string { return d.Model + ", " + d.Serial }

// Action is what a step does.
type Action string

// The actions.
const (
	Capture Action = "capture" // the disks onto the first shelf that can be had
	Prove   Action = "prove"   // the machine's newest twin
	Check   Action = "check"   // a share of the shelf
	Thin    Action = "thin"    // by the rule of the shelf
	Carry   Action = "carry"   // to a second shelf
	Copy    Action = "copy"    // each disk onto its spare, which loses what is on it
	Sheet   Action = "sheet"   // the job sheet of the machine's case, into a folder
)

// Step is one thing that is done.
type Step struct {
	Action Action  `json:"action"`
	Share  float64 `json:"share,omitempty"` // Check: per cent
	To     string  `json:"to,omitempty"`    // Carry: a shelf; Sheet: a folder
}

// Routine is a saved piece of work.
type Routine struct {
	Name    string
	Machine string
	Disks   []Disk
	Spares  []Disk   // what Copy writes the disks onto, in the order of Disks
	Shelves []string // in the order in which they are tried
	// Passphrases are where those of sealed shelves come from, in the order in which they are tried.
	Passphrases []Source
	Steps       []Step // in the order in which they are done
	// Keep is what Thin goes by instead of the rule of the shelf; without generations it goes by that.
	Keep keeping.Rule
	// Snapshots has disks that this machine writes to captured through snapshots of LVM.
	Snapshots bool
	// Packing is how closely captures are packed.
	Packing capture.Packing
	Failing Failing
	When    []When
	// Within are the minutes of the day between which it begins; both 0 for any time. From may lie after To: a night.
	From, To int
	Zone     string // by its name in the time zone database; empty for that of the machine
	// Spread is by how much it may begin later, each time by another part of it.
	Spread time.Duration
	// Mains says that it doesn't begin on battery.
	Mains bool
	// Idle says that it doesn't begin while other work on disks is on.
	Idle bool
	Tell []Tell
	// Heartbeat is an HTTPS address that is asked for after each run that ended well; empty for none.
	Heartbeat string
	// Silence is for how long nothing may end well before those who are told of failures hear of it; 0 for ever.
	Silence time.Duration
}

// Failing is what happens when a step fails.
type Failing struct {
	GoOn  bool          // the steps after it are done all the same
	Times int           // how often all of it is tried again
	After time.Duration // and how long after a failure
}

// Way is how somebody is told.
type Way string

// The ways.
const (
	ByCommand Way = "command" // a program, with its arguments
	ByMail    Way = "mail"    // an address, by the system's sendmail
	ByWeb     Way = "web"     // an HTTPS address that takes a POST
)

// Occasion is when somebody is told.
type Occasion string

// The occasions, as the text has them.
const (
	EachRun   Occasion = "tell"
	OnFailure Occasion = "tell on failure" // of runs that didn't end well
	Weekly    Occasion = "tell weekly"     // once a week, of all runs
)

// Tell is who is told what became of runs.
type Tell struct {
	Way Way
	To  string
	On  Occasion
}

// String is as the text has it.
func (t Tell) String() string { return string(t.Way) + " " + t.To }

// Does are its steps as the text has them, Sets what sets it off.
func (r *Routine) Does() []string { return words(r.Steps) }
func (r *Routine) Sets() []string { return words(r.When) }

func words[T fmt.Stringer](all []T) []string {
	out := make([]string, len(all))
	for i, x := range all {
		out[i] = x.String()
	}
	return out
}

// Bounds of what is read.
const (
	mostLines = 500
	mostText  = 64 << 10
	longName  = 80
	mostList  = 64
	mostTries = 20
)

// Check says what keeps it from being a routine.
func (r *Routine) Check() error {
	switch {
	case r.Name == "" || len(r.Name) > longName || strings.ContainsAny(r.Name, "/\\") ||
		strings.ContainsFunc(r.Name, unicode.IsControl) || strings.HasPrefix(r.Name, ".") ||
		strings.TrimSpace(r.Name) != r.Name || !utf8.ValidString(r.Name):
		return fmt.Errorf("%q can't be the name of a routine: up to %d bytes, no slashes, and no dot at the beginning",
			r.Name, longName)
	case len(r.Steps) == 0:
		return errors.New("it does nothing: say what, such as do: capture")
	case len(r.Shelves) == 0 && slices.ContainsFunc(r.Steps, Step.OnShelf):
		return errors.New("it has no shelf: say onto which, such as shelf: Oak")
	case max(len(r.Disks), len(r.Spares), len(r.Shelves), len(r.Steps), len(r.When), len(r.Tell),
		len(r.Passphrases)) > mostList:
		return fmt.Errorf("it has more than %d disks, shelves, steps, times or addresses", mostList)
	}
	for _, s := range r.Steps {
		if err := r.checkStep(s); err != nil {
			return err
		}
	}
	for _, w := range r.When {
		if w.Kind == Attached && len(r.Disks) == 0 {
			return errors.New("it waits for disks to be attached and names none")
		}
	}
	if len(r.Spares) > 0 && !r.Erases() {
		return errors.New("it names a spare and writes nothing onto it: say do: copy, or leave the spare out")
	}
	if _, err := r.Place(); err != nil {
		return err
	}
	return nil
}

// OnShelf says whether a step needs a shelf.
func (s Step) OnShelf() bool { return s.Action != Copy && s.Action != Sheet }

// checkStep says what a step lacks.
func (r *Routine) checkStep(s Step) error {
	switch {
	case s.Action == Capture && (len(r.Disks) == 0 || r.Machine == ""):
		return errors.New("it captures nothing: say which machine and which disks")
	case (s.Action == Prove || s.Action == Sheet) && r.Machine == "":
		return fmt.Errorf("it doesn't say which machine %s is about: say machine", s)
	case s.Action == Thin && r.Machine == "" && len(r.Keep.Generations) > 0:
		return errors.New("it keeps dates by a rule of its own and names no machine: say machine")
	case s.Action != Copy:
		return nil
	case len(r.Disks) == 0 || len(r.Disks) != len(r.Spares):
		return fmt.Errorf("it copies %s onto %s: say a spare for each disk, in the order of the disks",
			units.Plural(len(r.Disks), "disk"), units.Plural(len(r.Spares), "spare"))
	}
	for i, d := range r.Spares {
		if slices.ContainsFunc(slices.Concat(r.Disks, r.Spares[:i]),
			func(o Disk) bool { return o.Serial == d.Serial }) {
			return fmt.Errorf("the spare %s is a disk or a spare of it already: a spare is erased, and is there "+
				"once", d)
		}
	}
	return nil
}

// Erases says whether it erases disks.
func (r *Routine) Erases() bool {
	return slices.ContainsFunc(r.Steps, func(s Step) bool { return s.Action == Copy })
}

// Consent stands for what it erases, and what it writes there: what a person confirms once.
func (r *Routine) Consent() string {
	return sum(fmt.Sprintf("%q %q %q", r.Name, r.Disks, r.Spares))
}

// Place is where its times are meant.
func (r *Routine) Place() (*time.Location, error) {
	if r.Zone == "" {
		return time.Local, nil
	}
	zone, err := time.LoadLocation(r.Zone)
	if err != nil || r.Zone == "Local" {
		return nil, fmt.Errorf("%q is no time zone that is known here, such as Europe/Berlin", r.Zone)
	}
	return zone, nil
}

// Day is a day that is to come, as 2027-01-07, where the routine's times are meant.
func (r *Routine) Day(text string, now time.Time) (time.Time, error) {
	zone, err := r.Place()
	if err != nil {
		return time.Time{}, err
	}
	day, err := time.ParseInLocation(time.DateOnly, strings.TrimSpace(text), zone)
	if err != nil || !day.After(now) {
		return time.Time{}, fmt.Errorf("%q: give a day that is to come, such as %s", text,
			now.AddDate(0, 0, 7).Format(time.DateOnly))
	}
	return day, nil
}

// Ahead are the next n times at which it is due by the clock, after a moment, without what it is spread by.
func (r *Routine) Ahead(after time.Time, n int) (out []time.Time) {
	zone, err := r.Place()
	if err != nil {
		return nil
	}
	for len(out) < n {
		next, ok := r.next(after, zone)
		if !ok {
			return out
		}
		out, after = append(out, next), next
	}
	return out
}

// next is the next time by the clock.
func (r *Routine) next(after time.Time, zone *time.Location) (best time.Time, ok bool) {
	for _, w := range r.When {
		if t, due := w.Next(after, zone); due && (!ok || t.Before(best)) {
			best, ok = t, true
		}
	}
	return best, ok
}

// later is by how much it begins later than a time: the same each time that it is asked, and another for other
// routines and other times.
func (r *Routine) later(slot time.Time) time.Duration {
	if r.Spread <= 0 {
		return 0
	}
	h := fnv.New64a()
	fmt.Fprintf(h, "%s %d", r.Name, slot.Unix())
	return time.Duration(h.Sum64() % uint64(r.Spread/time.Second) * uint64(time.Second))
}

// open is when, from a moment on, it may begin: that moment, or the next beginning of its hours.
func (r *Routine) open(at time.Time, zone *time.Location) time.Time {
	if r.From == r.To {
		return at
	}
	local := at.In(zone)
	now := local.Hour()*60 + local.Minute()
	inside := now >= r.From && now < r.To
	if r.From > r.To { // a night
		inside = now >= r.From || now < r.To
	}
	if inside {
		return at
	}
	next, _ := When{Kind: Daily, Days: everyDay, At: []int{r.From}}.Next(at, zone)
	return next
}
