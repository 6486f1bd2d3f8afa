package tui

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
)

// choice is one thing to choose.
type choice struct {
	name, about string
	no          string // why it can't be chosen; empty when it can
	warns       bool   // what it is about is a warning
	on          bool
}

// menu is a list to choose one thing from, or several.
type menu struct {
	above   []string // lines over the title
	title   string
	choices []choice
	several bool
	none    bool // of several none may be chosen, too
	at      int
	outcome *outcome // what it leads to, on the lower rail; may be nil
	then    func(chosen []int) tea.Cmd
	left    func() // what leaving it without a choice leads to; may be nil
}

// offer shows a menu.
func (m *menus) offer(n menu) {
	m.menu, m.scroll, m.note = &n, 0, ""
}

// offerAfterRun asks something when a run has ended: the question waits until the Run step is looked at, and goes when
// another run begins.
func (m *menus) offerAfterRun(n menu, hint string) {
	m.waiting = &n
	if m.askWaiting(); m.waiting != nil {
		m.say("%s", hint)
	}
}

// askWaiting asks what waits, where nothing else is being asked.
func (m *menus) askWaiting() {
	if n := m.waiting; n != nil && m.step == stepRun && m.menu == nil && m.prompt.typing == nil &&
		m.lastPage.confirm == nil {
		m.waiting = nil
		m.offer(*n)
	}
}

// forgetWaiting takes away what waits to be asked.
func (m *menus) forgetWaiting() {
	n := m.waiting
	if m.waiting = nil; n != nil && n.left != nil {
		n.left()
	}
}

// leaveMenu takes the menu away without a choice.
func (m *menus) leaveMenu() {
	n := m.menu
	if m.menu = nil; n != nil && n.left != nil {
		n.left()
	}
}

func (m *menus) bindings() []binding {
	n := m.menu
	out := []binding{move(listKeys, "choose", "", &n.at, len(n.choices))}
	if n.several {
		out = append(out, binding{"space", "Space", "in or out", "", acts(func() {
			n.choices[n.at].on = !n.choices[n.at].on
		})})
	}
	return append(out, binding{"enter", "Enter", "take it", "", leads(m.takeChoice)},
		binding{"esc q", "Esc", "leave it", "", acts(m.leaveMenu)},
		binding{"?", "?", "help", "the keys of this list, and all marks", acts(func() { m.help, m.scroll = true, 0 })})
}

// takeChoice does what the menu was offered for.
func (m *menus) takeChoice() tea.Cmd {
	n := m.menu
	chosen := []int{n.at}
	if n.several {
		chosen = nil
		for i, c := range n.choices {
			if c.on {
				chosen = append(chosen, i)
			}
		}
		if len(chosen) == 0 && !n.none {
			m.fail("Nothing is chosen yet: press Space on what you want.")
			return nil
		}
	}
	if no := n.choices[n.at].no; no != "" && !n.several {
		m.fail(strings.TrimSpace(n.choices[n.at].name) + " can't be chosen: " + no + ".")
		return nil
	}
	m.menu = nil
	cmd := n.then(chosen)
	return tea.Batch(cmd, m.replan())
}

func (n *menu) body(th theme, w int) ([]string, int) {
	out := slices.Clone(n.above)
	for _, l := range th.wrap(n.title, w-2) {
		out = append(out, " "+th.strong.Render(l))
	}
	out = append(out, "")
	keep := 0
	for i, c := range n.choices {
		mark, name := "   ", fit(c.name, min(w-12, max(46, len([]rune(c.name)))))
		if i == n.at {
			mark, name, keep = " ▶ ", th.here.Render(name), len(out)
		}
		if n.several {
			box := th.dim.Render("[ ] ")
			if c.on {
				box = th.good.Render("[■] ")
			}
			mark += box
		}
		if c.no != "" && i != n.at {
			name = th.dim.Render(name)
		}
		out = append(out, mark+name)
		if c.about == "" {
			continue
		}
		paint := th.dim
		if c.warns {
			paint = th.caution
		}
		for _, l := range th.wrap(c.about, w-8) {
			out = append(out, paint.Render("      "+l))
		}
		if i == n.at { // what is said about it stays in view too
			keep = len(out) - 1
		}
	}
	return out, keep
}
