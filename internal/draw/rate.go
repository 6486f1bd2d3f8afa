package draw

import (
	"errors"
	"image/color"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	vgdraw "gonum.org/v1/plot/vg/draw"

	"twinshelf/internal/job"
	"twinshelf/internal/scene"
	"twinshelf/internal/units"
)

// ErrNoPace means that no rate of a work is on record.
var ErrNoPace = errors.New("no rate is on record: the work was over too soon, or is older than these records")

// Rate draws how fast a work went: the rate over time, where its phases began, pauses, unreadable places, and when it
// was expected to end. took and expected are in seconds; expected is 0 where nothing was.
func Rate(title string, pace *job.Pace, took, expected float64) (*scene.Scene, error) {
	if pace == nil || len(pace.Samples) == 0 {
		return nil, ErrNoPace
	}
	p, err := chart()
	if err != nil {
		return nil, err
	}
	p.X.Label.Text, p.Y.Label.Text = "time since the beginning (hours:minutes:seconds)", "bytes per second"
	p.X.Tick.Marker, p.Y.Tick.Marker = lengthTicks{}, byteTicks{"/s"}
	p.X.Min, p.Y.Min = 0, 0
	p.X.Max = max(took, expected, pace.Samples[len(pace.Samples)-1].At)
	for _, s := range pace.Samples {
		p.Y.Max = max(p.Y.Max, s.Rate)
	}
	p.Y.Max = max(p.Y.Max*1.25, 1) // room for the names of the phases
	p.Add(plotter.NewGrid())
	keys, err := addPauses(p, pace, took)
	if err != nil {
		return nil, err
	}
	l, err := plotter.NewLine(rateLine(pace))
	if err != nil {
		return nil, err
	}
	l.Color, l.Width = inks[0], vg.Points(1.6)
	p.Add(l)
	keys = append(keys, lineKey(l, "rate"))
	if expected > 0 {
		e, err := upright(expected, p.Y.Max, color.Black, 1.4, 5)
		if err != nil {
			return nil, err
		}
		p.Add(e)
		keys = append(keys, lineKey(e,
			"expected end, after "+units.Duration(time.Duration(expected*float64(time.Second)))))
	}
	missed, err := addMisses(p, pace)
	if err != nil {
		return nil, err
	}
	if err := addPhases(p, pace); err != nil {
		return nil, err
	}
	return plotted(p, title, append(keys, missed...)), nil
}

// rateLine is the rate over time; in a pause it is 0.
func rateLine(pace *job.Pace) plotter.XYs {
	line := plotter.XYs{{Y: pace.Samples[0].Rate}} // a sample is the rate up to its moment
	pauses := pace.Pauses
	for _, s := range pace.Samples {
		for len(pauses) > 0 && pauses[0].From < s.At && pauses[0].To > 0 {
			last := line[len(line)-1].Y
			line = append(line, plotter.XY{X: pauses[0].From, Y: last}, plotter.XY{X: pauses[0].From},
				plotter.XY{X: pauses[0].To}, plotter.XY{X: pauses[0].To, Y: s.Rate})
			pauses = pauses[1:]
		}
		line = append(line, plotter.XY{X: s.At, Y: s.Rate})
	}
	return line
}

// upright is a line from the bottom to the top.
func upright(x, most float64, ink color.Color, wide, dash vg.Length) (*plotter.Line, error) {
	l, err := plotter.NewLine(plotter.XYs{{X: x}, {X: x, Y: most}})
	if err != nil {
		return nil, err
	}
	l.Color, l.Width, l.Dashes = ink, vg.Points(float64(wide)), []vg.Length{dash, dash * 0.7}
	return l, nil
}

// addPauses shades the time in which the work was paused.
func addPauses(p *plot.Plot, pace *job.Pace, took float64) (keys []key, err error) {
	for i, x := range pace.Pauses {
		to := x.To
		if to == 0 {
			to = max(took, x.From)
		}
		band, err := plotter.NewPolygon(plotter.XYs{{X: x.From}, {X: to}, {X: to, Y: p.Y.Max}, {X: x.From, Y: p.Y.Max}})
		if err != nil {
			return nil, err
		}
		band.Color = color.RGBA{scene.Pale.R, scene.Pale.G, scene.Pale.B, 0xFF}
		band.LineStyle.Width = vg.Points(0.5)
		p.Add(band)
		if i == 0 {
			keys = append(keys, key{func(s *scene.Scene, x, y float64) {
				s.Box(x, y, 7, 3, &scene.Pale, &scene.Black, 0.2)
			}, "paused"})
		}
	}
	return keys, nil
}

// addMisses marks when something couldn't be read or written.
func addMisses(p *plot.Plot, pace *job.Pace) ([]key, error) {
	if len(pace.Missed) == 0 {
		return nil, nil
	}
	var at plotter.XYs
	sum := int64(0)
	for _, m := range pace.Missed {
		at = append(at, plotter.XY{X: m.At, Y: p.Y.Max * 0.02})
		sum += m.Bytes
	}
	marks, err := plotter.NewScatter(at)
	if err != nil {
		return nil, err
	}
	marks.GlyphStyle = vgdraw.GlyphStyle{Radius: vg.Points(3.5), Shape: crossGlyph{},
		Color: color.RGBA{scene.Danger.R, scene.Danger.G, scene.Danger.B, 0xFF}}
	p.Add(marks)
	return []key{{func(s *scene.Scene, x, y float64) { cross(s, x+3.5, y+1.5) },
		"couldn't be read or written at first: " + units.Bytes(sum)}}, nil
}

// crossGlyph is a mark that is seen from afar.
type crossGlyph struct{}

func (crossGlyph) DrawGlyph(c *vgdraw.Canvas, g vgdraw.GlyphStyle, at vg.Point) {
	c.SetLineWidth(vg.Points(1.6))
	c.SetLineDash(nil, 0)
	r := g.Radius
	c.Stroke(vg.Path{{Type: vg.MoveComp, Pos: vg.Point{X: at.X - r, Y: at.Y - r}},
		{Type: vg.LineComp, Pos: vg.Point{X: at.X + r, Y: at.Y + r}}})
	c.Stroke(vg.Path{{Type: vg.MoveComp, Pos: vg.Point{X: at.X - r, Y: at.Y + r}},
		{Type: vg.LineComp, Pos: vg.Point{X: at.X + r, Y: at.Y - r}}})
}

// addPhases names the phases where they began; names that would lie on each other go below each other.
func addPhases(p *plot.Plot, pace *job.Pace) error {
	var names plotter.XYLabels
	level, last := 0, -1.0
	for _, x := range pace.Phases {
		l, err := upright(x.At, p.Y.Max, color.Gray{0x6A}, 0.6, 2)
		if err != nil {
			return err
		}
		p.Add(l)
		if level++; last < 0 || x.At-last > p.X.Max/4 {
			level = 0
		}
		last = x.At
		names.XYs = append(names.XYs, plotter.XY{X: x.At, Y: p.Y.Max * (0.96 - 0.045*float64(level%5))})
		names.Labels = append(names.Labels, scene.Fit(x.Phase, 7.5, false, 70))
	}
	labels, err := plotter.NewLabels(names)
	if err != nil {
		return err
	}
	for i := range labels.TextStyle {
		labels.TextStyle[i].Handler, labels.TextStyle[i].Font = p.TextHandler, p.X.Tick.Label.Font
	}
	labels.Offset.X = vg.Points(3)
	p.Add(labels)
	return nil
}
