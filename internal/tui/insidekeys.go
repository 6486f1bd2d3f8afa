package tui

import (
	tea "charm.land/bubbletea/v2"
)

// bindings are those of the pane that is open, or of the folder.
func (m *insidePage) bindings() []binding {
	l := &m.inside
	switch {
	case l.viewing != nil:
		return m.viewPane.bindings()
	case l.diffing != nil:
		return m.diffPane.bindings()
	case l.finding != nil:
		return m.findPane.bindings()
	}
	back := binding{"esc", "Esc", "back", "to the step before, or to what led here", leads(m.leaveFolder)}
	search := binding{"/", "/", "search", "search a name over all dates and machines", leads(m.findPane.askSearch)}
	if m.w.Shelf == nil {
		search.show = ""
	}
	if l.in == nil {
		return []binding{search, back}
	}
	return append(m.itemBindings(search), back)
}

// leaveFolder goes back to what the folder was opened from.
func (m *insidePage) leaveFolder() tea.Cmd {
	l := &m.inside
	if l.behind.f == nil && l.behind.d == nil {
		return m.back()
	}
	l.finding, l.diffing = l.behind.f, l.behind.d
	l.behind.f, l.behind.d = nil, nil
	return nil
}

// itemBindings are for the items of a folder.
func (m *insidePage) itemBindings(search binding) []binding {
	l := &m.inside
	out := []binding{
		{listKeys + " pgdown pgup", "↑↓", "item", "choose an item", m.toItem},
		{"right l enter", "→", "open", "open the folder or look at the file (Enter too)", leads(m.openChosen)},
		{"left h backspace", "←", "up", "to the folder above", leads(m.folderUp)},
	}
	date := binding{"[ ]", "[]", "date", "the same folder at the date before or after", func(k string) tea.Cmd {
		return m.otherDate(map[string]int{"[": -1, "]": 1}[k])
	}}
	version := binding{"< >", "<>", "version", "the date before or after at which the item is another one",
		func(k string) tea.Cmd { return m.otherVersion(map[string]int{"<": -1, ">": 1}[k]) }}
	compare := binding{"c", "c", "compare", "what came, went, changed and moved since another date",
		acts(m.diffPane.offerComparison)}
	if l.in.Twin == nil { // they say why there is nothing to go to
		date.show, version.show, compare.show = "", "", ""
	}
	return append(out, date, unlockInside(m),
		binding{"t", "t", "take out", "take the marked items, or this one, out into a folder, a tar or a zip file",
			acts(m.askTake)},
		search,
		m.unless(m.partless(), binding{"space", "Space", "mark", "mark items to be taken out together",
			acts(m.markChosen)}),
		version, compare,
		m.unless(m.partless(), binding{"s", "s", "sort", "by name, size or time", leads(m.otherOrder)}),
		m.unless(m.partless(), binding{"a", "a", "hidden", "show hidden and system items, or don't",
			leads(m.toggleHidden)}))
}

// partless is why what needs an open folder can't act; empty when one is open.
func (m *insidePage) partless() string {
	if m.inside.part == nil {
		return "Open a part first: → opens it."
	}
	return ""
}

// toggleHidden shows hidden and system items, or doesn't.
func (m *insidePage) toggleHidden() tea.Cmd {
	l := &m.inside
	l.hidden = !l.hidden
	l.arrange(l.chosenName())
	if l.hidden {
		m.say("Hidden and system items are shown.")
	} else {
		m.say("Hidden and system items aren't shown: there are %d here.", l.unseen)
	}
	return m.readDetail()
}

// toItem chooses another item.
func (m *insidePage) toItem(k string) tea.Cmd {
	l := &m.inside
	rows := len(l.in.Parts)
	if l.part != nil {
		rows = len(l.shown)
	}
	at := paged(k, l.at, rows, m.insideRoom())
	if at == l.at {
		return nil
	}
	l.at = at
	return m.readDetail()
}

// paged is where a key leads to in a list of n of which so many rows are seen.
func paged(k string, at, n, room int) int {
	page := max(1, room-1)
	switch k {
	case "pgdown":
		at += page
	case "pgup":
		at -= page
	default:
		at = moved(k, at, n)
	}
	return max(0, min(at, n-1))
}

// paging is a binding that moves in a list of n.
func (m *viewPane) paging(at *int, n int) binding {
	return binding{listKeys + " pgdown pgup", "↑↓", "choose", "", func(k string) tea.Cmd {
		*at = paged(k, *at, n, m.viewRoom())
		return nil
	}}
}

func (m *diffPane) bindings() []binding {
	l := &m.insidePage.inside
	d := l.diffing
	return []binding{
		m.viewPane.paging(&d.at, len(d.rows)),
		{"enter right", "Enter", "go there", "open the folder that it is in", leads(func() tea.Cmd {
			if d.at < len(d.rows) && d.rows[d.at].d != nil {
				return m.goToDifference(d.rows[d.at])
			}
			return nil
		})},
		{"esc q left", "Esc", "close it", "", leads(func() tea.Cmd {
			if l.diffing = nil; l.in == nil {
				return m.back()
			}
			return nil
		})},
	}
}

func (m *findPane) bindings() []binding {
	l := &m.insidePage.inside
	f := l.finding
	n := 0
	if f.res != nil {
		n = len(f.res.Found)
	}
	return []binding{
		m.viewPane.paging(&f.at, n),
		{"enter right", "Enter", "go there", "open the newest date that has it", leads(func() tea.Cmd {
			if f.at < n {
				return m.goToFound(f.res.Found[f.at])
			}
			return nil
		})},
		{"/", "/", "search again", "", leads(m.askSearch)},
		{"esc q left", "Esc", "close it", "", leads(func() tea.Cmd {
			f.cancel()
			if l.finding = nil; l.in == nil {
				return m.back()
			}
			return nil
		})},
	}
}
