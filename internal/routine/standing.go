package routine

import (
	"fmt"

	"twinshelf/internal/units"
)

// Standing is how it stands with a routine at a moment.
type Standing struct {
	*Routine
	Pace    Pace
	Due     Due
	History []Entry // the oldest first
	Running bool
}

// Last is what became of it the last time that something ran; false where nothing did yet.
func (s *Standing) Last() (Entry, bool) {
	for i := len(s.History) - 1; i >= 0; i-- {
		if s.History[i].Outcome != Missed {
			return s.History[i], true
		}
	}
	return Entry{}, false
}

// LastWords say how it went last.
func (s *Standing) LastWords() string {
	e, ok := s.Last()
	switch {
	case s.Running:
		return "running now"
	case !ok:
		return "never ran yet"
	case e.Says != "":
		return fmt.Sprintf("%s %s (%s)", e.Outcome, units.Moment(e.Ended.Local()), e.Says)
	}
	return fmt.Sprintf("%s %s", e.Outcome, units.Moment(e.Ended.Local()))
}

// NextWords say when it is due, or what it waits for.
func (s *Standing) NextWords() string {
	switch {
	case s.Due.Now:
		return "due now"
	case s.Pace.Paused && s.Pace.Until.IsZero():
		return "paused"
	case s.Pace.Paused && (s.Due.Next.IsZero() || s.Due.Next.Before(s.Pace.Until)):
		return "paused until " + units.Moment(s.Pace.Until.Local())
	case s.Due.Waits != "" && !s.Due.Slot.IsZero():
		return fmt.Sprintf("due since %s, and waits: %s", units.Moment(s.Due.Slot.Local()), s.Due.Waits)
	case !s.Due.Next.IsZero():
		return "due " + units.Moment(s.Due.Next.Local())
	case len(s.When) == 0:
		return "runs when it is told to"
	}
	return "waits for its disks"
}
