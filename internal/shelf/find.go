package shelf

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Find gives the twin that a person means: its ID or a beginning of one; the name of a machine or a beginning of one,
// whatever its case, for its newest twin; or such a name with a date after it: "Ticket desk 2026-10-30", "ticket
// yesterday", "Ticket desk 2026-10-30 18:05". The error is an ErrNoTwin that lists what may be meant, or an
// ErrLaterUnread where the newest was meant and it isn't known which one that is.
func (s *Shelf) Find(ctx context.Context, ref string) (*Twin, error) {
	return s.find(ctx, ref, time.Now())
}

func (s *Shelf) find(ctx context.Context, ref string, now time.Time) (*Twin, error) {
	twins, problems := s.Twins(ctx)
	t, newest, err := choose(twins, strings.TrimSpace(ref), now)
	if err != nil {
		return nil, errors.Join(append([]error{err}, problems...)...)
	}
	if newest {
		if err := s.KnownNewest(ctx, t.Machine, twins); err != nil {
			return nil, fmt.Errorf("%w; or name the twin that you mean by its date or its ID", err)
		}
	}
	return t, nil
}

// ErrLaterUnread means that a later twin of a machine can't be read, so that its newest one isn't known.
var ErrLaterUnread = errors.New("a later twin of it can't be read")

// KnownNewest says whether the newest twin of a machine among those that were read is its newest one: the error is an
// ErrLaterUnread while the machine has a later file of a twin, or that of a folder that can't be listed.
func (s *Shelf) KnownNewest(ctx context.Context, machine string, read []*Twin) error {
	unread, err := s.Unread(ctx, machine, read)
	if err != nil {
		return fmt.Errorf("which twin of %s is the newest can't be told: %w", machine, err)
	}
	newest := ""
	for _, t := range read {
		if strings.EqualFold(t.Machine, machine) {
			newest = max(newest, t.ID)
		}
	}
	for _, id := range unread {
		if id > newest {
			return fmt.Errorf("which twin of %s is the newest isn't known: %w (%s); \"twinshelf shelf check --mend\" "+
				"may mend it", machine, ErrLaterUnread, id)
		}
	}
	return nil
}

// Unread are the IDs of a machine's twins that aren't among those that were read: their files can't be read, or only
// the copies are left. The error is that of a folder that can't be listed.
func (s *Shelf) Unread(ctx context.Context, machine string, read []*Twin) ([]string, error) {
	slug := s.slug(machine)
	files, err := s.Backend().List(ctx, "twins/"+slug)
	if err != nil {
		return nil, err
	}
	strays, err := straysIn(ctx, s, slug)
	if err == nil {
		strays, err = undiscarded(ctx, s, strays)
	}
	if err != nil {
		return nil, err
	}
	known := map[string]bool{}
	for _, t := range read {
		known[t.ID] = true
	}
	var out []string
	for _, f := range append(files, strays...) {
		if id := FileID(f); !known[id] {
			out = append(out, id)
		}
	}
	return out, nil
}

// TakenOf is when a twin was taken by its ID, in UTC and to the second; no time where the ID doesn't tell.
func TakenOf(id string) time.Time {
	text, _, _ := strings.Cut(id, "-")
	t, err := time.Parse("20060102T150405Z", text)
	if err != nil {
		return time.Time{}
	}
	return t
}

// choose goes from the exact to the vague. newest says that the newest one of a machine was meant.
func choose(twins []*Twin, ref string, now time.Time) (t *Twin, newest bool, err error) {
	var begins []*Twin
	for _, t := range twins {
		switch {
		case t.ID == ref:
			return t, false, nil
		case ref != "" && strings.HasPrefix(t.ID, ref):
			begins = append(begins, t)
		}
	}
	if of := ofMachine(twins, ref); len(of) > 0 {
		return of[0], true, nil // the newest stands first
	}
	if len(begins) == 1 {
		return begins[0], false, nil
	}
	if len(begins) > 1 {
		return nil, false, ambiguous(ref, begins)
	}
	words := strings.Fields(ref)
	for n := 1; n <= 2 && n < len(words); n++ { // a date, or a date and a time
		when, ok := dateOf(words[len(words)-n:], now)
		if !ok {
			continue
		}
		of, err := machineLike(twins, strings.Join(words[:len(words)-n], " "))
		if err != nil {
			return nil, false, err
		}
		t, err := when.pick(of, ref)
		return t, when.newest, err
	}
	of, err := machineLike(twins, ref)
	if err != nil {
		return nil, false, err
	}
	return of[0], true, nil
}

// ofMachine are the twins of a machine, newest first. A name is the same whatever its case.
func ofMachine(twins []*Twin, name string) []*Twin {
	return slices.DeleteFunc(slices.Clone(twins), func(t *Twin) bool { return !strings.EqualFold(t.Machine, name) })
}

// machineLike are the twins of the machine with that name, or of the only one whose name begins like it.
func machineLike(twins []*Twin, name string) ([]*Twin, error) {
	if of := ofMachine(twins, name); len(of) > 0 {
		return of, nil
	}
	var names []string
	for _, t := range twins {
		if name != "" && strings.HasPrefix(strings.ToLower(t.Machine), strings.ToLower(name)) &&
			!slices.ContainsFunc(names, func(n string) bool {
				return strings.EqualFold(n, t.Machine)
			}) {
			names = append(names, t.Machine)
		}
	}
	switch len(names) {
	case 0:
		return nil, fmt.Errorf("%w: nothing is called %q, and no ID begins so; \"twinshelf dates\" lists the twins",
			ErrNoTwin, name)
	case 1:
		return ofMachine(twins, names[0]), nil
	}
	return nil, fmt.Errorf("%w: %q may be %s", ErrNoTwin, name, strings.Join(names, " or "))
}

func ambiguous(ref string, twins []*Twin) error {
	var out []string
	for _, t := range twins[:min(len(twins), mostNamed)] {
		out = append(out, fmt.Sprintf("%s of %s (%s)", t.Machine, t.Taken.Format("2006-01-02 15:04"), t.ID))
	}
	return fmt.Errorf("%w: %q may be %s", ErrNoTwin, ref, strings.Join(out, " or "))
}

// mostNamed is how many twins an error lists.
const mostNamed = 8

// date is a day, or a minute of it, in the zone in which a twin was taken.
type date struct {
	day, minute string
	newest      bool
}

// IsDate says whether a word is a date as people write it after the name of a machine.
func IsDate(word string) bool {
	_, ok := dateOf(strings.Fields(word), time.Now())
	return ok
}

func dateOf(words []string, now time.Time) (date, bool) {
	if len(words) == 0 || len(words) > 2 {
		return date{}, false
	}
	d := date{}
	switch strings.ToLower(words[0]) {
	case "newest", "latest":
		return date{newest: true}, len(words) == 1
	case "today":
		d.day = now.Format(time.DateOnly)
	case "yesterday":
		d.day = now.AddDate(0, 0, -1).Format(time.DateOnly)
	default:
		if _, err := time.Parse(time.DateOnly, words[0]); err != nil {
			return d, false
		}
		d.day = words[0]
	}
	if len(words) == 2 {
		if _, err := time.Parse("15:04", words[1]); err != nil {
			return d, false
		}
		d.minute = words[1]
	}
	return d, true
}

// pick takes the twin of that date; with several of one day the time has to be said.
func (d date) pick(twins []*Twin, ref string) (*Twin, error) {
	if d.newest {
		return twins[0], nil
	}
	hits := slices.DeleteFunc(slices.Clone(twins), func(t *Twin) bool {
		return t.Taken.Format(time.DateOnly) != d.day || d.minute != "" && t.Taken.Format("15:04") != d.minute
	})
	switch len(hits) {
	case 0:
		return nil, fmt.Errorf("%w: %s has none of %s; \"twinshelf dates\" lists them", ErrNoTwin, twins[0].Machine,
			strings.TrimSpace(d.day+" "+d.minute))
	case 1:
		return hits[0], nil
	}
	return nil, ambiguous(ref, hits)
}
