package draw

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"twinshelf/internal/inside"
	"twinshelf/internal/names"
	"twinshelf/internal/scene"
	"twinshelf/internal/units"
)

// Folder is what differs below a folder between two dates. Sizes are in bytes.
type Folder struct {
	Name               string
	Came, Went         int64 // of items that are new, and of those that are gone
	Grew, Shrank       int64 // of items that are there on both sides
	New, Gone, Changed int   // items
	Moved              int
}

func (f *Folder) plus() int64  { return f.Came + f.Grew }
func (f *Folder) minus() int64 { return f.Went + f.Shrank }

func (f *Folder) add(d names.Difference) {
	switch d.Way {
	case names.Added:
		f.New++
		f.Came += d.New.Size
	case names.Removed:
		f.Gone++
		f.Went += d.Old.Size
	case names.Moved:
		f.Moved += 1 + d.Below
	case names.Changed:
		f.Changed++
		if by := d.New.Size - d.Old.Size; by > 0 {
			f.Grew += by
		} else {
			f.Shrank -= by
		}
	}
}

// mostFolders is how many folders a comparison shows at the most.
const mostFolders = 24

// mostDivided is how often a folder is divided at the most.
const mostDivided = 500

// branch is a folder with what is below it; size is what it weighs.
type branch struct {
	Folder
	part  *inside.PartDifference
	depth int // of path elements in its name
	at    []int
}

// Folders sums up differences by folder: as few levels as tell most. The largest folder is divided as long as there is
// room, so that what grew is seen where it did. A part of which nothing can be told has a row that says why.
func Folders(all []inside.PartDifference, label func(*inside.Part) string) []Folder {
	var rows []branch
	var out []Folder
	for i := range all {
		d := &all[i]
		if d.Why != "" {
			out = append(out, Folder{Name: label(d.Part) + " " + d.Why})
			continue
		}
		b := branch{part: d, Folder: Folder{Name: label(d.Part)}}
		for k, x := range d.All {
			b.at = append(b.at, k)
			b.add(x)
		}
		if len(b.at) > 0 {
			rows = append(rows, b)
		}
	}
	for range mostDivided {
		i := largest(rows)
		if i < 0 {
			break
		}
		below := rows[i].divided(label)
		if len(below) == 0 || len(rows)-1+len(below) > mostFolders {
			// It has no folders, or too many: it stays as it is.
			rows[i].depth = -1
			continue
		}
		rows = append(slices.Delete(rows, i, i+1), below...)
	}
	slices.SortFunc(rows, func(a, b branch) int {
		return cmp.Or(cmp.Compare(b.plus()+b.minus(), a.plus()+a.minus()), strings.Compare(a.Name, b.Name))
	})
	for _, b := range rows {
		out = append(out, b.Folder)
	}
	return out
}

// largest is the row that is divided next: the one that weighs most of those that can be; -1 for none.
func largest(rows []branch) int {
	at := -1
	for i := range rows {
		b := &rows[i]
		if b.depth < 0 || len(b.at) < 2 {
			continue
		}
		if at < 0 || b.plus()+b.minus() > rows[at].plus()+rows[at].minus() {
			at = i
		}
	}
	return at
}

// divided are the folders below one, and a row for what lies in itself; none when it has no folders.
func (b *branch) divided(label func(*inside.Part) string) []branch {
	byName := map[string]*branch{}
	var order []string
	folders := false
	for _, k := range b.at {
		d := b.part.All[k]
		path := strings.Split(d.Path, "/")
		name, depth := label(b.part.Part)+strings.Join(path[:min(b.depth, len(path))], "/"), -1
		if len(path) > b.depth+1 {
			name, depth, folders = label(b.part.Part)+strings.Join(path[:b.depth+1], "/"), b.depth+1, true
		}
		if byName[name] == nil {
			byName[name] = &branch{part: b.part, depth: depth, Folder: Folder{Name: name}}
			order = append(order, name)
		}
		byName[name].at = append(byName[name].at, k)
		byName[name].add(d)
	}
	if !folders {
		return nil
	}
	var out []branch
	for _, name := range order {
		x := byName[name]
		if x.depth < 0 {
			x.Name = strings.TrimSuffix(x.Name, "/") + " (in itself)"
		}
		out = append(out, *x)
	}
	return out
}

// Changes draws what grew, went and came between two dates, by folder: what was added to the right of the middle, what
// was taken away to the left.
func Changes(title string, folders []Folder) *scene.Scene {
	const rowHigh, nameWide, wordsWide = 6.4, 78.0, 52.0
	s := &scene.Scene{W: wide, Title: title}
	s.Write(0, 5, 11, true, scene.Left, scene.Black, scene.Fit(title, 11, true, wide))
	y := 9.0
	most := int64(1)
	for _, f := range folders {
		most = max(most, f.plus(), f.minus())
	}
	half := (wide - nameWide - wordsWide - 4) / 2
	middle := nameWide + half + 2
	scale := func(n int64) float64 { return float64(n) / float64(most) * half }
	y = changeLegend(s, y)
	if len(folders) == 0 {
		s.Write(0, y+4, 8.5, false, scene.Left, scene.Black, "Nothing differs.")
		s.H = y + 8
		return s
	}
	top := y
	for _, f := range folders {
		s.Write(0, y+4.2, 7.5, false, scene.Left, scene.Black, scene.Fit(f.Name, 7.5, false, nameWide-2))
		right := bar(s, middle, y+1, scale(f.Came), "", tintCame)
		bar(s, right, y+1, scale(f.Grew), "up", tintGrew)
		left := bar(s, middle, y+1, -scale(f.Went), "cross", tintWent)
		bar(s, left, y+1, -scale(f.Shrank), "down", tintShrank)
		s.Write(wide, y+4.2, 7, false, scene.Right, scene.Grey, scene.Fit(f.words(), 7, false, wordsWide))
		y += rowHigh
	}
	s.Stroke(scene.Black, 0.3, scene.Point{X: middle, Y: top}, scene.Point{X: middle, Y: y})
	s.Stroke(scene.Black, 0.3, scene.Point{X: middle - half, Y: y + 1}, scene.Point{X: middle + half, Y: y + 1})
	changeAxis(s, middle, y, float64(most), half)
	s.Write(middle-half/3, y+9, 7.5, false, scene.Middle, scene.Black, "← less")
	s.Write(middle+half/3, y+9, 7.5, false, scene.Middle, scene.Black, "more →")
	s.H = y + 11
	return s
}

// changeAxis marks an axis of bytes to both sides of the middle; what would lie on each other isn't written.
func changeAxis(s *scene.Scene, middle, y, most, half float64) {
	const apart = 20.0
	last := -apart
	for _, t := range (byteTicks{}).Ticks(0, most) {
		by := t.Value / most * half
		written := by-last >= apart
		if written {
			last = by
		}
		for _, x := range []float64{middle + by, middle - by} {
			s.Stroke(scene.Black, 0.3, scene.Point{X: x, Y: y + 1}, scene.Point{X: x, Y: y + 2})
			if written {
				s.Write(x, y+5, 7, false, scene.Middle, scene.Black, t.Label)
			}
			if by == 0 {
				break
			}
		}
	}
}

var (
	tintCame   = scene.Ink{R: 0x5E, G: 0x9A, B: 0xCB}
	tintGrew   = scene.Ink{R: 0xB4, G: 0xD3, B: 0xD2}
	tintWent   = scene.Ink{R: 0xD9, G: 0x96, B: 0x8A}
	tintShrank = scene.Ink{R: 0xEA, G: 0xD0, B: 0xC4}
)

// bar draws a bar of a length from x on, to the left when that is negative, and gives where it ends.
func bar(s *scene.Scene, x, y, long float64, pattern string, tint scene.Ink) float64 {
	const barHigh = 4.4
	if long == 0 {
		return x
	}
	at, w := min(x, x+long), max(long, -long)
	s.Box(at, y, w, barHigh, &tint, nil, 0)
	s.Pattern(pattern, at, y, w, barHigh, 1.4)
	s.Box(at, y, w, barHigh, nil, &scene.Black, 0.2)
	return x + long
}

func changeLegend(s *scene.Scene, y float64) float64 {
	x := 0.0
	for _, l := range []struct {
		words, pattern string
		tint           scene.Ink
	}{{"came", "", tintCame}, {"grew", "up", tintGrew}, {"went", "cross", tintWent}, {"shrank", "down", tintShrank}} {
		s.Box(x, y, 5, 3, &l.tint, nil, 0)
		s.Pattern(l.pattern, x, y, 5, 3, 1.2)
		s.Box(x, y, 5, 3, nil, &scene.Black, 0.2)
		s.Write(x+6, y+2.6, 7.5, false, scene.Left, scene.Black, l.words)
		x += 12 + scene.Width(l.words, 7.5, false)
	}
	return y + 6
}

// words are what differs in a folder, in numbers.
func (f *Folder) words() string {
	var out []string
	if n := f.plus(); n > 0 {
		out = append(out, "+"+units.Bytes(n))
	}
	if n := f.minus(); n > 0 {
		out = append(out, "−"+units.Bytes(n))
	}
	for _, c := range []struct {
		n    int
		word string
	}{{f.New, "new"}, {f.Gone, "gone"}, {f.Changed, "changed"}, {f.Moved, "moved"}} {
		if c.n > 0 {
			out = append(out, fmt.Sprintf("%d %s", c.n, c.word))
		}
	}
	return strings.Join(out, ", ")
}
