package tui

import (
	"fmt"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/units"
)

// draw gives the lines of the whole screen: route, rails, body, message, keys.
func (m *model) draw() []string {
	w := m.wide
	if w < 60 || m.high < 16 {
		return []string{fit("The window is too small:", w), fit(fmt.Sprintf("%d×%d, at least 60×16.", w, m.high), w)}
	}
	lines := []string{m.routeLine(w)}
	lines = append(lines, m.railsPane.rails(w, m.high)...)
	lines = append(lines, m.th.dim.Render(strings.Repeat("─", w)))
	bottom := []string{m.message(w), m.keyLine(w)}
	if m.lastPage.summary != nil && !m.help {
		lines = append(lines, m.lastPage.summaryHead(w)...)
		bottom = append(m.lastPage.summaryFoot(w), bottom...)
	}
	m.room = m.high - len(lines) - len(bottom)
	body, keep := m.body(w)
	lines = append(lines, m.window(body, m.room, keep)...)
	lines = append(lines, bottom...)
	for i := range lines {
		lines[i] = ansi.Truncate(lines[i], w, "")
	}
	return lines
}

// window cuts the body to the room; keep is a line that must stay in view, or -1.
func (m *model) window(body []string, room, keep int) []string {
	if keep >= 0 {
		m.scroll = max(keep-room+2, min(m.scroll, max(0, keep-1)))
	}
	m.scroll = max(0, min(m.scroll, len(body)-room))
	out := body[m.scroll:]
	if len(out) > room {
		out = append([]string{}, out[:room]...)
		out[room-1] = m.th.dim.Render(fmt.Sprintf("… %s below", units.Plural(len(body)-m.scroll-room+1, "line")))
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
		case step(i) == m.railsPane.under():
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
	if w < 100 {
		name = ""
	}
	return sides(b.String(), name+" ", w)
}

func (m *model) stepName() string {
	if m.step == stepInside {
		return "Look inside"
	}
	return stepNames[m.step]
}

func (m *model) message(w int) string {
	switch {
	case m.runPage.leaving:
		return m.th.caution.Render(fit(" A run is on. Leaving cancels it. Cancel and leave? (y/n)", w))
	case m.runPage.ending:
		return m.th.caution.Render(fit(" Cancel the run? (y/n)  "+m.runPage.stopped, w))
	case m.prompt.typing != nil:
		return " " + m.prompt.typing.View()
	case m.note != "" && m.alarm:
		return m.th.bad.Render(fit(" ▲ "+m.note, w))
	case m.note != "":
		return fit(" "+m.note, w)
	case m.looking > 0:
		return m.th.dim.Render(fit(fmt.Sprintf(" Looking at %s …", units.Plural(m.looking, "disk")), w))
	}
	return ""
}

// keyLine is the last line: the keys that work now. Help and leaving stand at
// the right end, so that a narrow window never cuts them off.
func (m *model) keyLine(w int) string {
	all := shown(m.bindings())
	last := ""
	if n := len(all); n > 2 && all[n-1].show == "q" {
		for _, b := range all[n-2:] {
			last += m.th.keyStyle.Render(b.show) + " " + b.does + " "
		}
		all = all[:n-2]
	}
	line, used := " ", 1
	for _, b := range all {
		n := lipgloss.Width(b.show) + lipgloss.Width(b.does) + 3
		if used+n+lipgloss.Width(last) > w {
			break
		}
		line += m.th.keyStyle.Render(b.show) + " " + b.does + "  "
		used += n
	}
	return sides(line, last, w)
}

// body gives the lines of the present step, and which one must stay in view.
func (m *model) body(w int) ([]string, int) {
	switch {
	case m.help:
		return m.helpBody(w), -1
	case m.lastPage.summary != nil:
		return m.lastPage.summaryBody(w), -1
	case m.menus.menu != nil:
		return m.menus.menu.body(m.th, w)
	}
	return m.page().body(w)
}

func (m *model) plain(w int, title, does string, lines ...string) []string {
	out := []string{""}
	for i, l := range wrap(title+" "+does, w-2) {
		if i == 0 {
			l = m.th.strong.Render(title) + strings.TrimPrefix(l, title)
		}
		out = append(out, " "+l)
	}
	out = append(out, "")
	for _, l := range lines {
		out = append(out, bullet(l, w)...)
	}
	return out
}

// bullet is a sentence with a dot before it, over as many lines as it needs.
func bullet(s string, w int) []string {
	lines := wrap(s, w-4)
	for i := range lines {
		if i == 0 {
			lines[i] = " · " + lines[i]
		} else {
			lines[i] = "   " + lines[i]
		}
	}
	return lines
}

func (m *model) helpBody(w int) []string {
	keys := shown(over(m.page().bindings(), m.anywhere()))
	out := []string{"", " " + m.th.strong.Render("Keys of this step: "+m.stepName()), ""}
	for _, b := range keys {
		text := b.more
		if text == "" {
			text = b.does
		}
		out = append(out, "   "+m.th.keyStyle.Render(fit(b.show, 8))+text)
	}
	out = append(out, "", " "+m.th.strong.Render("The rails"), "")
	legend := []string{"▞ start-up", "█ system", "▆ data", "◆ recovery", "~ swap", "· reserved", "? unknown",
		"░ free inside a part", "─ no part"}
	line := "  "
	for _, l := range legend {
		if ansi.StringWidth(line+l) > w-4 {
			out, line = append(out, line), "  "
		}
		line += " " + l + "  "
	}
	out = append(out, line)
	out = append(out, bullet("READS is never written. WRITES is written only after its last page, where you type "+
		"what is on its sticker.", w)...)
	out = append(out, bullet("While a run is on: ━ done, × can't be read, · still to come.", w)...)
	return append(out, bullet("Twins on a board: the height is what each brought anew, ≈ where that is more than "+
		"the scale shows; ◆ kept for ever, ! not quiet, × places that couldn't be read, ‼ a proof failed, ○ the "+
		"last proof is over half a year old, ✗ would go by the rule.", w)...)
}
