package tui

import (
	"fmt"
	"slices"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/units"
)

// leastWide and leastHigh are the smallest window that everything fits into.
const leastWide, leastHigh = 60, 15

// draw gives the lines of the whole screen: route, lanes, body, message, keys.
func (m *model) draw() []string {
	w := m.wide
	if w < leastWide || m.high < leastHigh {
		return []string{fit("The window is too small:", w), fit(fmt.Sprintf("%d×%d, at least %d×%d.", w, m.high,
			leastWide, leastHigh), w)}
	}
	lines := []string{m.routeLine(w)}
	if line, on := m.runPage.inOneLine(w); on {
		lines = append(lines, line)
	}
	lines = append(lines, m.railsPane.rails(w, m.high)...)
	bottom := []string{m.message(w), m.keyLine(w)}
	lines = append(lines, m.th.dim.Render(strings.Repeat("─", w)))
	if m.lastPage.summary != nil && !m.help {
		lines = append(lines, m.lastPage.head(w)...)
		bottom = append(m.lastPage.foot(w), bottom...)
	}
	m.room = max(1, m.high-len(lines)-len(bottom))
	lines = append(lines, m.middle(w)...)
	lines = append(lines, bottom...)
	for i := range lines {
		lines[i] = cutOff(lines[i], w)
	}
	return lines[:min(len(lines), m.high)]
}

// cutOff cuts a line at the edge of the window, with a mark where words are lost.
func cutOff(line string, w int) string {
	mark := ""
	if ansi.StringWidth(line) > w && ansi.StringWidth(strings.TrimRight(ansi.Strip(line), " ")) > w {
		mark = "…"
	}
	return ansi.Truncate(line, w, mark)
}

// twoPanes is from how many columns on a page shows both of its panes.
const twoPanes = 120

// secondPane is the other pane of the page that is shown; nil where it has none now.
func (m *model) secondPane(w int) []string {
	p, sided := m.page().(sided)
	if !sided || m.help || m.lastPage.summary != nil || m.menus.menu != nil {
		return nil
	}
	return p.beside(w)
}

// middle is the body: one pane, or two beside each other, with what is typed in a box over it.
func (m *model) middle(w int) []string {
	share := 56
	if p, has := m.page().(interface{ share() int }); has {
		share = p.share()
	}
	left := w * share / 100
	right := m.secondPane(w - left - 3)
	var out []string
	row := -1
	switch {
	case right == nil:
		out, row = m.main(w)
	case w < twoPanes && m.other:
		out = window(m.th, m.secondPane(w-1), m.room, &m.scrollBeside, -1)
	case w < twoPanes:
		out, row = m.main(w)
	default:
		out, row = m.main(left)
		side := window(m.th, right, m.room, &m.scrollBeside, -1)
		bar := m.th.dim.Render(" │ ")
		for i := range out {
			out[i] = fit(out[i], left) + bar + fit(side[i], w-left-3)
		}
	}
	return m.prompt.over(out, row, w)
}

// main is the first pane, and the row in it that must stay in view; -1 for none.
func (m *model) main(w int) ([]string, int) {
	body, keep := m.body(w)
	out := window(m.th, body, m.room, &m.scroll, keep)
	if keep >= 0 {
		keep -= m.scroll
	}
	return out, keep
}

// linesKept is how many lines above the one that must stay in view stay so too, where there is room.
const linesKept = 3

// window cuts lines to the room; keep is a line that must stay in view, or -1.
func window(th theme, body []string, room int, scroll *int, keep int) []string {
	if keep >= 0 {
		*scroll = max(keep-room+2, min(*scroll, max(0, keep-linesKept)))
	}
	*scroll = max(0, min(*scroll, len(body)-room))
	out := slices.Clone(body[*scroll:])
	if len(out) > room {
		out = out[:room]
		out[room-1] = th.dim.Render(fmt.Sprintf(" … %s below", units.Plural(len(body)-*scroll-room+1, "line")))
	}
	for len(out) < room {
		out = append(out, "")
	}
	return out
}

// routeLine is the first line: the steps of the job.
func (m *model) routeLine(w int) string {
	var b strings.Builder
	b.WriteString(" ")
	for i, n := range stepNames {
		label := fmt.Sprintf("%d %s", i+1, n)
		switch {
		case step(i) == m.under():
			b.WriteString(m.th.here.Render(" " + label + " "))
		case step(i) == stepRun && m.runPage.running():
			b.WriteString(m.th.caution.Render(" " + label + " "))
		default:
			b.WriteString(m.th.dim.Render(" " + label + " "))
		}
	}
	name := "no shelf"
	if m.w.Shelf != nil {
		name = "shelf " + m.w.Shelf.Head().Name
	}
	if m.w.Demo {
		name = "demo, " + name
	}
	if j := m.sheetPage.current(); j != nil && w >= 130 {
		name = fit("case "+j.Number, min(24, len(j.Number)+5)) + " · " + name
	}
	if w < 100 {
		name = ""
	}
	return sides(b.String(), name+" ", w)
}

// under is the step that is shown, or from which what is shown was opened.
func (m *model) under() step {
	if m.step == stepInside {
		return m.insidePage.inside.from
	}
	return m.step
}

func (m *model) stepName() string {
	switch m.step {
	case stepInside:
		return "Look inside"
	case stepWelcome:
		return "This machine"
	case stepRoutines:
		return "Routines"
	}
	return stepNames[m.step]
}

func (m *model) message(w int) string {
	switch {
	case m.note != "" && m.alarm:
		return m.th.bad.Render(fit(" ▲ "+m.th.sentence(m.note), w))
	case m.note != "":
		return fit(" "+m.th.sentence(m.note), w)
	case m.looking > 0:
		return m.th.dim.Render(fit(fmt.Sprintf(" Looking at %s …", units.Plural(m.looking, "disk")), w))
	}
	return ""
}

// keyLine is the last line: the keys that work now, first what the step is for. Help and leaving stand at the right
// end; what is cut off is counted, and the menu has it.
func (m *model) keyLine(w int) string {
	all := shown(m.bindings())
	last := ""
	if n := len(all); n > 2 && all[n-1].show == "q" {
		for _, b := range all[n-2:] {
			last += m.th.keyStyle.Render(b.show) + " " + b.does + " "
		}
		all = all[:n-2]
	}
	slices.SortStableFunc(all, func(a, b binding) int { return enterFirst(a) - enterFirst(b) })
	wide := func(b binding) int { return lipgloss.Width(b.show) + lipgloss.Width(b.does) + 3 }
	room, used := w-1-lipgloss.Width(last), 0
	for _, b := range all {
		used += wide(b)
	}
	more := ""
	if used > room {
		room -= len(". 99 more  ")
	}
	line := " "
	used = 0
	for i, b := range all {
		if b.show == menuKey {
			continue
		}
		// it comes before all others
		if verb, _, long := strings.Cut(b.does, " "); i == 0 && long && used+wide(b) > room {
			b.does = verb
		}
		if used+wide(b) > room {
			more = m.th.keyStyle.Render(menuKey) + fmt.Sprintf(" %d more", countBut(all[i:], menuKey))
			break
		}
		line += m.th.keyStyle.Render(b.show) + " " + b.does + "  "
		used += wide(b)
	}
	return sides(line+more, last, w)
}

func enterFirst(b binding) int {
	if b.show == "Enter" {
		return 0
	}
	return 1
}

// countBut is how many bindings there are beside the one that is shown so.
func countBut(list []binding, show string) int {
	n := len(list)
	for _, b := range list {
		if b.show == show {
			n--
		}
	}
	return n
}

// body gives the lines of the present step, and which one must stay in view.
func (m *model) body(w int) ([]string, int) {
	switch {
	case m.help:
		return m.helper.helpBody(w), -1
	case m.lastPage.summary != nil:
		return m.lastPage.lines(w), -1
	case m.menus.menu != nil:
		return m.menus.menu.body(m.th, w)
	}
	return m.page().body(w)
}

func (m *model) plain(w int, title, does string, lines ...string) []string {
	out := []string{""}
	for i, l := range m.th.wrap(title+" "+does, w-2) {
		if i == 0 {
			l = m.th.strong.Render(title) + strings.TrimPrefix(l, title)
		}
		out = append(out, " "+l)
	}
	out = append(out, "")
	for _, l := range lines {
		out = append(out, m.th.bullet(l, w)...)
	}
	return out
}

// bullet is a sentence with a dot before it, over as many lines as it needs.
func (th theme) bullet(s string, w int) []string {
	lines := th.wrap(s, w-4)
	for i := range lines {
		if i == 0 {
			lines[i] = " · " + lines[i]
		} else {
			lines[i] = "   " + lines[i]
		}
	}
	return lines
}
