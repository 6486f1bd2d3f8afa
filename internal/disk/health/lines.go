package health

import (
	"fmt"

	"twinshelf/internal/units"
)

// Line is a figure as people read it.
type Line struct {
	Name, Value string
	Level       Level // how bad the figure is
}

// Lines are all that the drive told, for a table.
func (r *Report) Lines() []Line {
	if !r.Told() {
		return nil
	}
	out := []Line{{Name: "answers as", Value: string(r.Standard)}}
	if r.Firmware != "" {
		out = append(out, Line{Name: "firmware", Value: r.Firmware})
	}
	for _, f := range shown {
		if n, told := r.Figures[f.figure]; told {
			l := Line{Name: f.name, Value: f.words(n), Level: Sound}
			if n >= f.least && f.level > 0 {
				l.Level = f.level
			}
			out = append(out, l)
		}
	}
	if t := r.SelfTest; t != nil {
		l := Line{"last self-test", t.sentence(r.Figures[Hours])[len("its last self-test "):], Sound}
		if !t.Passed {
			l.Level = Failing
		}
		out = append(out, l)
	}
	for _, a := range r.Alarms {
		out = append(out, Line{"it says", a, Failing})
	}
	for _, c := range r.Cautions {
		out = append(out, Line{"it says", c, Watch})
	}
	if r.Zones != "" {
		out = append(out, Line{"zones", r.Zones, Sound})
	}
	trim := "no"
	if r.Trims {
		trim = "yes"
	}
	return append(out, Line{"can be told what is free (TRIM)", trim, Sound})
}

func count(n int64) string   { return fmt.Sprint(n) }
func percent(n int64) string { return fmt.Sprintf("%d %%", n) }
func degrees(n int64) string { return fmt.Sprintf("%d °C", n) }

func hours(n int64) string {
	if n < 48 {
		return units.Plural(int(n), "hour")
	}
	return fmt.Sprintf("%d hours (%s)", n, units.Plural(int(n/24), "day"))
}

// speed is a rate of bits as the trade says it.
func speed(n int64) string {
	if n < 1_000_000_000 {
		return fmt.Sprintf("%d Mb/s", n/1_000_000)
	}
	return fmt.Sprintf("%.1f Gb/s", float64(n)/1e9)
}

// shown are the figures in the order in which a technician looks at them; from least on they are worth the level.
var shown = []struct {
	figure Figure
	name   string
	words  func(int64) string
	least  int64
	level  Level
}{
	{Pending, "pending sectors", count, 1, Failing},
	{Uncorrectable, "uncorrectable sectors", count, 1, Failing},
	{Reallocated, "reallocated sectors", count, 1, Watch},
	{MediaErrors, "uncorrected read errors", count, 1, Watch},
	{LinkErrors, "interface errors", count, 1, Watch},
	{Wear, "writes used up", percent, nearlyWorn, Watch},
	{Spare, "spare blocks left", percent, 0, 0},
	{SpareLeast, "spare blocks needed", percent, 0, 0},
	{Temperature, "temperature", degrees, hot, Watch},
	{Hottest, "temperature limit", degrees, 0, 0},
	{Hours, "switched on for", hours, 0, 0},
	{Starts, "starts", count, 0, 0},
	{UnsafeOffs, "switched off without warning", count, 0, 0},
	{BytesWritten, "written", units.Bytes, 0, 0},
	{BytesRead, "read", units.Bytes, 0, 0},
	{LinkNow, "interface speed", speed, 0, 0},
	{LinkBest, "interface speed possible", speed, 0, 0},
}
