package shelf

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/units"
)

// Notes are small files about the shelf and its twins: rules, marks, the journal. Each is a whole
// document, replaced in one step.

const (
	maxNote     = 4 << 20
	retiredFile = "retired.note"
	rulesFile   = "rules.note"
)

// readNote reads a note; false when there is none.
func (s *Shelf) readNote(file string, v any) (bool, error) {
	raw, err := s.b.ReadFile(file, maxNote)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	var b []byte
	if err == nil {
		b, err = s.ring.payload(file, raw, kindNote)
	}
	if c := copyOf(file); err != nil && c != "" && !errors.Is(err, ErrNewer) {
		if raw, cerr := s.b.ReadFile(c, maxNote); cerr == nil {
			if p, cerr := s.ring.payload(c, raw, kindNote); cerr == nil {
				b, err = p, nil
			}
		}
	}
	if err == nil {
		err = belongs(file, b)
	}
	if err == nil {
		if err = json.Unmarshal(units.VisibleJSON(b), v); err != nil {
			err = &Hurt{file, headerLen, "it can't be understood: " + err.Error()}
		}
	}
	return err == nil, err
}

// belongs refuses a note that was written for another place. Those of earlier versions don't say.
func belongs(file string, b []byte) error {
	var at struct {
		File string `json:"file"`
	}
	if json.Unmarshal(b, &at) == nil && at.File != "" && at.File != file {
		return &Hurt{file, headerLen, "it was written as " + at.File + " and put here by somebody else"}
	}
	return nil
}

func (s *Shelf) writeNote(file string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	at, err := json.Marshal(file)
	if err != nil {
		return err
	}
	if rest, ok := bytes.CutPrefix(b, []byte("{")); ok { // what a note is about is sealed with it
		sep := ","
		if string(rest) == "}" {
			sep = ""
		}
		b = slices.Concat([]byte(`{"file":`), at, []byte(sep), rest)
	}
	if err := s.writeKept(file, s.ring.document(kindNote, b)); err != nil {
		return fmt.Errorf("%s can't be written: %w", file, err)
	}
	return nil
}

// Event is a line of the shelf's journal.
type Event struct {
	When    time.Time `json:"when"`
	What    string    `json:"what"`
	Machine string    `json:"machine,omitempty"`
	Twin    string    `json:"twin,omitempty"`
	Why     string    `json:"why,omitempty"`
}

// journal writes an event down; every event is a file of its own, so that nothing is ever rewritten.
func (s *Shelf) journal(e Event) error {
	e.When = time.Now()
	return s.writeNote("journal/"+e.When.UTC().Format("20060102T150405.000000000Z")+"-"+newID()[:6]+".note", e)
}

// Journal gives the events, newest first.
func (s *Shelf) Journal() (events []Event, problems []error) {
	names, err := s.b.List("journal")
	if err != nil {
		return nil, []error{err}
	}
	for _, n := range slices.Backward(names) {
		var e Event
		if ok, err := s.readNote("journal/"+n, &e); err != nil {
			problems = append(problems, err)
		} else if ok {
			events = append(events, e)
		}
	}
	return events, problems
}

// Mark keeps a twin for ever, with a note on why.
type Mark struct {
	Note string    `json:"note"`
	When time.Time `json:"when"`
}

func markPath(twin string) string { return "marks/" + twin + ".note" }

// Keep marks a twin as kept for ever.
func (s *Shelf) Keep(twin, note string) error {
	if _, err := s.Find(twin); err != nil {
		return err
	}
	return s.writeNote(markPath(twin), Mark{note, time.Now()})
}

// Unkeep takes the mark away.
func (s *Shelf) Unkeep(twin string) error {
	if !validID(twin) {
		return fmt.Errorf("%w: %q", ErrNoTwin, twin)
	}
	return s.removeKept(markPath(twin))
}

// Marks are the twins that are kept for ever. A mark that can't be read still keeps its twin.
func (s *Shelf) Marks() (map[string]Mark, error) {
	names, err := s.b.List("marks")
	if err != nil {
		return nil, err
	}
	out := map[string]Mark{}
	for _, n := range names {
		id, ok := strings.CutSuffix(n, ".note")
		if !ok {
			continue
		}
		var m Mark
		if _, err := s.readNote("marks/"+n, &m); err != nil {
			m.Note = "the mark can't be read: " + err.Error()
		}
		out[id] = m
	}
	return out, nil
}

// retirement is the note of a shelf that another one has replaced.
type retirement struct {
	Note string    `json:"note"`
	When time.Time `json:"when"`
}

// Retired says whether the shelf takes no more captures, and why.
func (s *Shelf) Retired() (string, bool) {
	var r retirement
	ok, err := s.readNote(retiredFile, &r)
	if err != nil {
		return err.Error(), true
	}
	return r.Note, ok
}

// Retire makes the shelf read-only for captures; Unretire takes it back into use.
func (s *Shelf) Retire(note string) error {
	if err := s.writeNote(retiredFile, retirement{note, time.Now()}); err != nil {
		return err
	}
	return s.journal(Event{What: "retired", Why: note})
}

// Unretire takes a retired shelf into use again.
func (s *Shelf) Unretire() error {
	if err := s.removeKept(retiredFile); err != nil {
		return err
	}
	return s.journal(Event{What: "in use again"})
}
