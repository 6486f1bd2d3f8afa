// Package draw makes the drawings that aren't a layout of disks: how a shelf grows, its history, how fast a work went,
// where everything on a disk lies, and what differs between two dates. Each is a scene, of which SVG and PDF are made;
// the axes of the plots are gonum's.
package draw

import (
	"errors"
	"image/color"
	"slices"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"

	"twinshelf/internal/keeping"
	"twinshelf/internal/scene"
	"twinshelf/internal/shelf"
)

// strokes tell the machines apart also without colour.
var strokes = [][]vg.Length{nil, {vg.Points(6), vg.Points(3)}, {vg.Points(2), vg.Points(2)},
	{vg.Points(8), vg.Points(3), vg.Points(2), vg.Points(3)}}

var inks = []color.Color{color.RGBA{0x1F, 0x5A, 0x8A, 0xFF}, color.RGBA{0xA8, 0x4B, 0x00, 0xFF},
	color.RGBA{0x2E, 0x6F, 0x40, 0xFF}, color.RGBA{0x6B, 0x3F, 0x85, 0xFF}}

const (
	wide = 250.0 // millimetres
	high = 140.0
	// mostLines is how many machines get a line of their own.
	mostLines = 12
)

// ErrNoTwins means that there is nothing on the shelf to be drawn.
var ErrNoTwins = errors.New("there are no twins yet, so there is nothing to draw")

// Growth draws how a shelf grew: what all twins up to a date brought, in bytes, and the same for each machine; from now
// on dashed, at the pace so far, up to where the shelf is full.
func Growth(title string, twins []*shelf.Twin, ahead keeping.Foresight, now time.Time) (*scene.Scene, error) {
	if len(twins) == 0 {
		return nil, ErrNoTwins
	}
	p, err := chart()
	if err != nil {
		return nil, err
	}
	p.Y.Label.Text, p.Y.Min = "stored by twins, in bytes", 0
	p.X.Label.Text = "date"
	p.X.Tick.Marker, p.Y.Tick.Marker = dayTicks{}, byteTicks{}
	p.Add(plotter.NewGrid())
	lines := series(twins, now)
	var keys []key
	for i, l := range lines {
		line, err := plotter.NewLine(l.points)
		if err != nil {
			return nil, err
		}
		line.StepStyle = plotter.PostStep
		line.Color, line.Dashes, line.Width = inks[i%len(inks)], strokes[i/len(inks)%len(strokes)], vg.Points(1.2)
		if i == 0 {
			line.Color, line.Width = color.Black, vg.Points(2)
		}
		p.Add(line)
		keys = append(keys, lineKey(line, l.name))
	}
	all := lines[0].points
	more, err := addAhead(p, all[0].X, all[len(all)-1], ahead)
	if err != nil {
		return nil, err
	}
	return plotted(p, title+": "+ahead.Words(), append(keys, more...)), nil
}

// addAhead goes on from the last point at the pace so far: up to where the shelf is full, or for half as long again.
func addAhead(p *plot.Plot, first float64, last plotter.XY, f keeping.Foresight) (keys []key, err error) {
	if f.PerWeek <= 0 {
		return nil, nil
	}
	const week = 7 * 24 * 3600
	until := last.X + max((last.X-first)/2, week)
	full := last.Y + float64(f.Free)
	// A shelf that is full in a far future is no part of the drawing.
	if at := float64(f.Full.Unix()); !f.Full.IsZero() && at < last.X+2*max(last.X-first, week) {
		until = max(at, last.X)
		line, err := plotter.NewLine(plotter.XYs{{X: first, Y: full}, {X: until, Y: full}})
		if err != nil {
			return nil, err
		}
		line.Color, line.Width = color.RGBA{scene.Danger.R, scene.Danger.G, scene.Danger.B, 0xFF}, vg.Points(1.6)
		p.Add(line)
		keys = append(keys, lineKey(line, "full, about "+f.Full.Format("January 2006")))
	}
	line, err := plotter.NewLine(plotter.XYs{last, {X: until, Y: last.Y + f.PerWeek*(until-last.X)/week}})
	if err != nil {
		return nil, err
	}
	line.Dashes, line.Width = []vg.Length{vg.Points(4), vg.Points(4)}, vg.Points(2)
	p.Add(line)
	return append(keys, lineKey(line, "all machines from now on, at the pace so far")), nil
}

type lineOf struct {
	name   string
	points plotter.XYs
}

// series sums up what twins brought, over all machines and for each, the largest first; every line reaches now.
func series(twins []*shelf.Twin, now time.Time) []lineOf {
	twins = slices.Clone(twins)
	slices.SortFunc(twins, func(a, b *shelf.Twin) int { return a.Taken.Compare(b.Taken) })
	all := lineOf{name: "all machines"}
	mine := map[string]*lineOf{}
	total := 0.0
	for _, t := range twins {
		x := float64(t.Taken.Unix())
		total += float64(t.Added)
		all.points = append(all.points, plotter.XY{X: x, Y: total})
		l := mine[t.Machine]
		if l == nil {
			l = &lineOf{name: t.Machine}
			mine[t.Machine] = l
		}
		last := 0.0
		if n := len(l.points); n > 0 {
			last = l.points[n-1].Y
		}
		l.points = append(l.points, plotter.XY{X: x, Y: last + float64(t.Added)})
	}
	var machines []lineOf
	for _, l := range mine {
		machines = append(machines, *l)
	}
	slices.SortFunc(machines, func(a, b lineOf) int {
		if d := b.points[len(b.points)-1].Y - a.points[len(a.points)-1].Y; d != 0 {
			return int(max(-1, min(1, d)))
		}
		return strings.Compare(a.name, b.name)
	})
	end := max(float64(now.Unix()), all.points[len(all.points)-1].X+3600)
	out := append([]lineOf{all}, machines[:min(len(machines), mostLines)]...)
	for i := range out {
		n := len(out[i].points)
		out[i].points = append(out[i].points, plotter.XY{X: end, Y: out[i].points[n-1].Y})
	}
	return out
}
