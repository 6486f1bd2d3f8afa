package health

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"twinshelf/internal/units"
)

// Level is how bad it is.
type Level int

const (
	// Untold is for a drive that tells nothing.
	Untold Level = iota
	// Sound is for one whose own figures show no fault. That proves nothing: drives fail without a warning.
	Sound
	// Watch is for one that has trouble and may go on for long.
	Watch
	// Failing is for one that loses data or says that it will.
	Failing
)

// String is the word for a level.
func (l Level) String() string { return [...]string{"not told", "sound", "watch", "failing"}[l] }

// Verdict is what a report means.
type Verdict struct {
	Level Level
	// Reasons say why, the gravest first; empty for Sound.
	Reasons []string
	// Advice says what to do; empty for nothing.
	Advice string
}

// What figures mean something: a drive that has moved many sectors goes on moving, one that is warm is no fault.
const (
	manyReallocated = 100
	wornOut         = 100 // percent
	nearlyWorn      = 90
	hot             = 60 // degrees Celsius, for a drive that doesn't tell its limit
)

const (
	copyFirst = "copy it before anything else"
	copySoon  = "capture it soon, and look again at what it counts then"
)

type reason struct {
	level Level
	words string
}

// Verdict weighs what the drive said.
func (r *Report) Verdict() Verdict {
	if !r.Told() {
		return Verdict{}
	}
	var all []reason
	say := func(l Level, format string, args ...any) { all = append(all, reason{l, fmt.Sprintf(format, args...)}) }
	r.weighSectors(say)
	for _, a := range r.Alarms {
		say(Failing, "%s", a)
	}
	if t := r.SelfTest; t != nil && !t.Passed {
		say(Failing, "%s", t.sentence(r.Figures[Hours]))
	}
	for _, c := range r.Cautions {
		say(Watch, "%s", c)
	}
	r.weighRest(say)
	slices.SortStableFunc(all, func(a, b reason) int { return cmp.Compare(b.level, a.level) })
	v := Verdict{Level: Sound}
	for _, a := range all {
		v.Level = max(v.Level, a.level)
		v.Reasons = append(v.Reasons, a.words)
	}
	switch v.Level {
	case Failing:
		v.Advice = copyFirst
	case Watch:
		v.Advice = copySoon
	}
	return v
}

// weighSectors weighs what was lost already.
func (r *Report) weighSectors(say func(l Level, format string, args ...any)) {
	if n := r.Figures[Pending]; n > 0 {
		say(Failing, "%s to be reallocated", isAre(n, "sector", "waits", "wait"))
	}
	if n := r.Figures[Uncorrectable]; n > 0 && n != r.Figures[Pending] {
		say(Failing, "%s be read", isAre(n, "sector", "couldn't", "couldn't"))
	}
	if n := r.Figures[Reallocated]; n > 0 {
		level := Watch
		if n >= manyReallocated {
			level = Failing
		}
		say(level, "%s been reallocated", isAre(n, "sector", "has", "have"))
	}
	if n := r.Figures[MediaErrors]; n > 0 {
		say(Watch, "%s be corrected", isAre(n, "read error", "couldn't", "couldn't"))
	}
}

// weighRest weighs age, heat and the cable.
func (r *Report) weighRest(say func(l Level, format string, args ...any)) {
	if n := r.Figures[Wear]; n >= wornOut {
		say(Watch, "%d %% of the writes that its maker promises are used up", n)
	} else if n >= nearlyWorn {
		say(Watch, "it is nearly worn out: %d %% of the writes that its maker promises", n)
	}
	limit, told := r.Of(Hottest)
	if !told || limit < hot-10 {
		limit = hot
	}
	if t := r.Figures[Temperature]; t >= limit {
		say(Watch, "it is hot: %d °C; let it cool down", t)
	}
	if n := r.Figures[LinkErrors]; n > 0 {
		say(Watch, "%s on its interface: check the cable and the dock", units.Plural(int(n), "error"))
	}
	if now, best := r.Figures[LinkNow], r.Figures[LinkBest]; now > 0 && now < best {
		say(Sound, "attached at %s, it could do %s", speed(now), speed(best))
	}
}

// isAre is a number of things with the verb that goes with it.
func isAre(n int64, thing, one, many string) string {
	verb := many
	if n == 1 {
		verb = one
	}
	return units.Plural(int(n), thing) + " " + verb
}

func (t *SelfTest) sentence(now int64) string {
	words := "its last self-test " + t.Words
	if t.Sector >= 0 {
		words += fmt.Sprintf(" at sector %d", t.Sector)
	}
	if ago := now - t.Hours; ago > 0 && t.Hours > 0 {
		words += fmt.Sprintf(", %s of use ago", units.Plural(int(ago), "hour"))
	}
	return words
}

// Words are the verdict in one sentence.
func (v Verdict) Words() string {
	switch {
	case v.Level == Untold:
		return "how it is isn't told"
	case len(v.Reasons) == 0:
		return "no fault in its own figures"
	case v.Level == Sound:
		return "no fault in its own figures; " + strings.Join(v.Reasons, "; ")
	}
	words := v.Level.String() + ": " + strings.Join(v.Reasons, "; ")
	if v.Advice != "" {
		words += "; " + v.Advice
	}
	return words
}

// Short is the verdict with its gravest reason alone.
func (v Verdict) Short() string {
	if v.Level < Watch {
		return v.Level.String()
	}
	return v.Level.String() + ": " + v.Reasons[0]
}

// Words are the verdict in one sentence; where the drive tells nothing, why.
func (r *Report) Words() string {
	if r != nil && r.Silent != "" {
		return r.Silent
	}
	return r.Verdict().Words()
}
