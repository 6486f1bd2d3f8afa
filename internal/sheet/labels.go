package sheet

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"

	"codeberg.org/go-pdf/fpdf"

	"twinshelf/internal/scene"
)

// Grid is how labels lie on a sheet of them, in millimetres: Left and Top are where the first one begins, across and
// down how far apart they begin.
type Grid struct {
	Name, Paper   string
	Columns, Rows int
	W, H          float64
	Left, Top     float64
	Across, Down  float64
}

// Grids are the usual formats of label sheets: paper, and how many labels are on it.
var Grids = []Grid{
	{"A4-65", "A4", 5, 13, 38.1, 21.2, 4.75, 10.7, 40.6, 21.2},
	{"A4-40", "A4", 4, 10, 48.5, 25.4, 8, 21.5, 48.5, 25.4},
	{"A4-24", "A4", 3, 8, 70, 37, 0, 0.5, 70, 37},
	{"A4-21", "A4", 3, 7, 63.5, 38.1, 7.25, 15.15, 66, 38.1},
	{"A4-14", "A4", 2, 7, 99.1, 38.1, 4.65, 15.15, 101.6, 38.1},
	{"A4-8", "A4", 2, 4, 99.1, 67.7, 4.65, 13.1, 101.6, 67.7},
	{"Letter-30", "Letter", 3, 10, 66.675, 25.4, 4.7625, 12.7, 69.85, 25.4},
	{"Letter-10", "Letter", 2, 5, 101.6, 50.8, 3.96875, 12.7, 106.3625, 50.8},
	{"Letter-6", "Letter", 2, 3, 101.6, 84.667, 3.96875, 12.7, 106.3625, 84.667},
}

// GridNames are the names of Grids.
func GridNames() []string {
	var out []string
	for _, g := range Grids {
		out = append(out, g.Name)
	}
	return out
}

// UsualGrid is the grid for a shop that chose none, by its paper.
func UsualGrid(paper string) string {
	if paper == "Letter" {
		return "Letter-10"
	}
	return "A4-21"
}

// GridNamed finds a grid.
func GridNamed(name string) (Grid, error) {
	for _, g := range Grids {
		if strings.EqualFold(g.Name, name) {
			return g, nil
		}
	}
	return Grid{}, fmt.Errorf("%q is no sheet of labels that is known: choose one of %s", name,
		strings.Join(GridNames(), ", "))
}

// Offset reads how far labels are moved: two lengths in millimetres with a comma between them.
func Offset(text string) (right, below float64, err error) {
	a, b, two := strings.Cut(text, ",")
	right, errA := strconv.ParseFloat(strings.TrimSpace(a), 64)
	below, errB := strconv.ParseFloat(strings.TrimSpace(b), 64)
	if !two || errA != nil || errB != nil || !(math.Abs(right) <= MostOffset && math.Abs(below) <= MostOffset) {
		return 0, 0, fmt.Errorf("%q is no offset: write RIGHT,DOWN in millimetres, such as 0.5,-1, up to %d", text,
			MostOffset)
	}
	return right, below, nil
}

// Label is what is stuck on a drive. Its code is printed as a square that can be scanned, too.
type Label struct {
	Title string
	Lines []string
	Code  string
}

// Labels are labels on sheets of a grid.
type Labels struct {
	Head
	Grid Grid
	// Skip is how many labels of the first sheet are used up.
	Skip int
	// Right and Below are how far everything is moved, in millimetres, for a printer that doesn't meet the labels.
	Right, Below float64
	All          []Label
}

// ErrNoLabels means that there is nothing to be printed.
var ErrNoLabels = errors.New("name what the labels are for")

const (
	mostLabels = 2000
	// MostOffset is how far labels may be moved, in millimetres.
	MostOffset = 20
	labelEdge  = 2.0 // millimetres that stay empty within a label
	leastCode  = 11.0
	mostCode   = 22.0
	codeShare  = 0.32 // of a label's width, at the most
)

// PDF gives the labels as a document, to be printed at its real size.
func (l Labels) PDF() ([]byte, error) {
	n := l.Grid.Columns * l.Grid.Rows
	switch {
	case len(l.All) == 0:
		return nil, ErrNoLabels
	case len(l.All) > mostLabels:
		return nil, fmt.Errorf("%d labels are more than the %d that are made at once", len(l.All), mostLabels)
	case l.Skip < 0 || l.Skip >= n:
		return nil, fmt.Errorf("a sheet has %d labels, so %d can't be used already", n, l.Skip)
	case !(math.Abs(l.Right) <= MostOffset && math.Abs(l.Below) <= MostOffset):
		return nil, fmt.Errorf("labels are moved by %d mm at the most", MostOffset)
	}
	f := fpdf.New("P", "mm", l.Grid.Paper, "")
	begin(f, "Labels", l.Made)
	f.SetAuthor(l.Shop.Name, true)
	p := &pages{pdf: f}
	for i, label := range l.All {
		at := i + l.Skip
		if i == 0 || at%n == 0 {
			f.AddPage()
		}
		x := l.Grid.Left + float64(at%n%l.Grid.Columns)*l.Grid.Across + l.Right
		y := l.Grid.Top + float64(at%n/l.Grid.Columns)*l.Grid.Down + l.Below
		p.label(label, x, y, l.Grid.W, l.Grid.H)
	}
	var out bytes.Buffer
	if err := f.Output(&out); err != nil {
		return nil, fmt.Errorf("the labels can't be made: %w", err)
	}
	return out.Bytes(), nil
}

// label prints a label into its rectangle: the title over its width, and below it the text with the square beside it.
// Where all of the text doesn't fit then, the square goes; what doesn't fit without it is cut with an ellipsis.
func (p *pages) label(l Label, x, y, w, h float64) {
	wide := w - 2*labelEdge
	title := min(15, h/3) // points
	for title > leastTitle && scene.Width(scene.Printable(l.Title), title, true) > wide {
		title -= 0.5
	}
	p.font(title, true)
	at := y + labelEdge + title*riseShare
	p.pdf.Text(x+labelEdge, at, scene.Fit(l.Title, title, true, wide))
	room := y + h - labelEdge - at
	most := min(10, h/textShare, title*0.8)
	side := min(mostCode, room-1, w*codeShare)
	if _, _, whole := linesIn(l.Lines, leastText, wide-side-1, room); whole && l.Code != "" && side >= leastCode &&
		p.square(l.Code, x+w-labelEdge-side, y+h-labelEdge-side, side) {
		wide -= side + 1
	}
	size, lines, _ := linesIn(l.Lines, most, wide, room)
	p.font(size, false)
	for _, line := range lines {
		at += size * lineShare
		p.pdf.Text(x+labelEdge, at, line)
	}
}

const (
	leastTitle = 5.5 // points
	leastText  = 5.0
	lineShare  = 0.46 // millimetres of height for a point
	riseShare  = 0.36 // above the base line
	textShare  = 3.4  // millimetres of a label's height for a point of its text
)

// linesIn lays texts into a room, in a font as large as possible up to most points; what doesn't fit into the smallest
// one is cut with an ellipsis, each text for itself.
func linesIn(texts []string, most, wide, high float64) (size float64, lines []string, whole bool) {
	for size = max(most, leastText); ; size = max(size-0.5, leastText) {
		lines = nil
		for _, t := range texts {
			lines = append(lines, scene.Wrap(t, size, false, wide)...)
		}
		if float64(len(lines))*size*lineShare <= high {
			return size, lines, true
		}
		if size == leastText {
			break
		}
	}
	lines = nil
	for _, t := range texts[:min(len(texts), int(high/(size*lineShare)))] {
		lines = append(lines, scene.Fit(t, size, false, wide))
	}
	return size, lines, false
}
