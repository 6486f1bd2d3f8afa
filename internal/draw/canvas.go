package draw

import (
	"fmt"
	"image"
	"image/color"
	"math"

	"golang.org/x/image/font/opentype"
	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	vgdraw "gonum.org/v1/plot/vg/draw"

	"twinshelf/internal/scene"
)

// perPoint is how many millimetres a point has.
const perPoint = 25.4 / 72

// canvas lets the plotting library draw into a scene. Its own origin is at the bottom left, in points.
type canvas struct {
	to  *scene.Scene
	now pen
	was []pen
}

// pen is how the next thing is drawn: a matrix of six numbers takes points of the caller to those of the page.
type pen struct {
	width vg.Length
	dash  []vg.Length
	ink   scene.Ink
	clear bool // it draws nothing
	m     [6]float64
}

func newCanvas(to *scene.Scene) *canvas {
	return &canvas{to: to, now: pen{width: 1, ink: scene.Black, m: [6]float64{1, 0, 0, 1, 0, 0}}}
}

func (c *canvas) Size() (x, y vg.Length) { return points(c.to.W), points(c.to.H) }

// points is a length of the library for millimetres.
func points(mm float64) vg.Length { return vg.Length(mm / perPoint) }

func (c *canvas) SetLineWidth(w vg.Length) { c.now.width = w }

func (c *canvas) SetLineDash(pattern []vg.Length, _ vg.Length) { c.now.dash = pattern }

func (c *canvas) SetColor(to color.Color) {
	if to == nil {
		to = color.Black
	}
	n := color.NRGBAModel.Convert(to).(color.NRGBA)
	c.now.ink, c.now.clear = scene.Ink{R: n.R, G: n.G, B: n.B}, n.A == 0
}

func (c *canvas) Push() { c.was = append(c.was, c.now) }

func (c *canvas) Pop() {
	if n := len(c.was); n > 0 {
		c.now, c.was = c.was[n-1], c.was[:n-1]
	}
}

func (c *canvas) Rotate(rad float64) {
	sin, cos := math.Sincos(rad)
	m := c.now.m
	c.now.m = [6]float64{m[0]*cos + m[2]*sin, m[1]*cos + m[3]*sin, m[2]*cos - m[0]*sin, m[3]*cos - m[1]*sin, m[4], m[5]}
}

func (c *canvas) Translate(by vg.Point) {
	m := c.now.m
	c.now.m[4] += m[0]*float64(by.X) + m[2]*float64(by.Y)
	c.now.m[5] += m[1]*float64(by.X) + m[3]*float64(by.Y)
}

func (c *canvas) Scale(x, y float64) {
	m := c.now.m
	c.now.m = [6]float64{m[0] * x, m[1] * x, m[2] * y, m[3] * y, m[4], m[5]}
}

// place is where a point of the library lies in the scene, in millimetres.
func (c *canvas) place(p vg.Point) scene.Point {
	x, y, m := float64(p.X), float64(p.Y), c.now.m
	return scene.Point{X: (m[0]*x + m[2]*y + m[4]) * perPoint, Y: c.to.H - (m[1]*x+m[3]*y+m[5])*perPoint}
}

func (c *canvas) Stroke(p vg.Path) {
	if c.now.width <= 0 || c.now.clear {
		return
	}
	var dash []float64
	for _, d := range c.now.dash {
		dash = append(dash, float64(d)*perPoint)
	}
	ink := c.now.ink
	for _, s := range c.outlines(p) {
		s.Line, s.Width, s.Dash = &ink, float64(c.now.width)*perPoint, dash
		c.to.Shapes = append(c.to.Shapes, s)
	}
}

func (c *canvas) Fill(p vg.Path) {
	if c.now.clear {
		return
	}
	ink := c.now.ink
	for _, s := range c.outlines(p) {
		s.Fill, s.Closed = &ink, true
		c.to.Shapes = append(c.to.Shapes, s)
	}
}

// outlines are a path in straight pieces.
func (c *canvas) outlines(p vg.Path) []scene.Shape {
	const corners = 16 // of an arc
	var out []scene.Shape
	var s scene.Shape
	end := func() {
		if len(s.Points) > 1 {
			out = append(out, s)
		}
		s = scene.Shape{}
	}
	for _, q := range p {
		switch q.Type {
		case vg.MoveComp:
			end()
			s.Points = append(s.Points, c.place(q.Pos))
		case vg.LineComp, vg.CurveComp: // nothing here is drawn with curves: their ends stand for them
			s.Points = append(s.Points, c.place(q.Pos))
		case vg.ArcComp:
			for i := range corners + 1 {
				sin, cos := math.Sincos(q.Start + q.Angle*float64(i)/corners)
				s.Points = append(s.Points, c.place(vg.Point{X: q.Pos.X + q.Radius*vg.Length(cos),
					Y: q.Pos.Y + q.Radius*vg.Length(sin)}))
			}
		case vg.CloseComp:
			s.Closed = true
			end()
		}
	}
	end()
	return out
}

// FillString writes a text; one that is turned can only read upwards.
func (c *canvas) FillString(f font.Face, at vg.Point, words string) {
	p := c.place(at)
	c.to.Texts = append(c.to.Texts, scene.Text{Point: p, Size: float64(f.Font.Size), Ink: c.now.ink,
		Turned: c.now.m[1] > 0.5, Words: scene.Printable(words)})
}

// DrawImage isn't used by any of the drawings.
func (c *canvas) DrawImage(vg.Rectangle, image.Image) {}

// chart is an empty plot that is measured in the fonts of the scenes.
func chart() (*plot.Plot, error) {
	regular, _ := scene.Fonts()
	face, err := opentype.Parse(regular)
	if err != nil {
		return nil, fmt.Errorf("the font of the drawings can't be read: %w", err)
	}
	plain := font.Font{Typeface: "scene"}
	fonts := text.Plain{Fonts: font.NewCache(font.Collection{{Font: plain, Face: face}})}
	p := plot.New()
	p.TextHandler = fonts
	grey := color.NRGBA{scene.Grey.R, scene.Grey.G, scene.Grey.B, 0xFF}
	for _, s := range []struct {
		at   *text.Style
		size vg.Length
	}{{&p.Title.TextStyle, 11}, {&p.X.Label.TextStyle, 8}, {&p.Y.Label.TextStyle, 8}, {&p.X.Tick.Label, 7.5},
		{&p.Y.Tick.Label, 7.5}} {
		s.at.Handler, s.at.Font = fonts, plain
		s.at.Font.Size = s.size
	}
	p.X.Padding, p.Y.Padding = 4, 4
	p.X.LineStyle.Color, p.Y.LineStyle.Color = grey, grey
	p.X.Tick.LineStyle.Color, p.Y.Tick.LineStyle.Color = grey, grey
	return p, nil
}

// key is an entry of a legend: how something is drawn, and what it is.
type key struct {
	draw  func(s *scene.Scene, x, y float64) // 7 mm wide, 3 mm high
	words string
}

// lineKey is how a line is drawn.
func lineKey(l *plotter.Line, words string) key {
	return key{func(s *scene.Scene, x, y float64) {
		c := newCanvas(s)
		c.SetColor(l.Color)
		c.SetLineWidth(l.Width)
		c.SetLineDash(l.Dashes, 0)
		at := points(s.H - y - 1.5)
		c.Stroke(vg.Path{{Type: vg.MoveComp, Pos: vg.Point{X: points(x), Y: at}},
			{Type: vg.LineComp, Pos: vg.Point{X: points(x + 7), Y: at}}})
	}, words}
}

// plotted is a plot as a scene of a size in millimetres, under a title and above a legend.
func plotted(p *plot.Plot, title string, keys []key) *scene.Scene {
	s := &scene.Scene{W: wide, H: high}
	p.BackgroundColor = color.Transparent
	p.Draw(vgdraw.NewCanvas(newCanvas(s), points(wide), points(high)))
	s = scene.Stack(title, wide, s)
	x := 0.0
	s.H += 5
	for _, k := range keys {
		words := scene.Fit(k.words, 7.5, false, wide-10)
		w := scene.Width(words, 7.5, false) + 14
		if x > 0 && x+w > wide {
			x = 0
			s.H += 4.6
		}
		k.draw(s, x, s.H-4)
		s.Write(x+8.5, s.H-1.4, 7.5, false, scene.Left, scene.Black, words)
		x += w
	}
	s.H += 1
	return s
}
