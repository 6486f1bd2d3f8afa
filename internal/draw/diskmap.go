package draw

import (
	"fmt"

	"twinshelf/internal/scene"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Stretch is what a stretch of a disk is.
type Stretch int

// What a stretch may be; a later one hides an earlier one where both lie in one cell.
const (
	NoPart Stretch = iota // between the parts
	Free
	LeftOut // of the twin
	Unknown // the use of it isn't known
	Used
	Missing // couldn't be read
	Chosen  // the file that was asked for
	stretches
)

var stretchWords = [stretches]string{"in no part", "free", "left out", "use unknown", "used", "couldn't be read",
	"the file"}

// Map is where everything on a disk lies. Spans are in bytes of the disk.
type Map struct {
	Title string
	Size  int64
	Parts []scene.Part
	// File is the name of the chosen file; empty for none.
	File string

	cells [mapRows * mapColumns][stretches]int64
	total [stretches]int64
	whole [stretches]int // how many stretches of each kind there are
}

const (
	mapRows    = 40
	mapColumns = 100
	cellWide   = 2.2 // millimetres
	cellHigh   = 2.6
	mapLeft    = 22.0 // where the cells begin
)

// Add says that a stretch of the disk is something.
func (m *Map) Add(sp span.Span, what Stretch) {
	if sp = sp.Intersect(span.Span{End: m.Size}); sp.Empty() {
		return
	}
	m.total[what] += sp.Len()
	m.whole[what]++
	for i := m.cell(sp.Start); i <= m.cell(sp.End-1); i++ {
		m.cells[i][what] += sp.Intersect(m.at(i)).Len()
	}
}

// cell is the cell in which a byte lies.
func (m *Map) cell(off int64) int {
	return max(0, min(len(m.cells)-1, int(float64(off)/float64(m.Size)*float64(len(m.cells)))))
}

// at is which bytes a cell shows.
func (m *Map) at(i int) span.Span {
	n := float64(len(m.cells))
	return span.Span{Start: int64(float64(m.Size) * float64(i) / n), End: int64(float64(m.Size) * float64(i+1) / n)}
}

// look is what a cell is drawn as: what is rarest counts most, and a cell is used where any of it is.
func (m *Map) look(i int) Stretch {
	for what := stretches - 1; what > NoPart; what-- {
		if m.cells[i][what] > 0 {
			return what
		}
	}
	return NoPart
}

// looks are how the cells are filled: a tint and a pattern.
var looks = [stretches]struct {
	tint  scene.Ink
	lines string
}{{scene.White, ""}, {scene.Pale, ""}, {scene.White, "down"}, {scene.Ink{R: 0xE4, G: 0xCB, B: 0xB0}, "level"},
	{scene.Ink{R: 0x8F, G: 0xB8, B: 0xDC}, ""}, {scene.Ink{R: 0xF0, G: 0xB0, B: 0xB0}, "cross"}, {scene.Black, ""}}

// Scene draws the map, row by row from the start of the disk to its end. Nothing smaller than a cell is lost: where a
// cell holds several things, the last one of the legend is drawn.
func (m *Map) Scene() *scene.Scene {
	wide := mapLeft + mapColumns*cellWide
	s := &scene.Scene{W: wide, Title: m.Title}
	y := 5.0
	s.Write(0, y, 11, true, scene.Left, scene.Black, scene.Fit(m.Title, 11, true, wide))
	s.Write(0, y+5, 7.5, false, scene.Left, scene.Grey, scene.Fit(fmt.Sprintf("A row is %s of the disk, a cell %s. "+
		"The words at the left say where a row begins.", units.Bytes(m.Size/mapRows),
		units.Bytes(m.Size/int64(len(m.cells)))), 7.5, false, wide))
	y += 8
	for r := range mapRows {
		m.row(s, r, y+float64(r)*cellHigh)
	}
	for _, p := range m.Parts {
		m.begin(s, p, y)
	}
	y += mapRows*cellHigh + 2
	y = m.legend(s, y, wide)
	s.H = y
	return s
}

// row draws a row of cells, those that look the same in one piece.
func (m *Map) row(s *scene.Scene, r int, y float64) {
	first := r * mapColumns
	if r%4 == 0 {
		s.Write(mapLeft-1.5, y+cellHigh-0.5, 6.5, false, scene.Right, scene.Grey, units.Bytes(m.at(first).Start))
	}
	for c := 0; c < mapColumns; {
		n := 1
		what := m.look(first + c)
		for c+n < mapColumns && m.look(first+c+n) == what {
			n++
		}
		x, w := mapLeft+float64(c)*cellWide, float64(n)*cellWide
		tint := looks[what].tint
		s.Box(x, y, w, cellHigh, &tint, nil, 0)
		s.Pattern(looks[what].lines, x, y, w, cellHigh, 1.2)
		c += n
	}
	s.Box(mapLeft, y, mapColumns*cellWide, cellHigh, nil, &scene.Grey, 0.08)
}

// begin marks where a part begins, with its number.
func (m *Map) begin(s *scene.Scene, p scene.Part, top float64) {
	if p.Start < 0 || p.Start >= m.Size {
		return
	}
	i := m.cell(p.Start)
	x, y := mapLeft+float64(i%mapColumns)*cellWide, top+float64(i/mapColumns)*cellHigh
	s.Stroke(scene.Black, 0.6, scene.Point{X: x, Y: y}, scene.Point{X: x, Y: y + cellHigh})
	words := fmt.Sprint(p.Number)
	wide := scene.Width(words, 6, true) + 0.6
	s.Box(min(x, s.W-wide), y+0.2, wide, cellHigh-0.4, &scene.White, &scene.Black, 0.1)
	s.Write(min(x, s.W-wide)+0.3, y+cellHigh-0.55, 6, true, scene.Left, scene.Black, words)
}

// legend says what the cells mean and how much there is of each, and which part is which.
func (m *Map) legend(s *scene.Scene, y, wide float64) float64 {
	x := 0.0
	words := func(text string) {
		if w := scene.Width(text, 7.5, false) + 10; x > 0 && x+w > wide {
			x, y = 0, y+4.6
		}
	}
	for what := range stretches {
		if m.total[what] == 0 {
			continue
		}
		text := stretchWords[what] + " " + units.Bytes(m.total[what])
		if what == Chosen {
			text = scene.Fit(m.File, 7.5, false, wide-70) + fmt.Sprintf(": %s in %s", units.Bytes(m.total[what]),
				units.Plural(m.whole[what], "piece"))
		}
		words(text)
		tint := looks[what].tint
		s.Box(x, y+1, 5, 3, &tint, nil, 0)
		s.Pattern(looks[what].lines, x, y+1, 5, 3, 1.2)
		s.Box(x, y+1, 5, 3, nil, &scene.Black, 0.2)
		s.Write(x+6, y+3.6, 7.5, false, scene.Left, scene.Black, text)
		x += 10 + scene.Width(text, 7.5, false)
	}
	x, y = 0, y+5.5
	for _, p := range m.Parts {
		text := scene.Fit(fmt.Sprintf("%d %s, %s", p.Number, p.Title, units.Bytes(p.Size)), 7.5, false, wide-10)
		words(text)
		s.Write(x, y+3.6, 7.5, false, scene.Left, scene.Black, text)
		x += 6 + scene.Width(text, 7.5, false)
	}
	return y + 6
}
