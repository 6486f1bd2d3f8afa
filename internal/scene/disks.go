package scene

import (
	"fmt"
	"slices"

	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// Strip is a disk to be drawn.
type Strip struct {
	Title string
	Note  string // below the title, where the words are above the strip
	Size  int64  // bytes
	Parts []Part
	Words string // where there are no parts
}

// Part is a part of a disk; Start and Size are in bytes.
type Part struct {
	Number      int
	Title       string
	Role        table.Role
	Start, Size int64
	Used        int64 // bytes; -1 where it isn't known
	Lost        bool  // it is struck out
}

const (
	stripHigh  = 11.0 // millimetres
	threadHigh = 12.0
	headHigh   = 6.0
	labelHigh  = 5.0
	legendHigh = 7.0
	noteHigh   = 3.8
	// leastPart is how wide a part is drawn at least, so that it is seen.
	leastPart = 2.2
	small     = 7.5 // points
)

// patterns are how the used share of a part looks, by its role: tint, lines over it, and how they run.
var patterns = map[table.Role]struct {
	tint  Ink
	lines string
}{
	table.RoleStartup: {Ink{0xE9, 0xD3, 0x9A}, "cross"}, table.RoleSystem: {Ink{0x8F, 0xB8, 0xDC}, ""},
	table.RoleData: {Ink{0xB4, 0xD3, 0xD2}, "up"}, table.RoleRecovery: {Ink{0xCF, 0xB9, 0xDC}, "down"},
	table.RoleSwap: {Ink{0xD0, 0xD0, 0xD0}, "level"}, table.RoleReserved: {Ink{0xE2, 0xE4, 0xE8}, "level"},
	table.RoleUnknown: {Ink{0xE4, 0xCB, 0xB0}, "down"},
}

// Disks draws strips one below the other, all to the scale of the largest; with threads a line leads from each part of
// the first to the part of the same number in the second. The first has its words above it, the others below, so that
// nothing lies on the threads; without threads each has them above it.
func Disks(title string, width float64, strips []Strip, threads bool) *Scene {
	s := &Scene{W: width, Title: title}
	most := int64(1)
	for _, t := range strips {
		most = max(most, t.Size)
	}
	y := 0.0
	if title != "" && !threads {
		s.Write(0, 4.5, 11, true, Left, Black, Fit(title, 11, true, width))
		y = 7
	}
	roles := map[table.Role]bool{}
	wider := false
	for i, t := range strips {
		for _, p := range t.Parts {
			roles[p.Role] = true
		}
		wider = s.strip(t, y, width, most, i == 0 || !threads) || wider
		y += headHigh + labelHigh + stripHigh
		if t.Note != "" && (i == 0 || !threads) {
			y += noteHigh
		}
		switch {
		case i == 0 && threads && len(strips) > 1:
			s.threads(t.middles(width, most), strips[1].middles(width, most), y, y+threadHigh)
			y += threadHigh
		case i == 0 && threads:
			y += headHigh
		default:
			y += 2
		}
	}
	s.legend(roles, y)
	s.scaleBar(width, most, y)
	y += legendHigh
	if wider {
		s.Write(0, y+2, small, false, Left, Grey, "Narrow parts are drawn wider than they are.")
		y += 4
	}
	s.H = y
	return s
}

// placed is a part on the paper.
type placed struct {
	Part
	x, w float64
}

// layout puts the parts to scale on a width; one that would be too narrow is drawn wider, and moves none beyond the
// end.
func (t Strip) layout(width float64, most int64) []placed {
	perByte := width / float64(most)
	var out []placed
	at := 0.0
	for _, p := range t.Parts {
		x := max(at, float64(p.Start)*perByte)
		w := max(leastPart, float64(p.Size)*perByte-(x-float64(p.Start)*perByte))
		out = append(out, placed{p, x, w})
		at = x + w
	}
	end := max(float64(t.Size)*perByte, leastPart*float64(len(out)))
	for i := len(out) - 1; i >= 0; i-- {
		if over := out[i].x + out[i].w - end; over > 0 {
			out[i].w = max(leastPart, out[i].w-over)
			out[i].x = max(0, min(out[i].x, end-out[i].w))
		}
		end = out[i].x
	}
	return out
}

// middles are where the middle of each part is.
func (t Strip) middles(width float64, most int64) map[int]float64 {
	out := map[int]float64{}
	for _, p := range t.layout(width, most) {
		out[p.Number] = p.x + p.w/2
	}
	return out
}

// strip draws a disk with its words above it or below it; wider says that some part is drawn wider than it is.
func (s *Scene) strip(t Strip, y, width float64, most int64, above bool) (wider bool) {
	bar, title, labels := y, y+stripHigh+labelHigh+4, y+stripHigh+3.4
	if above {
		if bar, title, labels = y+headHigh+labelHigh, y+4, y+headHigh+3.4; t.Note != "" {
			s.Write(0, title+noteHigh, small, false, Left, Black, Fit(t.Note, small, false, width))
			bar, labels = bar+noteHigh, labels+noteHigh
		}
	}
	s.Write(0, title, 8.5, true, Left, Black, Fit(t.Title, 8.5, true, width))
	whole := max(float64(t.Size)*width/float64(most), leastPart)
	s.Box(0, bar, whole, stripHigh, &White, &Grey, 0.2)
	if len(t.Parts) == 0 {
		at, room := 2.0, whole-4 // within it, or after it where it is too short
		if Width(t.Words, small, false) > room && whole < width/2 {
			at, room = whole+2, width-whole-2
		}
		s.Write(at, bar+stripHigh/2+1.3, small, false, Left, Grey, Fit(t.Words, small, false, room))
		return false
	}
	free := 0.0 // from where on there is room for a label
	for _, p := range t.layout(width, most) {
		s.part(p, bar)
		wider = wider || p.w > float64(p.Size)*width/float64(most)+0.1
		number := fmt.Sprint(p.Number)
		at := max(p.x+0.2, free)
		label := Fit(number+" "+p.Title, small, false, p.x+p.w-at-1)
		if len(label) < len(number)+2 {
			label = number
		}
		if at < p.x+p.w {
			s.Write(at, labels, small, false, Left, Black, label)
			free = at + Width(label, small, false) + 0.8
		}
	}
	return wider
}

func (s *Scene) part(p placed, y float64) {
	look := patterns[p.Role]
	if look.tint == (Ink{}) {
		look = patterns[table.RoleUnknown]
	}
	used := p.w
	if p.Used >= 0 && p.Size > 0 {
		used = p.w * min(1, float64(p.Used)/float64(p.Size))
	}
	s.Box(p.x, y, p.w, stripHigh, &Pale, nil, 0)
	if used > 0 {
		s.Box(p.x, y, used, stripHigh, &look.tint, nil, 0)
		s.Pattern(look.lines, p.x, y, used, stripHigh, 1.8)
	}
	s.Box(p.x, y, p.w, stripHigh, nil, &Black, 0.3)
	if p.Lost {
		s.Stroke(Danger, 0.6, Point{p.x, y}, Point{p.x + p.w, y + stripHigh})
		s.Stroke(Danger, 0.6, Point{p.x, y + stripHigh}, Point{p.x + p.w, y})
	}
}

// Pattern lays a pattern ("up", "down", "cross" or "level"; none for "") over a rectangle.
func (s *Scene) Pattern(how string, x, y, w, h, gap float64) {
	const width = 0.18
	if how == "up" || how == "cross" {
		s.Hatch(x, y, w, h, gap, true, Black, width)
	}
	if how == "down" || how == "cross" {
		s.Hatch(x, y, w, h, gap, false, Black, width)
	}
	if how == "level" {
		s.Rules(x, y, w, h, gap, Black, width)
	}
}

// threads lead from the parts of one strip to those of the next.
func (s *Scene) threads(above, below map[int]float64, from, to float64) {
	var numbers []int
	for n := range above {
		if _, both := below[n]; both {
			numbers = append(numbers, n)
		}
	}
	slices.Sort(numbers)
	for _, n := range numbers {
		s.Stroke(Grey, 0.35, Point{above[n], from}, Point{above[n], from + 1.5}, Point{below[n], to - 1.5},
			Point{below[n], to})
	}
}

// legend says which pattern is which, of those that are there.
func (s *Scene) legend(roles map[table.Role]bool, y float64) {
	x := 0.0
	for _, r := range []table.Role{table.RoleStartup, table.RoleSystem, table.RoleData, table.RoleRecovery,
		table.RoleSwap, table.RoleReserved, table.RoleUnknown} {
		if !roles[r] {
			continue
		}
		look := patterns[r]
		s.Box(x, y+1, 5, 3, &look.tint, nil, 0)
		s.Pattern(look.lines, x, y+1, 5, 3, 1.2)
		s.Box(x, y+1, 5, 3, nil, &Black, 0.2)
		s.Write(x+6, y+3.6, small, false, Left, Black, string(r))
		x += 9 + Width(string(r), small, false)
	}
	if len(roles) > 0 {
		s.Box(x, y+1, 5, 3, &Pale, &Black, 0.2)
		s.Write(x+6, y+3.6, small, false, Left, Black, "free in a part")
	}
}

// scaleBar says how long a round amount is, at the right end.
func (s *Scene) scaleBar(width float64, most int64, y float64) {
	n := int64(1)
	for n*10 <= most/5 {
		n *= 10
	}
	for _, f := range []int64{5, 2} {
		if n*f <= most/5 {
			n *= f
			break
		}
	}
	w := float64(n) * width / float64(most)
	s.Stroke(Black, 0.3, Point{width - w, y + 1.5}, Point{width - w, y + 4}, Point{width, y + 4}, Point{width, y + 1.5})
	s.Write(width-w-1, y+4, small, false, Right, Black, units.Bytes(n))
}
