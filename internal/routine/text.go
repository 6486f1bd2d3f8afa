package routine

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// Head is the first line of a routine as text; docs/routine-format.md describes the rest.
const Head = "twinshelf routine 1"

// LineError says which line of a routine's text can't be taken, and what can.
type LineError struct {
	Line int // from 1
	Says string
}

func (e *LineError) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Says) }

// keys are those that a text may have, in the order in which they are written.
const keys = "name, machine, disk, shelf, do, when, within, zone, spread, only on mains, tell, tell on failure"

// Parse reads a routine as text. An error in a line is a LineError.
func Parse(in io.Reader) (*Routine, error) {
	s := bufio.NewScanner(io.LimitReader(in, mostText))
	r := &Routine{}
	seen := map[string]bool{}
	for n := 1; s.Scan(); n++ {
		line := strings.TrimSpace(s.Text())
		switch {
		case n > mostLines:
			return nil, &LineError{n, fmt.Sprintf("a routine has %d lines at the most", mostLines)}
		case n == 1:
			if line != Head {
				return nil, &LineError{n, fmt.Sprintf("a routine begins with %q", Head)}
			}
			continue
		case line == "" || strings.HasPrefix(line, "#"):
			continue
		}
		key, value, ok := strings.Cut(line, ":")
		key, value = strings.ToLower(strings.TrimSpace(key)), strings.TrimSpace(value)
		if !ok || value == "" {
			return nil, &LineError{n, fmt.Sprintf("%q isn't a word, a colon and what is meant", line)}
		}
		if err := r.set(key, value, seen[key]); err != nil {
			return nil, &LineError{n, err.Error()}
		}
		seen[key] = true
	}
	if err := s.Err(); err != nil {
		return nil, fmt.Errorf("a routine can't be read: %w", err)
	}
	return r, r.Check()
}

// set takes a line; again says that its key was there before.
func (r *Routine) set(key, value string, again bool) (err error) {
	if single := key != "disk" && key != "shelf" && key != "do" && key != "when" &&
		!strings.HasPrefix(key, "tell"); single && again {
		return fmt.Errorf("%s is there twice", key)
	}
	switch key {
	case "name":
		r.Name = value
	case "machine":
		r.Machine = value
	case "disk":
		i := strings.LastIndex(value, ",")
		d := Disk{strings.TrimSpace(value[:max(0, i)]), strings.TrimSpace(value[i+1:])}
		if d.Serial == "" || d.Model == "" {
			return fmt.Errorf("%q is no disk: its model, a comma and its serial number are wanted, such as "+
				"Kestrel K2 256, KK2-55A1940B1", value)
		}
		r.Disks = append(r.Disks, d)
	case "shelf":
		r.Shelves = append(r.Shelves, value)
	case "do":
		return r.do(value)
	case "when":
		w, err := ParseWhen(value)
		r.When = append(r.When, w)
		return err
	case "within":
		return r.within(value)
	case "tell", "tell on failure":
		return r.tell(value, key != "tell")
	case "zone":
		r.Zone = value
		_, err = r.Place()
	case "spread":
		r.Spread, err = parseTime(value)
	case "only on mains":
		if value != "yes" && value != "no" {
			return fmt.Errorf("%q is neither yes nor no", value)
		}
		r.Mains = value == "yes"
	default:
		return fmt.Errorf("%q isn't known; possible are %s", key, keys)
	}
	return err
}

// do takes a step.
func (r *Routine) do(value string) error {
	action, rest, _ := strings.Cut(value, " ")
	rest = strings.TrimSpace(rest)
	s := Step{Action: Action(strings.ToLower(action))}
	switch s.Action {
	case Capture, Prove, Thin:
		if rest != "" {
			return fmt.Errorf("%q: nothing can stand after %s", value, action)
		}
	case Check:
		share, ok := strings.CutSuffix(strings.ReplaceAll(rest, " ", ""), "%")
		n, err := strconv.ParseFloat(share, 64)
		if !ok || err != nil || !(n > 0 && n <= 100) {
			return fmt.Errorf("%q: say which share of the shelf, such as check 5 %%", value)
		}
		s.Share = n
	case Carry:
		to, ok := strings.CutPrefix(rest, "to ")
		if s.To = strings.TrimSpace(to); !ok || s.To == "" {
			return fmt.Errorf("%q: say to which shelf, such as carry to Elm", value)
		}
	default:
		return fmt.Errorf("%q isn't known; possible are capture, prove, check 5 %%, thin and carry to SHELF", value)
	}
	r.Steps = append(r.Steps, s)
	return nil
}

// tell takes one who is told.
func (r *Routine) tell(value string, failures bool) error {
	way, to, _ := strings.Cut(value, " ")
	t := Tell{Way(strings.ToLower(way)), strings.TrimSpace(to), failures}
	switch {
	case t.Way != ByCommand && t.Way != ByMail && t.Way != ByWeb || t.To == "":
		return fmt.Errorf("%q isn't known; possible are command PROGRAM, mail ADDRESS and web https://ADDRESS", value)
	case t.Way == ByCommand && !strings.HasPrefix(t.To, "/"):
		return errors.New("a program is named by its whole path, such as /usr/local/bin/page")
	case t.Way == ByMail && (!strings.Contains(t.To, "@") || strings.HasPrefix(t.To, "-") ||
		len(strings.Fields(t.To)) != 1):
		return fmt.Errorf("%q is no mail address", t.To)
	case t.Way == ByWeb:
		u, err := url.Parse(t.To)
		if err != nil || u.Scheme != "https" || u.Host == "" {
			return errors.New("only an address that begins with https:// is told anything")
		}
	}
	r.Tell = append(r.Tell, t)
	return nil
}

func (r *Routine) within(value string) error {
	from, to, ok := strings.Cut(value, " to ")
	a, err1 := parseClock(from)
	b, err2 := parseClock(to)
	if !ok || err1 != nil || err2 != nil || a == b {
		return errors.New(value + " isn't two times of the day, such as 22:00 to 5:00")
	}
	r.From, r.To = a, b
	return nil
}

// String is the step as the text has it.
func (s Step) String() string {
	switch s.Action {
	case Check:
		return fmt.Sprintf("check %s %%", strconv.FormatFloat(s.Share, 'f', -1, 64))
	case Carry:
		return "carry to " + s.To
	}
	return string(s.Action)
}

// Text is the routine as Parse reads it.
func (r *Routine) Text() string {
	var b strings.Builder
	b.WriteString(Head + "\n")
	put := func(key, value string) {
		if value != "" {
			fmt.Fprintf(&b, "%s: %s\n", key, value)
		}
	}
	put("name", r.Name)
	put("machine", r.Machine)
	for _, d := range r.Disks {
		put("disk", d.String())
	}
	for _, s := range r.Shelves {
		put("shelf", s)
	}
	for _, s := range r.Steps {
		put("do", s.String())
	}
	for _, w := range r.When {
		put("when", w.String())
	}
	if r.From != r.To {
		put("within", clock(r.From)+" to "+clock(r.To))
	}
	put("zone", r.Zone)
	if r.Spread > 0 {
		put("spread", lasting(r.Spread.Round(time.Second)))
	}
	if r.Mains {
		put("only on mains", "yes")
	}
	for _, t := range r.Tell {
		key := "tell"
		if t.Failures {
			key = "tell on failure"
		}
		put(key, t.String())
	}
	return b.String()
}
