package tui

import (
	"fmt"
	"slices"
	"strings"
	layout "twinshelf/internal/fit"

	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/plan"
	"twinshelf/internal/restore"
	"twinshelf/internal/shelf"
	"twinshelf/internal/startup"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

func tableRole(s string) table.Role { return table.Role(s) }

// lines shows what goes where.
func (m *fitPage) lines(w int) []string {
	_, ok := m.origin()
	switch {
	case !ok:
		return m.plain(w, "Fit", "needs a twin, or a disk to copy.",
			"Capture a machine first: Bench (1), then Enter on its disk.", "To copy a disk directly press c on it.")
	case m.target == nil:
		lines := m.pairLines(w)
		if len(lines) > 0 {
			lines = append([]string{""}, lines...)
		}
		return append(lines,
			m.plain(w, "Fit", "needs a target.", "Press t and choose it from the disks on the bench.",
				"Nothing is written before the last page, where you type what is on the target's sticker.")...)
	case m.runPage.writesTo(m.target.Path):
		return m.plain(w, "Fit", "has no plan now.", stickerEnd(m.target.Identity)+" is being written. Step 6 "+
			"shows it; t "+
			"chooses another target.")
	case m.restoreErr != nil && m.busy == nil:
		out := []string{"", " " + m.th.bad.Render("This can't be done.")}
		for _, l := range m.th.wrap(m.restoreErr.Error(), w-4) {
			out = append(out, "   "+l)
		}
		return append(out, "", "   Press t to choose another disk, or u to undo the last change.")
	case m.pair == nil && m.busy == nil:
		return []string{"", m.th.dim.Render(" There is no plan: press t to choose a disk.")}
	case m.pair == nil:
		return []string{"", m.th.dim.Render(" Working out what goes where …"), "",
			m.th.dim.Render("   " + m.busy.words())}
	}
	head := fitHead(m.th, m.pair.Plan.Plan)
	if m.busy != nil {
		head = m.th.caution.Render("Being worked out again") + m.th.dim.Render(": below is the previous plan. Esc "+
			"gives up. "+
			m.busy.words())
	}
	out := append(m.pairLines(w), " "+head, "")
	out = append(out, m.fitParts(w)...)
	if m.wide >= twoPanes {
		return out
	}
	return append(append(out, ""), m.fitWords(w)...)
}

// fitWords are what happens, what is to know of it, and whether it should start.
func (m *fitPage) fitWords(w int) []string {
	return append(m.fitNotes(w), startLines(m.th, m.pair.Plan, w)...)
}

// share is how much of the window the parts take, in percent.
func (m *fitPage) share() int { return 60 }

// beside says what happens.
func (m *fitPage) beside(w int) []string {
	if m.pair == nil || m.restoreErr != nil || m.target == nil || m.runPage.writesTo(m.target.Path) {
		return nil
	}
	return append([]string{" " + m.th.strong.Render("What happens"), ""}, m.fitWords(w)...)
}

// fitParts is the table of what becomes of each part.
func (m *fitPage) fitParts(w int) []string {
	d, f := m.pair.Describe(), m.pair.Plan.Layout
	title, wide := min(26, max(18, w-92)), w >= wideFit
	head := "     " + fit("part", title)
	if wide {
		head += fit("role", 10) + right("used", 9)
	}
	head += right("was", 10) + right("will be", 12)
	if wide {
		head += right("begins at", 12)
	}
	out := []string{m.th.dim.Render(head + "   what happens")}
	m.fit.row = min(m.fit.row, max(0, len(f.Parts)-1))
	for i, x := range f.Parts {
		out = append(out, m.fitLine(i, x, d, title, w))
	}
	if a := m.pair.Plan.Added; a != nil {
		line := "   + " +
			fit(fmt.Sprintf("%d %s", a.Part.Number, a.Label), title+map[bool]int{true: 29, false: 10}[wide]) +
			right(m.th.size(a.Part.Span.Len()), 12)
		if wide {
			line += right(m.th.size(a.Part.Span.Start), 12)
		}
		out = append(out, m.th.good.Render(line+"   new, "+a.Kind))
	}
	if left := f.Leftover; !left.Empty() && m.pair.Plan.Added == nil {
		out = append(out,
			m.th.caution.Render(fmt.Sprintf("   ─ %s%s   left over, unused",
				fit("after the last part", title+map[bool]int{true: 29, false: 10}[wide]),
				right(m.th.size(left.Len()), 12))))
	}
	return out
}

// fitNotes are what is to know of the plan.
func (m *fitPage) fitNotes(w int) (out []string) {
	d, p := m.pair.Describe(), m.pair.Plan
	f := p.Layout
	_, data := p.Bytes()
	notes := append([]string{fmt.Sprintf("%s of the target = %s that the source takes + %s of room",
		m.th.size(f.Size), m.th.size(f.Size-f.Room), m.th.size(f.Room))}, p.Notes()...)
	notes = append(notes,
		fmt.Sprintf("the smallest disk it fits %sis one of %s; %s of data to write, about %s, then it is read back "+
			"and proven",
			map[bool]string{true: "", false: "without shrinking "}[f.Smallest > 0], m.th.size(smallest(f)),
			m.th.size(data), units.Duration(p.Estimate())))
	if b := p.Before(); b != nil {
		notes = append(notes,
			fmt.Sprintf("an earlier run was cut off on %s: it goes on at %d %%; press a to begin anew",
				units.Moment(b.When), b.Percent(f.Size)))
	}
	if p.Fresh != nil {
		notes = append(notes, p.Fresh.Does...)
	}
	for _, n := range append(notes, restore.Warnings(d)...) {
		out = append(out, m.th.bullet(n, w)...)
	}
	for _, n := range m.pair.Consents() {
		out = append(out, warned(m.th, n, w)...)
	}
	if p.Fresh != nil {
		for _, n := range slices.Concat(p.Fresh.Asks, p.Fresh.Stays) {
			out = append(out, warned(m.th, n, w)...)
		}
	}
	return out
}

// warned is a line to be careful about.
func warned(th theme, text string, w int) []string {
	var out []string
	for i, l := range th.wrap(text, w-5) {
		mark := " ! "
		if i > 0 {
			mark = "   "
		}
		out = append(out, th.caution.Render(mark+l))
	}
	return out
}

// startLines say whether the planned disk should start, and why.
func startLines(th theme, p *restore.Restore, w int) []string {
	if !p.Startup.Meant() && len(p.Startup.Findings) == 0 {
		return nil
	}
	paint := th.good
	switch {
	case len(p.Startup.Starts()) > 0:
	case len(p.Startup.May()) > 0:
		paint = th.caution
	default:
		paint = th.bad
	}
	words := p.Startup.Words()
	out := []string{""}
	for _, l := range th.wrap(strings.ToUpper(words[:1])+words[1:], w-2) {
		out = append(out, " "+paint.Render(l))
	}
	for _, r := range p.Repaired {
		out = append(out, th.bullet("will be repaired: "+r, w)...)
	}
	for _, f := range p.Startup.Findings {
		evidence := ""
		if f.Evidence != "" {
			evidence = " (" + f.Evidence + ")"
		}
		switch {
		case f.Verdict == startup.Good:
			out = append(out, th.bullet(f.Says+evidence, w)...)
		case evidence != "" || !strings.HasSuffix(words, f.Says): // the verdict has said it
			out = append(out, warned(th, f.Says+evidence, w)...)
		}
	}
	return out
}

// smallest is the size of the smallest disk that is known to do.
func smallest(l *layout.Layout) int64 {
	if l.Smallest > 0 {
		return l.Smallest
	}
	return l.Least
}

// wideFit is how many columns it takes to show also what each part is for and where it begins.
const wideFit = 96

// fitHead is the plan in a sentence.
func fitHead(th theme, p *plan.Plan) string {
	grown, shrunk, moved, left := 0, 0, 0, 0
	for _, x := range p.Layout.Parts {
		switch {
		case x.To.Empty():
			left++
		case x.Grown() > 0:
			grown++
		case x.Shrunk() > 0:
			shrunk++
		}
		if x.Moved() {
			moved++
		}
	}
	if grown+shrunk+moved+left == 0 && p.Added != nil {
		return th.strong.Render("Every part keeps its place and its size, and a new one takes the rest.")
	}
	if grown+shrunk+moved+left == 0 {
		return th.strong.Render("Every part keeps its place and its size.")
	}
	var what []string
	for _, c := range []struct {
		n          int
		one, other string
	}{{grown, "part grows", "parts grow"}, {shrunk, "part shrinks", "parts shrink"}, {moved, "moves", "move"},
		{left, "is left out", "are left out"}} {
		if c.n == 1 {
			what = append(what, "1 "+c.one)
		} else if c.n > 1 {
			what = append(what, fmt.Sprintf("%d %s", c.n, c.other))
		}
	}
	return th.strong.Render(strings.ToUpper(what[0][:1])+strings.Join(what, ", ")[1:]+".") +
		" The source stays as it is."
}

// fitLine is one part before and after.
func (m *fitPage) fitLine(i int, x layout.Part, d *shelf.TwinDisk, title, w int) string {
	r := shelf.Region{Part: x.Part.Number, Kind: x.Kind}
	for _, q := range d.Parts() {
		if q.Part == x.Part.Number {
			r = q
		}
	}
	p := m.th.patternOf(tableRole(r.Role))
	mark, name := "   ", fit(fmt.Sprintf("%d %s", x.Part.Number, r.Title()), title)
	if i == m.fit.row {
		mark, name = " ▶ ", m.th.here.Render(name)
	}
	line := mark + p.style.Render(p.used) + " " + name
	if w >= wideFit {
		line += fit(r.Role, 10) + right(m.th.size(r.Used), 9)
	}
	line += right(m.th.size(x.From.Len()), 10)
	begins := ""
	if w >= wideFit {
		begins = right(m.th.size(x.To.Start), 12)
	}
	if x.To.Empty() {
		return line + right("—", 12) + right("", ansi.StringWidth(begins)) + "   " +
			m.th.bad.Render("✗ left out: not on the target")
	}
	size := right(m.th.size(x.To.Len()), 12)
	var what []string
	if x.Grown() > 0 {
		size = m.th.good.Render(size)
		share := ""
		if x.Share > 1 {
			share = fmt.Sprintf(" (share %d)", x.Share)
		}
		what = append(what, m.th.good.Render("▲ grows by "+m.th.size(x.Grown())+share))
	}
	if x.Shrunk() > 0 {
		size = m.th.caution.Render(size)
		what = append(what, m.th.caution.Render("▼ shrinks by "+m.th.size(x.Shrunk())))
	}
	if x.Moved() {
		begins = m.th.reads.Render(begins)
		dir := "→ moves on"
		if x.To.Start < x.From.Start {
			dir = "← moves up"
		}
		what = append(what, m.th.reads.Render(dir))
	}
	text := strings.Join(what, ", ")
	switch {
	case text == "" && x.Fixed != "":
		text = m.th.dim.Render("stays; can't grow: " + x.Fixed)
	case text == "":
		text = m.th.dim.Render("stays as it was")
	}
	return line + size + begins + "   " +
		ansi.Truncate(text, max(10, w-ansi.StringWidth(line)-12-ansi.StringWidth(begins)-3), "…")
}

func (m *fitPage) body(w int) ([]string, int) {
	lines, keep := m.lines(w), -1
	if m.pair != nil && m.restoreErr == nil && m.target != nil {
		if keep = len(m.pairLines(w)) + 3 + m.fit.row; keep >= len(lines) {
			keep = -1
		}
	}
	return lines, keep
}
