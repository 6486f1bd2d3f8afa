package shelf

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/store"
	"twinshelf/internal/store/backend"
)

// Event is a line of the shelf's journal.
type Event struct {
	When    time.Time `json:"when"`
	What    string    `json:"what"`
	Machine string    `json:"machine,omitempty"`
	Twin    string    `json:"twin,omitempty"`
	Why     string    `json:"why,omitempty"`
}

// Record writes an event into the journal; every event is a file of its own, so that nothing is ever rewritten.
func (s *Shelf) Record(ctx context.Context, e Event) error {
	e.When = time.Now()
	return s.PutNote(ctx, nil, "journal/"+e.When.UTC().Format("20060102T150405.000000000Z")+"-"+store.NewID()[:6]+
		".note", e)
}

// Journal gives the events, newest first.
func (s *Shelf) Journal(ctx context.Context) (events []Event, problems []error) {
	names, err := s.Backend().List(ctx, "journal")
	if err != nil {
		return nil, []error{err}
	}
	read := make([]struct {
		event Event
		there bool
		err   error
	}, len(names))
	backend.Each(s.Backend(), len(names), func(i int) {
		read[i].there, read[i].err = s.GetNote(ctx, "journal/"+names[i], &read[i].event)
	})
	for _, r := range slices.Backward(read) {
		if r.err != nil {
			problems = append(problems, r.err)
		} else if r.there {
			events = append(events, r.event)
		}
	}
	return events, problems
}

// Mark keeps a twin for ever, with a note on why.
type Pin struct {
	Note string    `json:"note"`
	When time.Time `json:"when"`
}

// PinPath is where the pin of a twin lies.
func PinPath(twin string) string { return "marks/" + twin + ".note" }

// Keep pins a twin: it is kept for ever.
func (s *Shelf) Keep(ctx context.Context, twin, note string) error {
	if _, err := s.Find(ctx, twin); err != nil {
		return err
	}
	return s.PutNote(ctx, nil, PinPath(twin), Pin{note, time.Now()})
}

// Unkeep takes the pin away.
func (s *Shelf) Unkeep(ctx context.Context, twin string) error {
	if !validID(twin) {
		return fmt.Errorf("%w: %q", ErrNoTwin, twin)
	}
	return s.DeleteKept(ctx, PinPath(twin))
}

// Pins are the twins that are kept for ever. A pin that can't be read still keeps its twin.
func (s *Shelf) Pins(ctx context.Context) (map[string]Pin, error) {
	names, err := s.Backend().List(ctx, "marks")
	if err != nil {
		return nil, err
	}
	pins := make([]Pin, len(names))
	backend.Each(s.Backend(), len(names), func(i int) {
		if _, err := s.GetNote(ctx, "marks/"+names[i], &pins[i]); err != nil {
			pins[i].Note = "the pin can't be read: " + err.Error()
		}
	})
	out := map[string]Pin{}
	for i, n := range names {
		if id, ok := strings.CutSuffix(n, ".note"); ok {
			out[id] = pins[i]
		}
	}
	return out, nil
}

// retirement is the note of a shelf that another one has replaced.
type retirement struct {
	Note string    `json:"note"`
	When time.Time `json:"when"`
}

// Retired says whether the shelf takes no more captures, and why; err is why that can't be told.
func (s *Shelf) Retired(ctx context.Context) (note string, retired bool, err error) {
	var r retirement
	if retired, err = s.GetNote(ctx, store.RetiredFile, &r); err != nil {
		return "", false, fmt.Errorf("whether the shelf is retired can't be told: %w", err)
	}
	return r.Note, retired, nil
}

// RetiredError means that a shelf takes no more captures.
type RetiredError struct{ Note string }

func (e *RetiredError) Error() string { return "it is retired: " + e.Note }

// Takes says whether a shelf takes captures: errors are *RetiredError, or that it can't be told.
func Takes(ctx context.Context, s *Shelf) error {
	note, retired, err := s.Retired(ctx)
	if err == nil && retired {
		err = &RetiredError{note}
	}
	return err
}

// Retire makes the shelf read-only for captures; Unretire takes it back into use.
func (s *Shelf) Retire(ctx context.Context, note string) error {
	if err := s.PutNote(ctx, nil, store.RetiredFile, retirement{note, time.Now()}); err != nil {
		return err
	}
	return s.Record(ctx, Event{What: "retired", Why: note})
}

// Unretire takes a retired shelf into use again.
func (s *Shelf) Unretire(ctx context.Context) error {
	if err := s.DeleteKept(ctx, store.RetiredFile); err != nil {
		return err
	}
	return s.Record(ctx, Event{What: "in use again"})
}
