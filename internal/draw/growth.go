// Package draw makes charts as files: SVG and PDF. The plotting is gonum's; nothing is calculated here but
// what the axes show.
package draw

import (
	"fmt"
	"image/color"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"

	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// strokes tell the machines apart also without colour.
var strokes = [][]vg.Length{nil, {vg.Points(6), vg.Points(3)}, {vg.Points(2), vg.Points(2)},
	{vg.Points(8), vg.Points(3), vg.Points(2), vg.Points(3)}}

var inks = []color.Color{color.RGBA{0x1F, 0x5A, 0x8A, 0xFF}, color.RGBA{0xA8, 0x4B, 0x00, 0xFF},
	color.RGBA{0x2E, 0x6F, 0x40, 0xFF}, color.RGBA{0x6B, 0x3F, 0x85, 0xFF}}

const (
	wide = 24 * vg.Centimeter
	high = 13 * vg.Centimeter
	// mostLines is how many machines get a line of their own.
	mostLines = 12
)

// Growth writes a chart of how the shelf grew: what all twins up to a date brought, in bytes, and the same
// for each machine. file ends in .svg or .pdf. An existing file is replaced.
func Growth(file, title string, twins []*shelf.Twin) error {
	if ext := strings.ToLower(filepath.Ext(file)); ext != ".svg" && ext != ".pdf" {
		return fmt.Errorf("%s: a chart is written as .svg or .pdf", file)
	}
	if len(twins) == 0 {
		return fmt.Errorf("there are no twins yet, so there is nothing to draw")
	}
	p := plot.New()
	p.Title.Text = title
	p.Y.Label.Text = "stored by twins"
	p.Y.Min = 0
	p.X.Tick.Marker = plot.TimeTicks{Format: "2006-01-02", Time: func(t float64) time.Time {
		return time.Unix(int64(t), 0)
	}}
	p.Y.Tick.Marker = byteTicks{}
	p.Legend.Top, p.Legend.Left = true, true
	p.Add(plotter.NewGrid())
	lines := series(twins)
	for i, l := range lines {
		line, err := plotter.NewLine(l.points)
		if err != nil {
			return err
		}
		line.StepStyle = plotter.PostStep
		line.Color, line.Dashes, line.Width = inks[i%len(inks)], strokes[i/len(inks)%len(strokes)], vg.Points(1.2)
		if i == 0 {
			line.Color, line.Width = color.Black, vg.Points(2)
		}
		p.Add(line)
		p.Legend.Add(l.name, line)
	}
	if err := p.Save(wide, high, file); err != nil {
		return fmt.Errorf("the chart can't be written: %w", err)
	}
	return nil
}

type lineOf struct {
	name   string
	points plotter.XYs
}

// series sums up what twins brought, over all machines and for each, the largest first.
func series(twins []*shelf.Twin) []lineOf {
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
	end := all.points[len(all.points)-1].X
	out := append([]lineOf{all}, machines[:min(len(machines), mostLines)]...)
	for i := range out { // every line reaches the right end, and one date alone is still seen
		n := len(out[i].points)
		out[i].points = append(out[i].points, plotter.XY{X: end + 24*3600, Y: out[i].points[n-1].Y})
	}
	return out
}

// byteTicks label an axis in bytes.
type byteTicks struct{}

func (byteTicks) Ticks(low, high float64) []plot.Tick {
	ticks := plot.DefaultTicks{}.Ticks(low, high)
	for i := range ticks {
		if ticks[i].Label != "" {
			ticks[i].Label = units.Bytes(int64(ticks[i].Value))
		}
	}
	return ticks
}
