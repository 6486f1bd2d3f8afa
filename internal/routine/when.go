package routine

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Kind is what sets a routine off.
type Kind int

const (
	// Hourly is every so many hours, counted from midnight.
	Hourly Kind = iota
	// Daily is on some days of the week.
	Daily
	// Monthly is on one day of the month.
	Monthly
	// Attached is when its disks are attached.
	Attached
	// Older is when its last success is older than some time.
	Older
)

// LastDay is the last day of a month, whatever its number.
const LastDay = -1

// everyDay is all days of the week.
const everyDay = 1<<7 - 1

// When is one thing that sets a routine off. It never changes.
type When struct {
	Kind  Kind
	Every int // Hourly: hours
	// Days are those of the week on which it happens, Sunday in the lowest bit.
	Days uint8
	// Day is that of the month, or LastDay; 0 where Nth counts a day of the week in it.
	Day int
	Nth int // from 1; LastDay for the last one
	// At are the times of the day in minutes, ascending; Hourly has one, which is the minute of the hour.
	At []int
	// For is how long a disk has to be there (Attached), or how old the last success is (Older).
	For time.Duration
}

var (
	weekdays = []string{"sunday", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday"}
	ordinals = []string{"first", "second", "third", "fourth"}
)

// forms are what can be written, for those who wrote something else.
const forms = `"every hour at :15", "every 6 hours", "every day at 18:30", "every monday, friday at 8:00, 18:00", ` +
	`"every weekday at 18:30", "every month on day 1 at 6:00", "every month on the last day at 6:00", ` +
	`"every month on the first monday at 6:00", "when attached for 2 minutes" or "when older than 8 days"`

// shortest is the shortest settle time, oldest bounds ages.
const (
	shortest = 10 * time.Second
	longest  = 5 * 366 * 24 * time.Hour
)

// ParseWhen reads what sets a routine off, as people write it.
func ParseWhen(text string) (When, error) {
	s := strings.ToLower(strings.Join(strings.Fields(text), " "))
	w, err := parseWhen(s)
	if err != nil {
		return When{}, fmt.Errorf("%q: %w; possible are %s", text, err, forms)
	}
	return w, nil
}

func parseWhen(s string) (When, error) {
	if s == "when attached" {
		return When{Kind: Attached, For: shortest}, nil
	}
	if rest, ok := strings.CutPrefix(s, "when attached for "); ok {
		d, err := parseTime(rest)
		return When{Kind: Attached, For: max(d, shortest)}, err
	}
	if rest, ok := strings.CutPrefix(s, "when older than "); ok {
		d, err := parseTime(rest)
		return When{Kind: Older, For: d}, err
	}
	rest, ok := strings.CutPrefix(s, "every ")
	if !ok {
		return When{}, fmt.Errorf("it begins neither with every nor with when")
	}
	what, at, timed := strings.Cut(rest, " at ")
	if hours, ok := parseHours(what); ok {
		return hourly(hours, at, timed)
	}
	if !timed {
		return When{}, fmt.Errorf("no time of the day is given")
	}
	times, err := parseTimes(at)
	if err != nil {
		return When{}, err
	}
	if on, ok := strings.CutPrefix(what, "month on "); ok {
		w, err := monthly(on)
		w.At = times
		return w, err
	}
	days, err := parseDays(what)
	return When{Kind: Daily, Days: days, At: times}, err
}

// parseHours reads "hour" or "6 hours".
func parseHours(s string) (n int, ok bool) {
	if s == "hour" {
		return 1, true
	}
	number, ok := strings.CutSuffix(s, " hours")
	n, err := strconv.Atoi(number)
	return n, ok && err == nil
}

func hourly(hours int, at string, timed bool) (When, error) {
	w := When{Kind: Hourly, Every: hours, At: []int{0}}
	if hours < 1 || hours > 24 || 24%hours != 0 {
		return w, fmt.Errorf("%d hours don't come out even in a day", hours)
	}
	if !timed {
		return w, nil
	}
	m, err := strconv.Atoi(strings.TrimPrefix(at, ":"))
	if err != nil || !strings.HasPrefix(at, ":") || m < 0 || m > 59 {
		return w, fmt.Errorf("%s is no minute of an hour", at)
	}
	w.At[0] = m
	return w, nil
}

func monthly(on string) (When, error) {
	w := When{Kind: Monthly}
	if number, ok := strings.CutPrefix(on, "day "); ok {
		n, err := strconv.Atoi(number)
		if err != nil || n < 1 || n > 31 {
			return w, fmt.Errorf("%s is no day of a month", number)
		}
		w.Day = n
		return w, nil
	}
	which, day, ok := strings.Cut(strings.TrimPrefix(on, "the "), " ")
	if !ok {
		return w, fmt.Errorf("%q is no day of a month", on)
	}
	switch i := slices.Index(ordinals, which); {
	case which == "last" && day == "day":
		w.Day = LastDay
		return w, nil
	case which == "last":
		w.Nth = LastDay
	case i >= 0:
		w.Nth = i + 1
	default:
		return w, fmt.Errorf("%q is no day of a month", on)
	}
	i := slices.Index(weekdays, day)
	if i < 0 {
		return w, fmt.Errorf("%s is no day of the week", day)
	}
	w.Days = 1 << i
	return w, nil
}

func parseDays(s string) (days uint8, err error) {
	switch s {
	case "day":
		return everyDay, nil
	case "weekday":
		return 0b0111110, nil
	}
	for name := range strings.SplitSeq(s, ",") {
		i := slices.Index(weekdays, strings.TrimSpace(name))
		if i < 0 {
			return 0, fmt.Errorf("%s is no day of the week", strings.TrimSpace(name))
		}
		days |= 1 << i
	}
	return days, nil
}

// parseClock reads "18:30" as minutes of the day.
func parseClock(s string) (int, error) {
	h, m, ok := strings.Cut(strings.TrimSpace(s), ":")
	hour, err1 := strconv.Atoi(h)
	minute, err2 := strconv.Atoi(m)
	if !ok || err1 != nil || err2 != nil || hour < 0 || hour > 23 || minute < 0 || minute > 59 || len(m) != 2 {
		return 0, fmt.Errorf("%s is no time of the day", strings.TrimSpace(s))
	}
	return hour*60 + minute, nil
}

func parseTimes(s string) (out []int, err error) {
	for one := range strings.SplitSeq(s, ",") {
		m, err := parseClock(one)
		if err != nil {
			return nil, err
		}
		out = append(out, m)
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

var lengths = []struct {
	name string
	d    time.Duration
}{{"day", 24 * time.Hour}, {"hour", time.Hour}, {"minute", time.Minute}, {"second", time.Second}}

// parseTime reads "8 days" or "1 minute".
func parseTime(s string) (time.Duration, error) {
	number, unit, _ := strings.Cut(s, " ")
	n, err := strconv.Atoi(number)
	for _, l := range lengths {
		if err == nil && n > 0 && strings.TrimSuffix(unit, "s") == l.name && n <= int(longest/l.d) {
			return time.Duration(n) * l.d, nil
		}
	}
	return 0, fmt.Errorf("%q is no length of time, such as 2 minutes or 8 days", s)
}

// lasting says a length of time in the largest unit that it is whole in.
func lasting(d time.Duration) string {
	for _, l := range lengths {
		if d%l.d == 0 || l.d == time.Second {
			n := int(d / l.d)
			if n == 1 {
				return "1 " + l.name
			}
			return fmt.Sprintf("%d %ss", n, l.name)
		}
	}
	return d.String()
}

func clock(m int) string { return fmt.Sprintf("%d:%02d", m/60, m%60) }

// String writes it as ParseWhen reads it.
func (w When) String() string {
	times := make([]string, len(w.At))
	for i, m := range w.At {
		times[i] = clock(m)
	}
	at := " at " + strings.Join(times, ", ")
	switch w.Kind {
	case Attached:
		return "when attached for " + lasting(w.For)
	case Older:
		return "when older than " + lasting(w.For)
	case Hourly:
		s := "every hour"
		if w.Every > 1 {
			s = fmt.Sprintf("every %d hours", w.Every)
		}
		if w.At[0] > 0 {
			s += fmt.Sprintf(" at :%02d", w.At[0])
		}
		return s
	case Monthly:
		return "every month on " + w.dayOfMonth() + at
	}
	return "every " + w.daysOfWeek() + at
}

func (w When) dayOfMonth() string {
	switch {
	case w.Day == LastDay:
		return "the last day"
	case w.Day > 0:
		return fmt.Sprintf("day %d", w.Day)
	case w.Nth == LastDay:
		return "the last " + w.daysOfWeek()
	}
	return "the " + ordinals[w.Nth-1] + " " + w.daysOfWeek()
}

func (w When) daysOfWeek() string {
	switch w.Days {
	case everyDay:
		return "day"
	case 0b0111110:
		return "weekday"
	}
	var names []string
	for i := range weekdays {
		if day := (i + 1) % 7; w.Days>>day&1 != 0 { // the week begins on Monday
			names = append(names, weekdays[day])
		}
	}
	return strings.Join(names, ", ")
}
