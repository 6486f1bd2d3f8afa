package routine

import (
	"slices"
	"time"
)

// mostDays is how many days are looked through for the next time: whatever goes by a clock happens every month.
const mostDays = 70

// Next is the first time after a moment at which w is due in a place; false for what goes by no clock.
func (w When) Next(after time.Time, zone *time.Location) (time.Time, bool) {
	if w.Kind == Attached || w.Kind == Older {
		return time.Time{}, false
	}
	local := after.In(zone)
	// One day back: where a day's clock was put forward, its last times come after midnight.
	day := civil{local.Year(), local.Month(), local.Day() - 1}.normal()
	for range mostDays {
		if w.on(day) {
			for _, t := range w.of(day, zone) {
				if t.After(after) {
					return t, true
				}
			}
		}
		day = civil{day.year, day.month, day.day + 1}.normal()
	}
	return time.Time{}, false
}

// civil is a day by the calendar, wherever it is.
type civil struct {
	year  int
	month time.Month
	day   int
}

func (c civil) time(minute int) time.Time {
	return time.Date(c.year, c.month, c.day, 0, minute, 0, 0, time.UTC)
}

func (c civil) normal() civil {
	t := c.time(0)
	return civil{t.Year(), t.Month(), t.Day()}
}

// on says whether w is due on a day.
func (w When) on(day civil) bool {
	t := day.time(0)
	switch w.Kind {
	case Daily:
		return w.Days>>t.Weekday()&1 != 0
	case Monthly:
		last := civil{day.year, day.month + 1, 0}.normal().day
		switch {
		case w.Day == LastDay:
			return day.day == last
		case w.Day > 0:
			return day.day == min(w.Day, last)
		case w.Days>>t.Weekday()&1 == 0:
			return false
		case w.Nth == LastDay:
			return day.day+7 > last
		}
		return (day.day-1)/7+1 == w.Nth
	}
	return true
}

// of are the times of a day, ascending.
func (w When) of(day civil, zone *time.Location) (out []time.Time) {
	if w.Kind != Hourly {
		for _, m := range w.At {
			out = append(out, moment(day, m, zone))
		}
		slices.SortFunc(out, time.Time.Compare)
		return slices.CompactFunc(out, time.Time.Equal)
	}
	end := moment(civil{day.year, day.month, day.day + 1}, 0, zone)
	step := time.Duration(w.Every) * time.Hour
	for t := moment(day, 0, zone).Add(time.Duration(w.At[0]) * time.Minute); t.Before(end); t = t.Add(step) {
		out = append(out, t)
	}
	return out
}

// moment is when a minute of a day is in a place: the first time that its clocks show it; where they are put forward
// over it, the moment at which that is done.
func moment(day civil, minute int, zone *time.Location) time.Time {
	wall := day.time(minute)
	var best time.Time
	low, high := time.Time{}, time.Time{}
	for _, near := range []time.Duration{-26 * time.Hour, 26 * time.Hour} {
		_, offset := wall.Add(near).In(zone).Zone()
		t := wall.Add(-time.Duration(offset) * time.Second)
		if shown(t, zone).Equal(wall) && (best.IsZero() || t.Before(best)) {
			best = t
		}
		if low.IsZero() || t.Before(low) {
			low = t
		}
		if t.After(high) {
			high = t
		}
	}
	if !best.IsZero() {
		return best.In(zone)
	}
	for high.Sub(low) > time.Second { // the clocks show less at low, and more at high
		if mid := low.Add(high.Sub(low) / 2).Truncate(time.Second); shown(mid, zone).Before(wall) {
			low = mid
		} else {
			high = mid
		}
	}
	return high.In(zone)
}

// shown is what clocks in a place show at a moment, as if it were UTC.
func shown(t time.Time, zone *time.Location) time.Time {
	_, offset := t.In(zone).Zone()
	return t.UTC().Add(time.Duration(offset) * time.Second)
}
