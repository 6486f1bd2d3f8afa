package shelf

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"twinshelf/internal/units"
)

// Generation is a stretch of the past in which dates are kept equally densely.
type Generation struct {
	// Every is the width of a slot in hours; the newest twin in each slot stays. 0 keeps every one.
	Every int `json:"every_hours"`
	// For is how long the generation lasts, in hours; 0 is for ever, for the last one.
	For int `json:"for_hours"`
}

// Rule says how densely dates are kept. Without generations every twin stays.
type Rule struct {
	Generations []Generation `json:"generations,omitempty"`
	// Floor is how many of the newest twins stay whatever the generations say.
	Floor int `json:"floor"`
	// Auto has twins dropped after each capture without being asked.
	Auto bool `json:"auto"`
}

// Rules are the rules of a shelf: one for all machines, and those of single ones.
type Rules struct {
	Usual    Rule            `json:"usual"`
	Machines map[string]Rule `json:"machines,omitempty"`
}

// For is the rule of a machine.
func (r Rules) For(machine string) Rule {
	if m, ok := r.Machines[machine]; ok {
		return m
	}
	return r.Usual
}

const (
	hour  = 1
	day   = 24 * hour
	week  = 7 * day
	month = 30 * day
	year  = 365 * day
)

var timeUnits = []struct {
	hours int
	name  string
}{{year, "year"}, {month, "month"}, {week, "week"}, {day, "day"}, {hour, "hour"}}

// length says a number of hours in the largest unit that fits.
func length(hours int) string {
	for _, u := range timeUnits {
		if hours >= u.hours && hours%u.hours == 0 {
			return units.Plural(hours/u.hours, u.name)
		}
	}
	return units.Plural(hours, "hour")
}

// Words says a generation plainly.
func (g Generation) Words() string {
	how := "every one"
	if g.Every > 0 {
		how = "one a " + strings.TrimPrefix(length(g.Every), "1 ")
		if n, unit, _ := strings.Cut(length(g.Every), " "); n != "1" {
			how = "one every " + n + " " + unit
		}
	}
	if g.For > 0 {
		return how + " for " + length(g.For)
	}
	return how + " for ever"
}

// Words says a rule plainly.
func (r Rule) Words() string {
	if len(r.Generations) == 0 {
		return "every one for ever"
	}
	var parts []string
	for _, g := range r.Generations {
		parts = append(parts, g.Words())
	}
	s := strings.Join(parts, ", then ")
	if last := r.Generations[len(r.Generations)-1]; last.For > 0 {
		s += ", older ones go"
	}
	if r.Floor > 0 {
		s += fmt.Sprintf("; %s%d", floorWords, r.Floor)
	}
	if r.Auto {
		s += "; " + autoWords
	}
	return s
}

// ParseRule reads the generations of a rule as Words says them: "every one for 2 days, then one a day for 5 weeks,
// then one a month for ever".
func ParseRule(text string) ([]Generation, error) {
	var out []Generation
	for i, part := range strings.Split(strings.ToLower(text), ",") {
		part = strings.TrimPrefix(strings.TrimSpace(part), "then ")
		if part == "older ones go" && i > 0 {
			continue
		}
		g, err := parseGeneration(part)
		if err != nil {
			return nil, err
		}
		if n := len(out); n > 0 && out[n-1].For == 0 {
			return nil, fmt.Errorf("%q never begins: the part before it is for ever", part)
		}
		if n := len(out); n > 0 && g.Every < out[n-1].Every {
			return nil, fmt.Errorf("%q is denser than what comes before it; older dates are kept at most as densely as newer ones", part)
		}
		out = append(out, g)
	}
	if len(out) > 16 {
		return nil, fmt.Errorf("%d generations are more than anybody can follow", len(out))
	}
	return out, nil
}

// UsualFloor is how many twins stay when a rule doesn't say.
const UsualFloor = 3

const (
	floorWords = "never fewer than "
	autoWords  = "dropped after each capture without being asked"
)

// ReadRule reads a whole rule as Rule.Words says it: the generations, and behind semicolons the floor and whether it
// is applied without being asked.
func ReadRule(text string) (Rule, error) {
	r := Rule{Floor: UsualFloor}
	for i, part := range strings.Split(text, ";") {
		part = strings.ToLower(strings.TrimSpace(part))
		switch {
		case i == 0:
			g, err := ParseRule(part)
			if err != nil {
				return r, err
			}
			if len(g) > 1 || g[0] != (Generation{}) {
				r.Generations = g
			}
		case strings.HasPrefix(part, floorWords):
			n, err := strconv.Atoi(strings.TrimPrefix(part, floorWords))
			if err != nil || n < 0 || n > 1_000_000 {
				return r, fmt.Errorf("%q names no number of twins", part)
			}
			r.Floor = n
		case part == autoWords:
			r.Auto = true
		default:
			return r, fmt.Errorf("%q is not understood; behind a semicolon stands \"%s3\" or \"%s\"", part, floorWords, autoWords)
		}
	}
	return r, nil
}

func parseGeneration(text string) (g Generation, err error) {
	bad := fmt.Errorf("%q is not understood; write for instance \"every one for 2 days, then one a day for 5 weeks, then one a month for ever\"", text)
	how, howLong, _ := strings.Cut(text, " for ")
	switch {
	case how == "every one" || how == "all":
	case strings.HasPrefix(how, "one a "):
		if g.Every, err = parseLength("1 " + strings.TrimPrefix(how, "one a ")); err != nil {
			return g, bad
		}
	case strings.HasPrefix(how, "one an "):
		if g.Every, err = parseLength("1 " + strings.TrimPrefix(how, "one an ")); err != nil {
			return g, bad
		}
	case strings.HasPrefix(how, "one every "):
		if g.Every, err = parseLength(strings.TrimPrefix(how, "one every ")); err != nil {
			return g, bad
		}
	default:
		return g, bad
	}
	if howLong == "" || howLong == "ever" {
		return g, nil
	}
	if g.For, err = parseLength(howLong); err != nil {
		return g, bad
	}
	return g, nil
}

func parseLength(text string) (int, error) {
	n, unit, ok := strings.Cut(text, " ")
	count, err := strconv.Atoi(n)
	if !ok || err != nil || count < 1 || count > 10_000 {
		return 0, fmt.Errorf("%q is no length of time", text)
	}
	for _, u := range timeUnits {
		if strings.TrimSuffix(unit, "s") == u.name {
			return count * u.hours, nil
		}
	}
	return 0, fmt.Errorf("%q is no unit of time", unit)
}

// Fate is what a rule means for a twin.
type Fate struct {
	Twin *Twin  `json:"-"`
	ID   string `json:"twin"`
	Goes bool   `json:"goes"`
	Why  string `json:"why"`
}

// Thin says what a rule means for the twins of one machine, newest first. It is pure: nothing is dropped. What always stays:
// the newest twin, the newest one that is quiet and complete, those that are kept for ever, and
// as many as the floor says.
func Thin(twins []*Twin, marks map[string]Mark, r Rule, now time.Time) []Fate {
	twins = slices.Clone(twins)
	slices.SortStableFunc(twins, func(a, b *Twin) int { return b.Taken.Compare(a.Taken) })
	good := slices.IndexFunc(twins, func(t *Twin) bool { return t.Quiet() && t.Missing() == 0 })
	out := make([]Fate, len(twins))
	taken := map[string]bool{}
	for i, t := range twins {
		f := Fate{Twin: t, ID: t.ID}
		slot, words, ok := r.slot(t.Taken, now)
		m, kept := marks[t.ID]
		switch {
		case len(r.Generations) == 0:
			f.Why = "every one stays"
		case kept:
			f.Why = "kept for ever: " + m.Note
		case i == 0:
			f.Why = "the newest"
		case i == good:
			f.Why = "the newest that is quiet and complete"
		case i < r.Floor:
			f.Why = fmt.Sprintf("one of the %d newest", r.Floor)
		case !ok:
			f.Goes, f.Why = true, "older than the rule reaches"
		case slot == "":
			f.Why = words
		case taken[slot]:
			f.Goes, f.Why = true, "a newer one stands for the same time ("+words+")"
		default:
			f.Why = words
		}
		if slot != "" && !f.Goes {
			taken[slot] = true
		}
		out[i] = f
	}
	return out
}

// slot names the stretch of time in which a twin stands; ok is false beyond the last generation. An
// empty slot is one of its own. Slots of a day and more begin at local midnight.
func (r Rule) slot(taken, now time.Time) (slot, words string, ok bool) {
	age := now.Sub(taken)
	reach := time.Duration(0)
	for i, g := range r.Generations {
		reach += time.Duration(g.For) * time.Hour
		if g.For > 0 && age >= reach {
			continue
		}
		if g.Every == 0 {
			return "", g.Words(), true
		}
		_, offset := taken.Zone()
		n := (taken.Unix() + int64(offset)) / int64(g.Every*3600)
		return fmt.Sprintf("%d/%d", i, n), g.Words(), true
	}
	return "", "", len(r.Generations) == 0
}

// Rules reads the rules of the shelf; without any every twin stays.
func (s *Shelf) Rules() (Rules, error) {
	var r Rules
	_, err := s.readNote(rulesFile, &r)
	return r, err
}

// SetRule sets the rule of a machine, or the usual one when machine is empty. It goes into the journal.
func (s *Shelf) SetRule(machine string, r Rule) error {
	rules, err := s.Rules()
	if err != nil {
		return err
	}
	if machine == "" {
		rules.Usual = r
	} else {
		if rules.Machines == nil {
			rules.Machines = map[string]Rule{}
		}
		rules.Machines[machine] = r
	}
	if err := s.writeNote(rulesFile, rules); err != nil {
		return err
	}
	return s.journal(Event{What: "rule set", Machine: machine, Why: r.Words()})
}

// Preview is what thinning would do, before it is done.
type Preview struct {
	Machines []MachinePreview `json:"machines"`
	// Back is the room that comes back when space is then given back, in bytes; shared blocks are counted
	// only when nobody needs them any more.
	Back int64 `json:"back"`
	Goes int   `json:"goes"`
}

// MachinePreview is the preview of one machine.
type MachinePreview struct {
	Machine string `json:"machine"`
	Rule    string `json:"rule"`
	Fates   []Fate `json:"fates"`
	// Reach is the oldest date that is left.
	Reach time.Time `json:"reach"`
}

// PreviewThinning says what the rules mean now; for one machine, or for all when machine is empty.
func (s *Shelf) PreviewThinning(ctx context.Context, machine string, now time.Time) (*Preview, error) {
	rules, err := s.Rules()
	if err != nil {
		return nil, err
	}
	return s.PreviewRules(ctx, rules, machine, now)
}

// dates are all twins, and the marks of those that are kept for ever; nothing is thinned while either can't be told.
func (s *Shelf) dates() ([]*Twin, map[string]Mark, error) {
	marks, err := s.Marks()
	if err != nil {
		return nil, nil, err
	}
	twins, problems := s.Twins()
	if len(problems) > 0 {
		return nil, nil, fmt.Errorf("what the shelf holds can't be told: %w", problems[0])
	}
	return twins, marks, nil
}

// PreviewRules is PreviewThinning for rules that aren't set yet.
func (s *Shelf) PreviewRules(ctx context.Context, rules Rules, machine string, now time.Time) (*Preview, error) {
	twins, marks, err := s.dates()
	if err != nil {
		return nil, err
	}
	p := &Preview{}
	var goes []*Twin
	for len(twins) > 0 {
		n := 1
		for n < len(twins) && twins[n].Machine == twins[0].Machine {
			n++
		}
		mine := twins[:n]
		twins = twins[n:]
		if machine != "" && mine[0].Machine != machine {
			continue
		}
		r := rules.For(mine[0].Machine)
		mp := MachinePreview{Machine: mine[0].Machine, Rule: r.Words(), Fates: Thin(mine, marks, r, now)}
		for _, f := range mp.Fates {
			if f.Goes {
				goes = append(goes, f.Twin)
			} else {
				mp.Reach = f.Twin.Taken
			}
		}
		p.Machines = append(p.Machines, mp)
	}
	p.Goes = len(goes)
	if len(goes) > 0 {
		p.Back, err = s.RoomOf(ctx, goes)
	}
	return p, err
}

// FatesWith are the twins of a machine that a rule drops once another one stands there too; coming may be nil.
func (s *Shelf) FatesWith(r Rule, machine string, coming *Twin, now time.Time) ([]Fate, error) {
	twins, marks, err := s.dates()
	if err != nil {
		return nil, err
	}
	twins = slices.DeleteFunc(twins, func(t *Twin) bool { return t.Machine != machine })
	if coming != nil {
		twins = append(twins, coming)
	}
	return slices.DeleteFunc(Thin(twins, marks, r, now), func(f Fate) bool { return !f.Goes || f.Twin == coming }), nil
}

// RoomOf is how much room would come back without these twins, in bytes: that of the blocks that no other one needs.
func (s *Shelf) RoomOf(ctx context.Context, goes []*Twin) (int64, error) {
	twins, problems := s.Twins()
	if len(problems) > 0 {
		return 0, problems[0]
	}
	if err := s.refresh(); err != nil {
		return 0, err
	}
	stay := slices.DeleteFunc(twins, func(t *Twin) bool {
		return slices.ContainsFunc(goes, func(g *Twin) bool { return g.ID == t.ID })
	})
	m := s.marking()
	if err := m.all(ctx, stay); err != nil {
		return 0, err
	}
	m.stored = 0
	err := m.all(ctx, goes)
	return m.stored, err
}

// Apply discards what a preview said would go, and nothing else.
func (s *Shelf) Apply(p *Preview) (int, error) {
	n := 0
	for _, m := range p.Machines {
		for _, f := range m.Fates {
			if !f.Goes {
				continue
			}
			if err := s.Discard(f.Twin, "thinned: "+f.Why); err != nil {
				return n, err
			}
			n++
		}
	}
	return n, nil
}
