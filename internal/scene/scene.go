// Package scene describes drawings: a list of shapes and texts in millimetres, x to the right and y down, from which
// SVG and
// the pages of a PDF are made alike. What a colour says a pattern says too, so that it can be printed in black.
package scene

import "math"

// Ink is a colour.
type Ink struct{ R, G, B uint8 }

// Inks that everything is drawn with.
var (
	Black  = Ink{0x14, 0x18, 0x20}
	Grey   = Ink{0x6A, 0x72, 0x80}
	Pale   = Ink{0xE8, 0xEB, 0xEF}
	White  = Ink{0xFF, 0xFF, 0xFF}
	Danger = Ink{0xA8, 0x0F, 0x14}
)

// Point is a place in millimetres.
type Point struct{ X, Y float64 }

// Shape is a line or an area. Without Fill or Line that isn't drawn.
type Shape struct {
	Points []Point
	Closed bool
	Fill   *Ink
	Line   *Ink
	Width  float64 // of the line, in millimetres
	// Dash are the lengths of the line's dashes and gaps in turn, in millimetres; none for a whole line.
	Dash []float64
}

// Side is where a text has its place.
type Side int

// The sides.
const (
	Left Side = iota
	Middle
	Right
)

// Text is a line of text. Size is its font's, in points; Y is its base line. One that is turned reads upwards, and X is
// its base line.
type Text struct {
	Point
	Size   float64
	Bold   bool
	Turned bool
	Side   Side
	Ink    Ink
	Words  string
}

// Scene is a drawing.
type Scene struct {
	W, H   float64 // in millimetres
	Title  string
	Shapes []Shape
	Texts  []Text
}

// Box adds a rectangle.
func (s *Scene) Box(x, y, w, h float64, fill, line *Ink, width float64) {
	s.Shapes = append(s.Shapes, Shape{Points: []Point{{x, y}, {x + w, y}, {x + w, y + h}, {x, y + h}}, Closed: true,
		Fill: fill, Line: line, Width: width})
}

// Stroke adds a line through points.
func (s *Scene) Stroke(line Ink, width float64, points ...Point) {
	s.Shapes = append(s.Shapes, Shape{Points: points, Line: &line, Width: width})
}

// Write adds a text, as Printable, Fit or Wrap gives it.
func (s *Scene) Write(x, y, size float64, bold bool, side Side, ink Ink, words string) {
	s.Texts = append(s.Texts, Text{Point: Point{x, y}, Size: size, Bold: bold, Side: side, Ink: ink, Words: words})
}

// Dashed adds a dashed line through points.
func (s *Scene) Dashed(line Ink, width float64, points ...Point) {
	s.Shapes = append(s.Shapes, Shape{Points: points, Line: &line, Width: width, Dash: []float64{1.6, 1.1}})
}

// mostLines is how many lines a hatch has at the most.
const mostLines = 2000

// Hatch adds lines at 45° over a rectangle, gap millimetres apart, rising (up) or falling.
func (s *Scene) Hatch(x, y, w, h, gap float64, up bool, ink Ink, width float64) {
	if w <= 0 || h <= 0 || gap <= 0 || (w+h)/gap > mostLines {
		return
	}
	for d := gap - math.Mod(h, gap); d < w+h; d += gap {
		x0, y0, x1, y1 := d, 0.0, 0.0, d
		if x0 > w {
			x0, y0 = w, d-w
		}
		if y1 > h {
			x1, y1 = d-h, h
		}
		if !up {
			x0, x1 = w-x0, w-x1
		}
		s.Stroke(ink, width, Point{x + x0, y + y0}, Point{x + x1, y + y1})
	}
}

// Rules adds level lines over a rectangle, gap millimetres apart.
func (s *Scene) Rules(x, y, w, h, gap float64, ink Ink, width float64) {
	if gap <= 0 || h/gap > mostLines {
		return
	}
	for d := gap; d < h; d += gap {
		s.Stroke(ink, width, Point{x, y + d}, Point{x + w, y + d})
	}
}

// Stack is a drawing of others, one below the other, under a title.
func Stack(title string, width float64, all ...*Scene) *Scene {
	s := &Scene{W: width, Title: title, H: 2}
	for _, l := range Wrap(title, 11, true, width) {
		s.Write(0, s.H+2.5, 11, true, Left, Black, l)
		s.H += 5
	}
	for _, o := range all {
		for _, p := range o.Shapes {
			q := p
			q.Points = make([]Point, len(p.Points))
			for i, at := range p.Points {
				q.Points[i] = Point{at.X, at.Y + s.H}
			}
			s.Shapes = append(s.Shapes, q)
		}
		for _, t := range o.Texts {
			t.Y += s.H
			s.Texts = append(s.Texts, t)
		}
		s.H += o.H + 3
	}
	return s
}
