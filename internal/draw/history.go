package draw

import (
	"fmt"
	"math"
	"slices"
	"time"

	"gonum.org/v1/plot"

	"twinshelf/internal/keeping"
	"twinshelf/internal/scene"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// Dates is the history of machines: their dates as they are on the shelf, what each brought, and what the rule would
// drop.
type Dates struct {
	Title    string
	Machines []keeping.MachinePreview
	// Kept are the IDs of twins that are kept for ever, Proven of those whose last proof holds.
	Kept, Proven map[string]bool
	Now          time.Time
}

const (
	datesLeft = 58.0 // where the time begins, in millimetres
	datesLine = 18.0 // how high a machine's bars are
	// mostListed is how many dates of a single machine are listed below the drawing.
	mostListed = 200
)

// History draws dates: a row for each machine, with a bar for each date. The bars are logarithmic, since the first date
// of a machine brings all of it and the later ones little.
func (d Dates) History() (*scene.Scene, error) {
	low, high, from, to := d.bounds()
	if from.IsZero() {
		return nil, ErrNoTwins
	}
	s := &scene.Scene{W: wide, Title: d.Title}
	s.Write(0, 5, 11, true, scene.Left, scene.Black, scene.Fit(d.Title, 11, true, wide))
	y := d.legend(s, 8, low, high)
	line := datesLine
	if len(d.Machines) == 1 {
		line *= 2
	}
	span := to.Sub(from).Seconds()
	at := func(t time.Time) float64 { return datesLeft + t.Sub(from).Seconds()/span*(wide-datesLeft-16) }
	top := y
	var rows []float64
	for range d.Machines {
		y += line + 7
		rows = append(rows, y)
	}
	d.axis(s, top, y+1, from, to, at)
	for i, m := range d.Machines {
		d.row(s, m, rows[i], line, low, high, at)
	}
	y += 8
	if len(d.Machines) == 1 {
		y = d.list(s, d.Machines[0], y+3)
	}
	s.H = y
	return s, nil
}

// bounds are the powers of ten between which all dates brought something, and the time that they cover.
func (d Dates) bounds() (low, high float64, from, to time.Time) {
	low, high = 1e18, 10
	for _, m := range d.Machines {
		for _, f := range m.Fates {
			n := float64(max(1, f.Twin.Added))
			low, high = min(low, n), max(high, n)
			if from.IsZero() || f.Twin.Taken.Before(from) {
				from = f.Twin.Taken
			}
			if f.Twin.Taken.After(to) {
				to = f.Twin.Taken
			}
		}
	}
	if d.Now.After(to) {
		to = d.Now
	}
	margin := max(to.Sub(from)/50, time.Hour)
	if from.IsZero() {
		return low, high, from, to
	}
	low, high = math.Floor(math.Log10(low)), math.Ceil(math.Log10(high))
	return min(low, high-1), high, from.Add(-margin), to.Add(margin)
}

// axis draws the time, as thin lines through all rows with dates below them.
func (d Dates) axis(s *scene.Scene, top, bottom float64, from, to time.Time, at func(time.Time) float64) {
	ticks := dayTicks{}.Ticks(float64(from.Unix()), float64(to.Unix()))
	slices.SortFunc(ticks, func(a, b plot.Tick) int { return int(a.Value - b.Value) })
	for _, t := range ticks {
		x := at(time.Unix(int64(t.Value), 0))
		s.Stroke(scene.Ink{R: 0xC8, G: 0xCC, B: 0xD2}, 0.15, scene.Point{X: x, Y: top}, scene.Point{X: x, Y: bottom +
			1})
		s.Write(x, bottom+4.6, 7.5, false, scene.Middle, scene.Black, t.Label)
	}
	if !d.Now.IsZero() {
		x := at(d.Now)
		s.Dashed(scene.Black, 0.3, scene.Point{X: x, Y: top}, scene.Point{X: x, Y: bottom + 1})
		s.Write(x+1, top+2.5, 7, false, scene.Left, scene.Grey, "now")
	}
}

// row draws a machine's dates over a base line.
func (d Dates) row(s *scene.Scene, m keeping.MachinePreview, y, line, low, high float64, at func(time.Time) float64) {
	s.Write(0, y-line/2, 8.5, true, scene.Left, scene.Black, scene.Fit(m.Machine, 8.5, true, datesLeft-3))
	rule := scene.Wrap(m.Rule, 7, false, datesLeft-3)
	for i, l := range rule[:min(len(rule), 3)] {
		s.Write(0, y-line/2+3.6+3*float64(i), 7, false, scene.Left, scene.Grey, l)
	}
	s.Stroke(scene.Black, 0.3, scene.Point{X: datesLeft, Y: y}, scene.Point{X: wide - 15, Y: y})
	for _, end := range []float64{low, high} {
		s.Write(wide, y-(end-low)/(high-low)*line+1, 6.5, false, scene.Right, scene.Grey,
			units.Bytes(int64(math.Pow(10, end))))
	}
	w := max(0.5, min(1.8, (wide-datesLeft-16)/float64(len(m.Fates)+1)*0.7))
	for _, f := range m.Fates {
		x := at(f.Twin.Taken)
		h := max(0.6, (math.Log10(float64(max(1, f.Twin.Added)))-low)/(high-low)*line)
		if f.Goes {
			s.Box(x-w/2, y-h, w, h, &scene.White, &scene.Danger, 0.3)
			cross(s, x, y+2.2)
			continue
		}
		tint := scene.Ink{R: 0x4C, G: 0x86, B: 0xB8}
		s.Box(x-w/2, y-h, w, h, &tint, &scene.Black, 0.15)
		if d.Kept[f.Twin.ID] {
			diamond(s, x, y+2.2)
		}
		if d.Proven[f.Twin.ID] {
			tick(s, x, y-h-1.4)
		}
		if !f.Twin.Quiet() || f.Twin.Missing() > 0 {
			hollow(s, x, y-h-4)
		}
	}
}

func cross(s *scene.Scene, x, y float64) {
	s.Stroke(scene.Danger, 0.5, scene.Point{X: x - 1, Y: y - 1}, scene.Point{X: x + 1, Y: y + 1})
	s.Stroke(scene.Danger, 0.5, scene.Point{X: x - 1, Y: y + 1}, scene.Point{X: x + 1, Y: y - 1})
}

func diamond(s *scene.Scene, x, y float64) {
	s.Shapes = append(s.Shapes, scene.Shape{Points: []scene.Point{{X: x, Y: y - 1.3}, {X: x + 1.3, Y: y},
		{X: x, Y: y + 1.3}, {X: x - 1.3, Y: y}}, Closed: true, Fill: &scene.Black})
}

func tick(s *scene.Scene, x, y float64) {
	s.Stroke(scene.Black, 0.45, scene.Point{X: x - 1, Y: y - 0.4}, scene.Point{X: x - 0.3, Y: y + 0.5},
		scene.Point{X: x + 1.1, Y: y - 1.2})
}

// hollow is an open triangle.
func hollow(s *scene.Scene, x, y float64) {
	s.Shapes = append(s.Shapes, scene.Shape{Points: []scene.Point{{X: x, Y: y - 0.9}, {X: x + 1.1, Y: y + 0.9},
		{X: x - 1.1, Y: y + 0.9}}, Closed: true, Line: &scene.Danger, Width: 0.35})
}

// legend says what the marks mean, and what the bars measure.
func (d Dates) legend(s *scene.Scene, y, low, high float64) float64 {
	x := 0.0
	for _, l := range []struct {
		draw  func(*scene.Scene, float64, float64)
		words string
	}{{tick, "proven, and right"}, {diamond, "kept for ever"}, {cross, "goes when the rule is applied"},
		{hollow, "not quiet, or not all of it could be read"}} {
		l.draw(s, x+1.5, y+1.4)
		s.Write(x+4, y+2.6, 7.5, false, scene.Left, scene.Black, l.words)
		x += 9 + scene.Width(l.words, 7.5, false)
	}
	words := fmt.Sprintf("Each bar is what a date added to the shelf, on a logarithmic scale from %s to %s.",
		units.Bytes(int64(math.Pow(10, low))), units.Bytes(int64(math.Pow(10, high))))
	s.Write(0, y+7, 7.5, false, scene.Left, scene.Grey, scene.Fit(words, 7.5, false, wide))
	return y + 9
}

// list is what the drawing of one machine shows, as text.
func (d Dates) list(s *scene.Scene, m keeping.MachinePreview, y float64) float64 {
	const lineHigh, whenWide, addedWide = 3.8, 40.0, 70.0
	for i, f := range m.Fates {
		if i == mostListed {
			s.Write(0, y+3, 7.5, false, scene.Left, scene.Grey, fmt.Sprintf("and %d older ones", len(m.Fates)-i))
			return y + lineHigh + 2
		}
		ink, why := scene.Black, "stays: "+f.Why
		if f.Goes {
			ink, why = scene.Danger, "goes: "+f.Why
		}
		s.Write(0, y+3, 7.5, false, scene.Left, ink, units.Moment(f.Twin.Taken))
		s.Write(addedWide, y+3, 7.5, false, scene.Right, ink, "+"+units.Bytes(f.Twin.Added))
		s.Write(addedWide+4, y+3, 7.5, false, scene.Left, ink, scene.Fit(why+d.marks(f.Twin), 7.5, false,
			wide-addedWide-4))
		y += lineHigh
	}
	return y + 2
}

// marks are a twin's marks in words.
func (d Dates) marks(t *shelf.Twin) string {
	words := ""
	if d.Proven[t.ID] {
		words += "; proven"
	}
	if !t.Quiet() {
		words += "; not quiet"
	}
	if n := t.Missing(); n > 0 {
		words += "; " + units.Bytes(n) + " couldn't be read"
	}
	return words
}
