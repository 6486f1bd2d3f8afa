package draw

import (
	"fmt"
	"math"
	"time"

	"gonum.org/v1/plot"

	"twinshelf/internal/units"
)

// mostTicks is how many marks with words an axis has at the most.
const mostTicks = 7

// byteTicks mark an axis at round amounts of bytes; each carries a word after the amount, such as "/s".
type byteTicks struct{ per string }

func (b byteTicks) Ticks(low, high float64) []plot.Tick {
	step := 1.0
	for range 60 { // up to more bytes than there are
		if (high-low)/step <= mostTicks {
			break
		}
		switch math.Round(step / math.Pow(10, math.Floor(math.Log10(step)+1e-9))) {
		case 2:
			step *= 2.5
		default:
			step *= 2
		}
	}
	var out []plot.Tick
	for i := 0; i <= mostTicks+1; i++ {
		v := (math.Ceil(low/step) + float64(i)) * step
		if v > high {
			break
		}
		out = append(out, plot.Tick{Value: v, Label: units.Bytes(int64(v)) + b.per})
	}
	return out
}

// dayTicks mark an axis of seconds since 1970 at the beginnings of days, months or years.
type dayTicks struct{}

// calendar are the steps of an axis of dates: so many years, months or days, or a share of a day.
var calendar = []struct {
	years, months, days int
	hours               time.Duration
	form                string
}{{hours: time.Hour, form: "15:04"}, {hours: 3 * time.Hour, form: "2 Jan 15:04"},
	{hours: 6 * time.Hour, form: "2 Jan 15:04"}, {days: 1, form: "2 Jan"},
	{days: 2, form: "2 Jan"}, {days: 7, form: "2 Jan"}, {days: 14, form: "2 Jan 2006"}, {months: 1, form: "Jan 2006"},
	{months: 3, form: "Jan 2006"}, {months: 6, form: "Jan 2006"}, {years: 1, form: "2006"}, {years: 2, form: "2006"},
	{years: 5, form: "2006"}, {years: 10, form: "2006"}, {years: 50, form: "2006"}, {years: 500, form: "2006"}}

func (dayTicks) Ticks(low, high float64) []plot.Tick {
	from, to := time.Unix(int64(low), 0), time.Unix(int64(high), 0)
	day := time.Date(from.Year(), from.Month(), from.Day(), 0, 0, 0, 0, from.Location())
	var out []plot.Tick
	for _, c := range calendar {
		at := day
		switch {
		case c.years > 0:
			at = time.Date(from.Year()/c.years*c.years, 1, 1, 0, 0, 0, 0, from.Location())
		case c.months > 0:
			at = time.Date(from.Year(), (from.Month()-1)/time.Month(c.months)*time.Month(c.months)+1, 1, 0, 0, 0, 0,
				from.Location())
		}
		out = out[:0]
		for !at.After(to) && len(out) <= mostTicks {
			if !at.Before(from) {
				out = append(out, plot.Tick{Value: float64(at.Unix()), Label: at.Format(c.form)})
			}
			at = at.AddDate(c.years, c.months, c.days).Add(c.hours)
			if at.Before(from) && c.hours > 0 { // the hours before the first date of its day
				at = from.Truncate(c.hours)
			}
		}
		if len(out) <= mostTicks {
			break
		}
	}
	return out
}

// lengthTicks mark an axis of seconds since a beginning.
type lengthTicks struct{}

func (lengthTicks) Ticks(low, high float64) []plot.Tick {
	steps := []float64{1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 4 * 3600, 12 * 3600, 24 * 3600,
		7 * 24 * 3600, 30 * 24 * 3600, 365 * 24 * 3600}
	step := steps[0]
	for _, s := range steps {
		if step = s; (high-low)/s <= mostTicks {
			break
		}
	}
	var out []plot.Tick
	for i := 0; i <= mostTicks; i++ {
		v := (math.Ceil(low/step) + float64(i)) * step
		if v > high {
			break
		}
		n := int(v)
		out = append(out, plot.Tick{Value: v, Label: fmt.Sprintf("%d:%02d:%02d", n/3600, n/60%60, n%60)})
	}
	return out
}
