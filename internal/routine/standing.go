package routine

import (
	"errors"
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
	Live    *Live // of one that runs; nil where it isn't said
}

// Standing says how it stands with a routine in the world as it is.
func (b *Book) Standing(r *Routine, w World) (*Standing, error) {
	pace, err := b.Pace(r.Name)
	if err != nil {
		return nil, err
	}
	history, _, err := b.History(r.Name)
	if err != nil {
		return nil, err
	}
	s := &Standing{Routine: r, Pace: pace, History: history, Due: r.Due(history, pace, w)}
	lock, err := b.Lock(r.Name)
	if err != nil {
		if s.Running = errors.As(err, new(*BusyError)); s.Running {
			s.Live = b.Live(r.Name)
		}
		return s, nil
	}
	return s, lock.Close()
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

// LastWords say how it went last, without what it said.
func (s *Standing) LastWords() string {
	e, ok := s.Last()
	switch {
	case s.Running:
		return "running now"
	case !ok:
		return "never ran yet"
	}
	return string(e.Outcome) + " " + e.Ended.Local().Format("2006-01-02 15:04")
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
