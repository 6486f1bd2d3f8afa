package keeping

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
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
		how = strings.Replace("one a "+strings.TrimPrefix(length(g.Every), "1 "), "a hour", "an hour", 1)
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
			return nil, fmt.Errorf("%q is denser than what comes before it; older dates are kept at most as densely "+
				"as newer ones", part)
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

// ReadRule reads a whole rule as Rule.Words says it: the generations, and after semicolons the floor and whether it
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
			return r, fmt.Errorf("%q is not understood; after a semicolon comes \"%s3\" or \"%s\"", part, floorWords,
				autoWords)
		}
	}
	return r, nil
}

func parseGeneration(text string) (g Generation, err error) {
	bad := fmt.Errorf("%q is not understood; write for instance \"every one for 2 days, then one a day for 5 weeks, "+
		"then one a month for ever\"", text)
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

// ReadRules reads the rules of a shelf; without any every twin stays.
func ReadRules(ctx context.Context, s *shelf.Shelf) (Rules, error) {
	var r Rules
	_, err := s.GetNote(ctx, store.RulesFile, &r)
	return r, err
}

// SetRule sets the rule of a machine, or the usual one when machine is empty. It goes into the journal.
func SetRule(ctx context.Context, s *shelf.Shelf, machine string, r Rule) error {
	l, err := s.Acquire(ctx, store.Holder{What: "setting a rule", Machine: store.RulesFile})
	if err != nil {
		return fmt.Errorf("the rule can't be set now: %w", err)
	}
	defer l.Release()
	rules, err := ReadRules(ctx, s)
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
	if err := s.PutNote(ctx, l, store.RulesFile, rules); err != nil {
		return err
	}
	return s.Record(ctx, shelf.Event{What: "rule set", Machine: machine, Why: r.Words()})
}
