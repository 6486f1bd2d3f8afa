package fsys

import (
	"context"
	"iter"
	"strings"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/span"
)

// State is how a volume was left by its system, in the words of the trade.
type State string

// The states.
const (
	ShutDown   State = "shut down"
	FastStart  State = "fast start"               // only the kernel's session sleeps
	Hibernated State = "hibernated"               // with everything that was open
	Asleep     State = "hibernated or fast start" // which of both can't be told
	CutOff     State = "cut off"                  // its log has to be replayed
	Dirty      State = "marked dirty"             // it waits for a check
)

// Rest is how a volume was left by its system, as the volume's own marks tell.
type Rest struct {
	State State
	// Since is when it was put to sleep; zero where that isn't known.
	Since time.Time
	// Log says that its log has to be replayed, Marked that it waits for a check, whatever else it is.
	Log, Marked bool
	// Remarks are what makes the state doubtful, Evidence is what it was read from, in words.
	Remarks, Evidence []string
}

// Quiet says whether nothing is left to be done with it, as far as it tells.
func (r Rest) Quiet() bool { return r.State == "" || r.State == ShutDown }

// Asleep says whether a system wakes up from the volume.
func (r Rest) Asleep() bool {
	return r.State == FastStart || r.State == Hibernated || r.State == Asleep
}

// Words say why the volume wasn't at rest; empty when it was.
func (r Rest) Words() string {
	s := map[State]string{
		FastStart:  "it was shut down for a fast start: its system sleeps",
		Hibernated: "it holds a hibernated system, with everything that was open",
		Asleep: "it holds a hibernated system, or one that was shut down for a fast start (which of both can't be " +
			"told)",
		CutOff: "its log hasn't been replayed (the machine went down or the drive was pulled out)",
		Dirty:  "it is marked dirty: it wasn't unmounted cleanly or waits for a check",
	}[r.State]
	if s == "" {
		return ""
	}
	if !r.Since.IsZero() {
		s += ", since " + r.Since.Local().Format("2006-01-02 15:04")
	}
	return strings.Join(append([]string{s}, r.Remarks...), "; ")
}

// Keeping says what follows from capturing all of it as it is.
func (r Rest) Keeping() string {
	if r.Asleep() {
		return "everything that isn't zero is read, with the hibernation file: the system goes on where it was, on " +
			"the same hardware only. On other hardware that fails, or does harm"
	}
	return "everything that isn't zero is read"
}

// Cutting says what follows from capturing it as if the power had been cut.
func (r Rest) Cutting() string {
	s := "only what maps, records and the log name is read"
	if r.Asleep() {
		s = "the hibernation file is left out, so nothing wakes up"
		if r.State == FastStart {
			s += "; a fast start signs everybody out first, so nothing that was open should be lost"
		} else {
			s += "; what was open and not saved is lost"
		}
	}
	return s + ". " + r.Foretold()
}

// Foretold says what the system does at the first start of such a copy.
func (r Rest) Foretold() string {
	switch {
	case r.Marked:
		return "At its first start the system checks the drive"
	case r.Log || r.Asleep():
		return "At its first start the system replays its log, as after a power cut, and may check the drive"
	}
	return ""
}

// Interrupted is a Volume that tells how its system left it, and what must be kept of it where it wasn't shut down.
type Interrupted interface {
	Volume
	// Rest is how its system left it.
	Rest() Rest
	// Cut says what must be kept for its system to find, once it has put the volume in order as after a power cut, all
	// that it would find on the original. An error says why that can't be told: then everything has to be kept.
	// With all nothing is left out.
	Cut(ctx context.Context, all bool) (*Cut, error)
}

// Cut is what of a volume is kept as if the power had been cut.
type Cut struct {
	// Used are the bytes to keep, as those of Volume.Used. What is left out isn't among them.
	Used iter.Seq2[span.Span, error]
	// Omit is what is left out.
	Omit []Omission
	// Patches keep a system from waking up from the copy: bytes of the volume, each of them kept.
	Patches []disk.Patch
	// Named is how many bytes are kept that the volume's maps call free.
	Named int64
}

// RestOf is how a volume was left by its system; ok is false where that isn't told.
func RestOf(v Volume) (r Rest, ok bool) {
	if i, can := v.(Interrupted); can {
		r = i.Rest()
	}
	return r, r.State != ""
}
