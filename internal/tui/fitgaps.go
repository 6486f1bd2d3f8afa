package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/plan"
)

// nothingMissing is why nothing can be put into gaps; empty where the date has some.
func nothingMissing(m *fitPage) string {
	switch o, ok := m.origin(); {
	case !ok:
		return "There is nothing to restore yet."
	case o.Bench != nil:
		return "What an attached disk doesn't give isn't known before it is read: a rescue (R on the Bench) finds out."
	case o.Describe().Missing.Empty():
		return "Nothing of this twin is missing: it has no gaps."
	}
	return ""
}

// askGaps asks what becomes of gaps in files.
func askGaps(m *fitPage) {
	n := menu{title: "What fills the gaps in files?",
		choices: []choice{{name: "zeros"}, {name: "zeros, and " + plan.ListName +
			" in the root folders names the files"},
			{name: "a text"}, {name: "a text, and " + plan.ListName + " names the files"}}}
	n.then = func(chosen []int) tea.Cmd {
		wish := m.fitWish()
		wish.Gaps.List = chosen[0]%2 == 1
		if chosen[0] < 2 {
			wish.Gaps.Text = ""
			m.setWish(wish)
			return m.replan()
		}
		was := wish.Gaps.Text
		if was == "" {
			was = "LOST: not read from the old drive"
		}
		m.prompt.ask("Text for the gaps: ", was, func(text string) {
			wish.Gaps.Text = strings.TrimSpace(text)
			m.setWish(wish)
			m.prompt.pending = m.replan()
		})
		return nil
	}
	m.menus.offer(n)
}
