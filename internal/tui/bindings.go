package tui

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
)

// binding is what a key does. The bindings of a page are the only source for what keys do on it, for the key line, for
// the help and for docs/keys.md.
type binding struct {
	// keys are its names in the terminal library, separated by spaces.
	keys string
	// show is how it is shown; empty for another way to do what a binding with a name does.
	show string
	// does says what it does in a word or two, for the key line; more in a sentence, for the help: empty where does
	// says it all.
	does, more string
	// do does it. It gets the key.
	do func(k string) tea.Cmd
}

// has says whether a key is one of the binding's.
func (b binding) has(k string) bool { return slices.Contains(strings.Fields(b.keys), k) }

// bound finds the first binding that has a key.
func bound(list []binding, k string) (binding, bool) {
	i := slices.IndexFunc(list, func(b binding) bool { return b.has(k) })
	if i < 0 {
		return binding{}, false
	}
	return list[i], true
}

// over lays bindings over others: of those only what keeps a key is left.
func over(upper, lower []binding) []binding {
	out := slices.Clone(upper)
	for _, b := range lower {
		if !slices.ContainsFunc(strings.Fields(b.keys), func(k string) bool {
			_, taken := bound(upper, k)
			return taken
		}) {
			out = append(out, b)
		}
	}
	return out
}

// acts makes an action of something that needs no key and leads to nothing else.
func acts(what func()) func(string) tea.Cmd {
	return func(string) tea.Cmd {
		what()
		return nil
	}
}

// leads makes an action of something that needs no key.
func leads(what func() tea.Cmd) func(string) tea.Cmd { return func(string) tea.Cmd { return what() } }

const (
	upKeys   = "up k"
	downKeys = "down j"
	lineKeys = upKeys + " " + downKeys
	endKeys  = "home end g G"
	listKeys = lineKeys + " " + endKeys
)

// moved is where a key leads to in a list of n.
func moved(k string, at, n int) int {
	switch k {
	case "down", "j":
		at++
	case "up", "k":
		at--
	case "home", "g":
		at = 0
	case "end", "G":
		at = n - 1
	}
	return max(0, min(at, n-1))
}

// move is a binding that moves in a list of n by such keys.
func move(keys, does, more string, at *int, n int) binding {
	return binding{keys, "↑↓", does, more, func(k string) tea.Cmd {
		*at = moved(k, *at, n)
		return nil
	}}
}

// bindings are what keys do now: those of what is asked, or else those of the page and those that every page has.
func (m *model) bindings() []binding {
	if b, asks := m.asking(); asks {
		return b
	}
	return over(m.page().bindings(), m.anywhere())
}

// asking are the bindings of what is asked, typed or shown over the page.
func (m *model) asking() ([]binding, bool) {
	switch {
	case m.runPage.leaving:
		return m.runPage.leavingBindings(), true
	case m.runPage.ending:
		return m.runPage.endingBindings(), true
	case m.lastPage.confirm != nil:
		return m.lastPage.bindings(), true
	case m.prompt.typing != nil, m.prompt.refused != "":
		return m.prompt.bindings(), true
	case m.help:
		return []binding{{"esc ? q enter", "Esc", "close the help", "", acts(func() { m.help, m.scroll = false, 0 })},
			{lineKeys + " pgup pgdown", "↑↓", "read on", "", func(k string) tea.Cmd {
				by := map[string]int{"down": 1, "j": 1, "pgdown": 5, "up": -1, "k": -1, "pgup": -5}
				m.scroll = max(0, m.scroll+by[k])
				return nil
			}}}, true
	case m.menus.menu != nil:
		return m.menus.bindings(), true
	}
	return nil, false
}

// anywhere are the bindings that every page has.
func (m *model) anywhere() []binding {
	pages := func(k string) tea.Cmd {
		at := &m.scroll
		if m.other {
			at = &m.scrollBeside
		}
		*at = max(0, *at+map[string]int{"pgdown": 5, "pgup": -5}[k])
		return nil
	}
	all := []binding{
		{"1 2 3 4 5 6 7 8", "1–8", "steps", "open a step", m.toStep},
		{"9", "9", "routines", "work that is saved by name and happens by itself: how it went, when it is due",
			leads(func() tea.Cmd { return openRoutines(m) })},
		m.paneBinding(),
		{"pgdown pgup", "", "", "", pages},
		{"esc", "Esc", "back", "to the step before", leads(m.back)},
		{"B", "B", "GB or GiB", "sizes as on a drive's sticker (1 GB is 1000 MB), or as many programs " +
			"say them (1 GiB is 1024 MiB); remembered", acts(func() { otherUnits(m) })},
		drawingBinding(m),
		{menuKey, menuKey, "all keys", "a list of everything that works here", acts(m.helper.offerKeys)},
		{"?", "?", "help", "this page", acts(func() { m.help, m.scroll = true, 0 })},
		{"q", "q", "leave", "asks only while a run is under way", leads(m.quit)},
	}
	if m.welcomePage.stick == nil {
		return all
	}
	return slices.Insert(all, 1, binding{"0", "0", "this machine", "on a machine that was started from a stick: its " +
		"clock and keyboard, start entries, shelves that were found",
		leads(func() tea.Cmd { return m.goTo(stepWelcome) })})
}

// toStep opens a step by its number.
func (m *model) toStep(k string) tea.Cmd {
	s := step(k[0] - '1')
	if s == m.step {
		m.say("%s is open already.", stepNames[s])
		return nil
	}
	return m.goTo(s)
}

// otherPane turns to the page's other pane; where both are in view it says which one is scrolled.
func (m *model) otherPane() {
	if m.other = !m.other; m.wide >= twoPanes {
		m.say("PgUp and PgDn scroll the %s pane now.", map[bool]string{true: "right", false: "left"}[m.other])
	}
}

// paneBinding turns to the other pane of the page.
func (m *model) paneBinding() binding {
	b := binding{"tab shift+tab", "Tab", "other pane", "turn to the page's other pane; PgUp and PgDn scroll it",
		acts(m.otherPane)}
	if m.wide > 0 && m.secondPane(max(leastWide, m.wide-1)) == nil {
		b.show, b.do = "", acts(func() { m.say("This page has one pane.") })
	}
	return b
}

// shown are the bindings that the key line and the help have.
func shown(list []binding) []binding {
	return slices.DeleteFunc(slices.Clone(list), func(b binding) bool { return b.show == "" })
}

func (m *model) onKey(msg tea.KeyPressMsg) tea.Cmd {
	k := msg.String()
	if k == "ctrl+c" {
		return m.quit()
	}
	list, asks := m.asking()
	if !asks {
		list = m.bindings()
	}
	if b, ok := bound(list, k); ok {
		source, target := m.source, m.target
		cmd := b.do(k)
		return tea.Batch(cmd, enterLook(m, source, m.source), enterLook(m, target, m.target))
	}
	switch {
	case m.lastPage.confirm != nil && !m.runPage.leaving && !m.runPage.ending:
		return m.lastPage.typeOn(msg)
	case m.prompt.typing != nil && !m.runPage.leaving && !m.runPage.ending:
		return m.prompt.typeOn(msg)
	}
	return nil
}

// scrolled are the bindings of a page that only scrolls.
func (m *model) scrolled() binding {
	return binding{lineKeys, "", "", "", func(k string) tea.Cmd {
		m.scroll = max(0, m.scroll+map[string]int{"down": 1, "j": 1, "up": -1, "k": -1}[k])
		return nil
	}}
}
