package routine

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/url"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"twinshelf/internal/capture"
	"twinshelf/internal/keeping"
	"twinshelf/internal/store/far"
	"twinshelf/internal/units"
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
const keys = "name, machine, disk, mounted disks, spare, shelf, passphrase, do, pack, keep, on failure, when, " +
	"within, zone, spread, only on mains, only when idle, tell, tell on failure, tell weekly, heartbeat, alarm"

// snapshots is how mounted disks may be captured.
const snapshots = "LVM snapshots"

// repeated are the keys that may be there more than once.
var repeated = map[string]bool{"disk": true, "spare": true, "shelf": true, "passphrase": true, "do": true, "when": true,
	"on failure": true, string(EachRun): true, string(OnFailure): true, string(Weekly): true}

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
	if again && !repeated[key] {
		return fmt.Errorf("%s is there twice", key)
	}
	switch key {
	case "name":
		r.Name = value
	case "machine":
		r.Machine = value
	case "disk":
		r.Disks, err = withDisk(r.Disks, value)
	case "spare":
		r.Spares, err = withDisk(r.Spares, value)
	case "shelf":
		r.Shelves = append(r.Shelves, value)
		return checkPlace(value)
	case "passphrase":
		return r.passphrase(value)
	case "mounted disks":
		if r.Snapshots = strings.EqualFold(value, snapshots); !r.Snapshots {
			return fmt.Errorf("%q isn't known; possible is %q", value, snapshots)
		}
	case "do":
		return r.do(value)
	case "pack":
		r.Packing, err = capture.ParsePacking(strings.ToLower(value))
	case "keep":
		return r.keep(value)
	case "on failure":
		return r.failing(value)
	case "heartbeat":
		r.Heartbeat, err = value, checkAddress(value)
	case "alarm":
		return r.alarm(value)
	case string(EachRun), string(OnFailure), string(Weekly):
		return r.tell(value, Occasion(key))
	default:
		return r.pace(key, value)
	}
	return err
}

// pace takes a line that says when it runs.
func (r *Routine) pace(key, value string) (err error) {
	switch key {
	case "when":
		w, err := ParseWhen(value)
		r.When = append(r.When, w)
		return err
	case "within":
		return r.within(value)
	case "zone":
		r.Zone = value
		_, err = r.Place()
	case "spread":
		r.Spread, err = parseTime(value)
	case "only on mains":
		r.Mains, err = yes(value)
	case "only when idle":
		r.Idle, err = yes(value)
	default:
		return fmt.Errorf("%q isn't known; possible are %s", key, keys)
	}
	return err
}

func yes(value string) (bool, error) {
	if value != "yes" && value != "no" {
		return false, fmt.Errorf("%q is neither yes nor no", value)
	}
	return value == "yes", nil
}

func withDisk(all []Disk, value string) ([]Disk, error) {
	i := strings.LastIndex(value, ",")
	d := Disk{strings.TrimSpace(value[:max(0, i)]), strings.TrimSpace(value[i+1:])}
	if d.Serial == "" || d.Model == "" {
		return all, fmt.Errorf("%q is no disk: its model, a comma and its serial number are wanted, such as Kestrel "+
			"K2 256, KK2-55A1940B1", value)
	}
	return append(all, d), nil
}

// do takes a step.
func (r *Routine) do(value string) error {
	action, rest, _ := strings.Cut(value, " ")
	rest = strings.TrimSpace(rest)
	s := Step{Action: Action(strings.ToLower(action))}
	switch s.Action {
	case Capture, Prove, Thin, Copy:
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
		if err := checkPlace(s.To); err != nil {
			return err
		}
	case Sheet:
		to, ok := strings.CutPrefix(rest, "to ")
		if s.To = strings.TrimSpace(to); !ok || !filepath.IsAbs(s.To) {
			return fmt.Errorf("%q: say into which folder, by its whole path, such as sheet to /srv/sheets", value)
		}
	default:
		return fmt.Errorf("%q isn't known; possible are capture, prove, check 5 %%, thin, carry to SHELF, copy and "+
			"sheet to FOLDER", value)
	}
	r.Steps = append(r.Steps, s)
	return nil
}

// checkPlace refuses an address that can't be one of a shelf, and what is a secret in it: texts are kept and shown.
func checkPlace(shelf string) error {
	if !far.Is(shelf) {
		return nil
	}
	return far.Check(shelf)
}

// tell takes one who is told.
func (r *Routine) tell(value string, on Occasion) error {
	way, to, _ := strings.Cut(value, " ")
	t := Tell{Way(strings.ToLower(way)), strings.TrimSpace(to), on}
	switch {
	case t.Way != ByCommand && t.Way != ByMail && t.Way != ByWeb || t.To == "":
		return fmt.Errorf("%q isn't known; possible are command PROGRAM, mail ADDRESS and web https://ADDRESS", value)
	case t.Way == ByCommand && !strings.HasPrefix(t.To, "/"):
		return errors.New("a program is named by its whole path, such as /usr/local/bin/page")
	case t.Way == ByMail && (!strings.Contains(t.To, "@") || strings.HasPrefix(t.To, "-") ||
		len(strings.Fields(t.To)) != 1):
		return fmt.Errorf("%q is no mail address", t.To)
	case t.Way == ByWeb:
		if err := checkAddress(t.To); err != nil {
			return err
		}
	}
	r.Tell = append(r.Tell, t)
	return nil
}

func checkAddress(to string) error {
	u, err := url.Parse(to)
	if err != nil || u.Scheme != "https" || u.Host == "" {
		return errors.New("only an address that begins with https:// is told anything")
	}
	return nil
}

// keep takes a rule in words, or the name of one.
func (r *Routine) keep(value string) error {
	if rule, ok := presets[strings.ToLower(value)]; ok {
		value = rule
	}
	rule, err := keeping.ReadRule(value)
	if err == nil && len(rule.Generations) == 0 {
		err = errors.New("without a rule every one stays: leave the line out")
	}
	if err != nil {
		return fmt.Errorf("%w; %s stand for usual ones", err, presetNames)
	}
	if rule.Auto {
		return errors.New("a routine's rule names what goes one run before: it drops nothing by itself; leave that out")
	}
	if rule.Floor == 0 {
		return errors.New("a rule that is applied when nobody looks never drops all twins: say for instance \"never " +
			"fewer than 3\"")
	}
	r.Keep = rule
	return nil
}

// failing takes what happens when a step fails.
func (r *Routine) failing(value string) error {
	s := strings.ToLower(strings.Join(strings.Fields(value), " "))
	if s == "go on" {
		r.Failing.GoOn = true
		return nil
	}
	rest, ok := strings.CutPrefix(s, "try again ")
	count, after, timed := strings.Cut(rest, " after ")
	n, err := strconv.Atoi(strings.TrimSuffix(strings.TrimSuffix(count, " times"), " time"))
	if !ok || !timed || err != nil || n < 1 || n > mostTries {
		return fmt.Errorf("%q isn't known; possible are \"try again 2 times after 10 minutes\" (up to %d times) and "+
			"\"go on\"", value, mostTries)
	}
	r.Failing.Times = n
	r.Failing.After, err = parseTime(after)
	return err
}

// alarm takes for how long nothing may end well.
func (r *Routine) alarm(value string) (err error) {
	rest, ok := strings.CutPrefix(strings.ToLower(value), "nothing for ")
	if !ok {
		return fmt.Errorf("%q isn't known; possible is \"nothing for 8 days\"", value)
	}
	r.Silence, err = parseTime(rest)
	return err
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
	case Carry, Sheet:
		return string(s.Action) + " to " + s.To
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
	if r.Snapshots {
		put("mounted disks", snapshots)
	}
	for _, d := range r.Spares {
		put("spare", d.String())
	}
	for _, s := range r.Shelves {
		put("shelf", s)
	}
	for _, s := range r.Passphrases {
		put("passphrase", s.String())
	}
	for _, s := range r.Steps {
		put("do", s.String())
	}
	put("pack", string(r.Packing))
	if len(r.Keep.Generations) > 0 {
		put("keep", r.Keep.Words())
	}
	for _, f := range r.Failing.words() {
		put("on failure", f)
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
	if r.Idle {
		put("only when idle", "yes")
	}
	for _, t := range r.Tell {
		put(string(t.On), t.String())
	}
	put("heartbeat", r.Heartbeat)
	if r.Silence > 0 {
		put("alarm", "nothing for "+lasting(r.Silence))
	}
	return b.String()
}

func (f Failing) words() (out []string) {
	if f.Times > 0 {
		out = append(out, fmt.Sprintf("try again %s after %s", units.Plural(f.Times, "time"), lasting(f.After)))
	}
	if f.GoOn {
		out = append(out, "go on")
	}
	return out
}
