package tui

import (
	"fmt"
	"path/filepath"
	"strings"

	"charm.land/lipgloss/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// railPart is one part (or gap) of a disk on a rail.
type railPart struct {
	span   span.Span
	number int
	title  string
	role   table.Role
	used   int64
	known  bool // used is known
}

// rail is a disk as it stands on the screen in every step.
type rail struct {
	word   string // READS or WRITES
	style  lipgloss.Style
	id     disk.Identity
	where  string
	parts  []railPart
	state  string // at the right: what happens to it
	danger bool
	cells  []run.Cell
	empty  string      // what to do when there is no disk
	spots  []span.Span // where the file lies that is looked at
}

// sourceRail is the upper rail.
func (m *railsPane) sourceRail() rail {
	if m.step == stepReady && m.readyPage.readyOn() {
		return m.readyPage.beforeRail()
	}
	r := rail{word: "READS", style: m.th.reads, empty: "nothing chosen: press r on a disk of the Bench, or choose a " +
		"twin in Dates"}
	if m.runPage.alone && m.step == stepRun {
		r.empty = "this run reads no other disk"
		return r
	}
	if t := m.datesPage.twin(); m.fromTwin && t != nil {
		i := min(m.datesPage.twinDisk, len(t.Disks)-1)
		d := &t.Disks[i]
		r.id, r.where = d.Identity, t.Machine+", "+t.Taken.Format("2006-01-02 15:04")
		if len(t.Disks) > 1 {
			r.where += fmt.Sprintf(", disk %d of %d", i+1, len(t.Disks))
		}
		r.parts = twinParts(d)
		r.state = units.Bytes(d.Used) + " used"
	} else if m.source != nil {
		d := m.source
		r.id, r.where = d.Identity, shortPath(d.Path)
		if d.Survey != nil {
			r.parts = partsOf(d)
			r.state = units.Bytes(d.Survey.Used()) + " used"
		} else {
			r.state = d.Words()
		}
	}
	if m.runPage.running() || m.step == stepRun {
		r.cells = m.runPage.snap.Read
	}
	if l := &m.insidePage.inside; m.step == stepInside && l.part != nil &&
		(l.in.Twin == nil || l.part.Disk == m.datesPage.twinDisk) {
		r.spots = l.detail.spans
	}
	return r
}

// under is the step that is shown, or from which what is shown was opened.
func (m *railsPane) under() step {
	if m.step == stepInside {
		return m.insidePage.inside.from
	}
	return m.step
}

// targetRail is the lower rail.
func (m *railsPane) targetRail() rail {
	r := rail{word: "WRITES", style: m.th.writes, empty: "no target: nothing will be written (press w on a disk of " +
		"the Bench)"}
	if m.runPage.running() || m.step == stepRun {
		r.cells = m.runPage.snap.Written
	}
	d := m.target
	if d == nil {
		return r
	}
	r.id, r.where = d.Identity, shortPath(d.Path)
	switch {
	case d.Survey == nil:
		r.state = d.Words()
	case m.proofPage.written == d.Path && (m.under() == stepRun || m.under() == stepProof):
		r.parts = partsOf(d)
		r.state = "being written"
		if !m.runPage.running() {
			r.state = "written by the last run"
		}
	case d.Survey.Blank():
		r.state = "blank: erases nothing"
	default:
		r.parts = partsOf(d)
		r.danger = true
		r.state = fmt.Sprintf(" ERASES %s ", strings.ToUpper(units.Plural(len(r.parts), "part")))
		if len(r.parts) == 0 {
			r.state = " ERASES UNKNOWN CONTENTS "
		}
	}
	if m.step == stepReady && m.readyPage.readyOn() {
		return m.readyPage.draftRail(r)
	}
	if m.under() == stepFit && m.fitPage.pair != nil { // the planned disk
		r.parts = m.plannedParts(twinParts(m.fitPage.pair.Describe()))
	}
	return r
}

// plannedParts are the twin's parts where the plan puts them.
func (m *railsPane) plannedParts(parts []railPart) []railPart {
	var out []railPart
	for _, p := range parts {
		for _, x := range m.fitPage.pair.Plan.Layout.Parts {
			if x.Part.Number == p.number {
				p.span = x.To
			}
		}
		if !p.span.Empty() {
			out = append(out, p)
		}
	}
	if a := m.fitPage.pair.Plan.Added; a != nil {
		out = append(out, railPart{a.Part.Span, a.Part.Number, a.Label + " (new)", table.RoleData, 0, true})
	}
	return out
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
		segs[i] = segment{from, to, p}
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
	return segs
}

// bar draws the disk on w cells.
func (r rail) bar(th theme, w int) string {
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
		p := patternOf(s.part.role)
		fill := n
		if s.part.known && s.part.span.Len() > 0 {
			fill = int(float64(s.part.used) / float64(s.part.span.Len()) * float64(n))
			if s.part.used > 0 {
				fill = max(1, fill)
			}
		}
		fill = min(fill, n)
		b.WriteString(th.strong.Render("▏"))
		b.WriteString(p.style.Render(strings.Repeat(p.used, fill) + strings.Repeat(freeGlyph, n-fill)))
		at = max(at, s.to)
	}
	gap(w)
	return b.String()
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

// progress draws how far the work on the disk is.
func (r rail) progress(th theme, w int) string {
	if r.cells == nil {
		return strings.Repeat(" ", w)
	}
	var b strings.Builder
	for i := range w {
		lo, hi := i*len(r.cells)/w, max(i*len(r.cells)/w+1, (i+1)*len(r.cells)/w)
		finished, unreadable := 0, false
		for _, c := range r.cells[lo:hi] {
			unreadable = unreadable || c == run.Unreadable
			if c == run.Finished {
				finished++
			}
		}
		switch {
		case unreadable:
			b.WriteString(th.bad.Render("×"))
		case finished > 0:
			b.WriteString(r.style.Render("━"))
		default:
			b.WriteString(th.dim.Render("·"))
		}
	}
	return b.String()
}

// caption is the line over the bar: what is read or written, in words.
func (r rail) caption(th theme, w int) string {
	word := r.style.Render(fit(r.word, 8))
	if r.id.Size == 0 {
		return word + th.dim.Render(fit(r.empty, w-8))
	}
	state := r.state
	serial := ""
	if r.id.Serial != "" {
		serial = "  …" + r.id.Tail()
	}
	name := th.strong.Render(r.id.Model) + "  " + units.Bytes(r.id.Size) + serial + "  " + th.dim.Render(r.where)
	if r.danger {
		state = th.danger.Render(state)
	}
	return word + sides(name, " "+state, w-8)
}

// legend names all parts in one line, for the room beside a short rail.
func (r rail) legend(th theme, w int) string {
	if w < 12 || len(r.parts) == 0 {
		return strings.Repeat(" ", max(0, w))
	}
	names := make([]string, len(r.parts))
	for i, p := range r.parts {
		names[i] = fmt.Sprintf("%d %s %s", p.number, p.title, units.Bytes(p.span.Len()))
	}
	return th.dim.Render(fit("  "+strings.Join(names, " · "), w))
}

// drawn is a rail as lines: the bar with the legend beside it, the bar alone,
// and what stands under it: the labels, or the progress of a run.
type drawn struct{ bar, plain, under string }

func (r rail) draw(th theme, scale int64, w int) drawn {
	if r.id.Size == 0 {
		none := th.dim.Render(strings.Repeat("┈", w))
		return drawn{none, none, strings.Repeat(" ", w)}
	}
	n := r.width(scale, w)
	rest := strings.Repeat(" ", w-n)
	d := drawn{r.bar(th, n) + r.legend(th, w-n), r.bar(th, n) + rest, r.labels(th, n) + rest}
	if r.cells != nil {
		d.under = r.progress(th, n) + rest
	}
	return d
}

// rails draws both rails; high says how many lines there are.
func (m *railsPane) rails(w, high int) []string {
	up, down := m.sourceRail(), m.targetRail()
	scale := max(up.id.Size, down.id.Size)
	u, d := up.draw(m.th, scale, w), down.draw(m.th, scale, w)
	switch {
	case high < 26: // one line each: the progress, or the bar
		if up.cells != nil {
			u.bar = u.under
		}
		if down.cells != nil && down.id.Size > 0 {
			d.bar = d.under
		}
		return []string{up.caption(m.th, w), u.bar, down.caption(m.th, w), d.bar}
	case high < 34:
		return []string{up.caption(m.th, w), u.bar, u.under, down.caption(m.th, w), d.bar, d.under}
	}
	return []string{up.caption(m.th, w), u.bar, u.plain, u.under, m.threads(up, down, w), down.caption(m.th, w), d.bar,
		d.plain,
		d.under}
}

// threads joins the parts that go together: each leads to its place on the target.
func (m *railsPane) threads(up, down rail, w int) string {
	if m.step == stepReady && m.readyPage.readyOn() {
		return m.readyPage.fates(up, w)
	}
	line := []rune(strings.Repeat(" ", w))
	if m.target != nil && m.fitPage.pair != nil && (m.fromTwin || m.fitPage.copying) && m.step >= stepFit &&
		up.id.Size > 0 &&
		down.id.Size > 0 {
		scale := max(up.id.Size, down.id.Size)
		down.parts = m.plannedParts(twinParts(m.fitPage.pair.Describe()))
		to := map[int]int{}
		for _, s := range down.layout(down.width(scale, w)) {
			to[s.part.number] = (s.from + s.to) / 2
		}
		for _, s := range up.layout(up.width(scale, w)) {
			at := (s.from + s.to) / 2
			if end, known := to[s.part.number]; known && at < w && end < w { // otherwise it is left out
				drawThread(line, at, end)
			}
		}
	}
	return m.th.writes.Render(string(line))
}

// drawThread leads from a part to where it goes.
func drawThread(line []rune, from, to int) {
	if line[from] = '╰'; to < from {
		line[from] = '╯'
	}
	for i := min(from, to) + 1; i < max(from, to); i++ {
		if line[i] == ' ' {
			line[i] = '─'
		}
	}
	line[to] = '▾'
}

// shortPath keeps a device's name whole and of a long path only the file.
func shortPath(p string) string {
	if len(p) <= 24 {
		return p
	}
	return "…/" + filepath.Base(p)
}
