package tui

import (
	"fmt"
	"strings"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
)

// railPart is one part of a disk on a rail.
type railPart struct {
	span   span.Span
	number int
	title  string
	role   table.Role
	used   int64
	known  bool // used is known
}

// rail is a disk drawn to scale.
type rail struct {
	id    disk.Identity
	parts []railPart
	cells []run.Cell  // how far the work on it is; nil without any
	spots []span.Span // where the file lies that is looked at
}

func twinParts(d *shelf.TwinDisk) []railPart {
	var out []railPart
	for _, p := range d.Parts() {
		out = append(out, railPart{p.Span, p.Part, p.Title(), table.Role(p.Role), p.Used, p.Whole == "" && p.Captured})
	}
	return out
}

func partsOf(d *bench.Disk) []railPart {
	var out []railPart
	if d.Survey == nil {
		return nil
	}
	for _, a := range d.Survey.Parts() {
		out = append(out, railPart{a.Span, a.Part.Number, a.Title(), a.Role, a.Content.Used, a.Content.Maps})
	}
	return out
}

// width is how many cells of a scale the disk takes.
func (r rail) width(scale int64, cells int) int {
	if r.id.Size <= 0 || scale <= 0 {
		return cells
	}
	return max(min(cells, 4+3*len(r.parts)), min(cells, int(float64(r.id.Size)/float64(scale)*float64(cells))))
}

// segment is a stretch of cells of a rail.
type segment struct {
	from, to int // cells
	part     *railPart
	wide     bool // it is drawn wider than it is
}

// minPart is the least width of a part, so that it stays visible.
const minPart = 3

// layout puts the parts on w cells: true to scale, but none under minPart.
func (r rail) layout(w int) []segment {
	cell := func(off int64) int { return int(float64(off) / float64(max(1, r.id.Size)) * float64(w)) }
	segs := make([]segment, len(r.parts))
	at := 0
	for i := range r.parts {
		p := &r.parts[i]
		from := max(at, cell(p.span.Start))
		if gap := from - at; i > 0 && gap > 0 && p.span.Start == r.parts[i-1].span.End {
			from = at
		}
		// Leave room for the parts that follow.
		to := min(max(cell(p.span.End), from+minPart), max(from+minPart, w-minPart*(len(r.parts)-i-1)))
		segs[i] = segment{from, to, p, false}
		at = to
	}
	for i := len(segs) - 1; i >= 0; i-- { // push back what ran over the end
		limit := w
		if i < len(segs)-1 {
			limit = segs[i+1].from
		}
		if over := segs[i].to - limit; over > 0 {
			segs[i].to -= over
			segs[i].from = max(0, min(segs[i].from, segs[i].to-minPart))
		}
	}
	for i := range segs {
		segs[i].wide = cell(segs[i].part.span.Len())+1 < segs[i].to-segs[i].from
	}
	return segs
}

// edge and wideEdge begin a part: one that is drawn to scale, and one that is drawn wider than it is.
const edge, wideEdge = "▏", "╎"

// bar draws the disk on w cells; numbered says that the parts' numbers are in it, since there is no line for them.
func (r rail) bar(th theme, w int, numbered bool) string {
	var b strings.Builder
	at := 0
	gap := func(to int) {
		if to > at {
			b.WriteString(th.dim.Render(strings.Repeat(gapGlyph, to-at)))
			at = to
		}
	}
	for _, s := range r.layout(w) {
		gap(s.from)
		n := max(0, s.to-s.from-1)
		begin := edge
		if s.wide {
			begin = wideEdge
		}
		b.WriteString(th.strong.Render(begin))
		if number := fmt.Sprint(s.part.number); numbered && n > len(number) {
			b.WriteString(th.strong.Render(number))
			n -= len(number)
		}
		b.WriteString(s.part.filled(th, n))
		at = max(at, s.to)
	}
	gap(w)
	return b.String()
}

// filled is the part over n cells: what is used of it, and what is free.
func (p *railPart) filled(th theme, n int) string {
	fill := n
	if p.known && p.span.Len() > 0 {
		fill = int(float64(p.used) / float64(p.span.Len()) * float64(n))
		if p.used > 0 {
			fill = max(1, fill)
		}
	}
	fill = max(0, min(fill, n))
	pat := th.patternOf(p.role)
	return pat.style.Render(strings.Repeat(pat.used, fill)) + th.free.Render(strings.Repeat(freeGlyph, n-fill))
}

// labels names the parts under the bar, as far as there is room.
func (r rail) labels(th theme, w int) string {
	line := []rune(strings.Repeat(" ", w))
	for i, s := range r.layout(w) {
		room := s.to - s.from - 1
		if i+1 == len(r.parts) { // the last one may run into what is free after it
			room = w - s.from - 1
		}
		text := fmt.Sprintf("%d", s.part.number)
		if full := text + " " + s.part.title; len([]rune(full)) <= room {
			text = full
		} else if room >= 8 {
			text = string([]rune(full)[:room-1]) + "…"
		}
		for j, c := range []rune(text) {
			if k := s.from + 1 + j; k < w && j < max(room, 2) {
				line[k] = c
			}
		}
	}
	return r.spotted(th, line)
}

// spotted marks on the line under the bar where the spots are.
func (r rail) spotted(th theme, line []rune) string {
	if len(r.spots) == 0 {
		return th.dim.Render(string(line))
	}
	hit := make([]bool, len(line))
	segs := r.layout(len(line))
	for _, sp := range r.spots {
		for _, s := range segs {
			if !s.part.span.Overlaps(sp) {
				continue
			}
			n := int64(max(1, s.to-s.from-1))
			cell := func(off int64) int {
				return s.from + 1 +
					int(max(0, min(n-1, int64(float64(off-s.part.span.Start)/float64(s.part.span.Len())*float64(n)))))
			}
			for i := cell(sp.Start); i <= cell(sp.End-1) && i < len(line); i++ {
				hit[i] = true
			}
		}
	}
	var b strings.Builder
	for i, c := range line {
		if hit[i] {
			b.WriteString(th.here.Render("▲"))
		} else {
			b.WriteString(th.dim.Render(string(c)))
		}
	}
	return b.String()
}

// The marks of how far the work on a stretch is.
const finishedMark, busyMark, toComeMark, idleMark, doubtfulMark, unreadableMark = "━", "▶", "·", " ", "~", "×"

// progress draws how far the work on the disk is; a cell that stands for several shows the worst of them.
func (r rail) progress(th theme, w int) string {
	var b strings.Builder
	for i := range w {
		lo, hi := i*len(r.cells)/w, max(i*len(r.cells)/w+1, (i+1)*len(r.cells)/w)
		has := [run.Unreadable + 1]bool{}
		for _, c := range r.cells[lo:hi] {
			has[c] = true
		}
		switch {
		case has[run.Unreadable]:
			b.WriteString(th.bad.Render(unreadableMark))
		case has[run.Doubtful]:
			b.WriteString(th.caution.Render(doubtfulMark))
		case has[run.Busy]:
			b.WriteString(th.strong.Render(busyMark))
		case has[run.ToCome]:
			b.WriteString(th.dim.Render(toComeMark))
		case has[run.Finished]:
			b.WriteString(th.good.Render(finishedMark))
		default:
			b.WriteString(idleMark)
		}
	}
	return b.String()
}

// legend names all parts in one line, for the room beside a short rail.
func (r rail) legend(th theme, w int) string {
	if w < 12 || len(r.parts) == 0 {
		return strings.Repeat(" ", max(0, w))
	}
	names := make([]string, len(r.parts))
	for i, p := range r.parts {
		names[i] = fmt.Sprintf("%d %s %s", p.number, p.title, th.size(p.span.Len()))
	}
	return th.dim.Render(fit("  "+strings.Join(names, " · "), w))
}
