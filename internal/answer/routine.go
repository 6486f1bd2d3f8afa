package answer

import (
	"time"

	"twinshelf/internal/routine"
)

// Routine is a saved piece of work.
type Routine struct {
	Name    string         `json:"name"`
	Machine string         `json:"machine,omitempty"`
	Disks   []routine.Disk `json:"known_disks"`
	Spares  []routine.Disk `json:"spares,omitempty"`
	Shelves []string       `json:"onto"`
	Steps   []string       `json:"steps"`
	When    []string       `json:"due_when"`
	Text    string         `json:"text"`
	Next    []time.Time    `json:"next_times"`
}

// RoutineOf is a routine with the next n times at which it is due by the clock.
func RoutineOf(r *routine.Routine, now time.Time, n int) Routine {
	return Routine{r.Name, r.Machine, r.Disks, r.Spares, r.Shelves, r.Does(), r.Sets(), r.Text(), r.Ahead(now, n)}
}

// RoutineState is how it stands with a routine.
type RoutineState struct {
	Routine
	Paused  bool            `json:"paused"`
	Until   time.Time       `json:"paused_until,omitzero"`
	Running bool            `json:"running"`
	Live    string          `json:"live,omitempty"` // how the run goes, in words
	Due     bool            `json:"due"`
	Slot    time.Time       `json:"meant_for,omitzero"`
	Waits   string          `json:"waits_for,omitempty"`
	Words   string          `json:"words"`
	Runs    []routine.Entry `json:"runs"` // the newest last
}

// RoutineStateOf says how it stands with a routine, with the next n times.
func RoutineStateOf(s *routine.Standing, now time.Time, n int) RoutineState {
	live := ""
	if s.Live != nil {
		live = s.Live.Words()
	}
	return RoutineState{RoutineOf(s.Routine, now, n), s.Pace.Paused, s.Pace.Until, s.Running, live, s.Due.Now,
		s.Due.Slot,
		s.Due.Waits, s.LastWords() + "; " + s.NextWords(), s.History}
}

// UnitFile is a file that has an operating system run routines.
type UnitFile struct {
	Path string `json:"path"`
	Text string `json:"text"`
}

// UnitFilesOf are such files as answers have them.
func UnitFilesOf(units []routine.Unit) (out []UnitFile) {
	for _, u := range units {
		out = append(out, UnitFile{u.Path, u.Text})
	}
	return out
}
