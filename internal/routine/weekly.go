package routine

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/units"
)

const (
	// weeklyFile says when the weekly message went out last.
	weeklyFile = "weekly.json"
	weekLong   = 7 * 24 * time.Hour
)

// weekly is when the message of the week is due.
var weekly = When{Kind: Daily, Days: 1 << time.Monday, At: []int{8 * 60}}

type weeklyState struct {
	Sent time.Time `json:"sent"`
}

// WeeklyDue says whether the message of the week is due; from is from when on it tells. What nobody was there to send
// is sent once. Where none was sent yet the first one is due at the next time, and that is kept.
func (b *Book) WeeklyDue(now time.Time) (from time.Time, due bool, err error) {
	var s weeklyState
	raw, err := os.ReadFile(filepath.Join(b.dir, weeklyFile))
	if err == nil {
		err = json.Unmarshal(raw, &s)
	}
	if err != nil || s.Sent.After(now.Add(ahead)) { // a wrong clock, a hurt file
		return from, false, b.WeeklySent(now)
	}
	next, _ := weekly.Next(s.Sent, time.Local)
	from = latest(s.Sent, now.Add(-5*weekLong))
	return from, !next.After(now), nil
}

// WeeklySent notes that the message of the week went out.
func (b *Book) WeeklySent(now time.Time) error {
	err := changed(filepath.Join(b.dir, weeklyFile), func() ([]byte, error) {
		raw, err := json.Marshal(weeklyState{now})
		return append(raw, '\n'), err
	})
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("when the weekly message went out can't be kept: %w", err)
	}
	return nil
}

// Week is how a routine went in some time.
type Week struct {
	Routine string          `json:"routine_name"`
	Counts  map[Outcome]int `json:"outcomes"`
	Added   int64           `json:"added"` // bytes new on the shelf
	Last    string          `json:"last"`  // in words
	Next    string          `json:"next"`
	Failed  string          `json:"failed,omitempty"` // what the newest failure said, where nothing went well since
}

// Week is how it went from a moment on.
func (s *Standing) Week(from time.Time) Week {
	w := Week{Routine: s.Name, Counts: map[Outcome]int{}, Last: s.LastWords(), Next: s.NextWords()}
	for _, e := range s.History {
		if e.Ended.Before(from) {
			continue
		}
		w.Counts[e.Outcome]++
		w.Added += e.Bytes
	}
	if e, ok := s.Last(); ok && e.Outcome == Failed {
		w.Failed = e.Says
	}
	return w
}

// Words say it in a line or two.
func (w Week) Words() string {
	var counts []string
	for _, o := range []Outcome{Done, Nothing, Failed, Missed, Stopped, Cut} {
		if n := w.Counts[o]; n > 0 {
			counts = append(counts, fmt.Sprintf("%d %s", n, o))
		}
	}
	if len(counts) == 0 {
		counts = []string{"nothing ran"}
	}
	s := fmt.Sprintf("%s: %s; %s new; %s", w.Routine, strings.Join(counts, ", "), units.Bytes(w.Added), w.Next)
	if w.Failed != "" {
		s += "\n  the last run failed: " + w.Failed
	}
	return s
}

// WantWeekly are those who are told weekly, once each, with what they are told of.
func WantWeekly(list []*Standing) (who []Tell, of map[Tell][]*Standing) {
	of = map[Tell][]*Standing{}
	for _, s := range list {
		for _, t := range s.Tell {
			if t.On != Weekly || slices.Contains(of[t], s) {
				continue
			}
			if len(of[t]) == 0 {
				who = append(who, t)
			}
			of[t] = append(of[t], s)
		}
	}
	return who, of
}
