package tui

import (
	"time"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/keeping"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// manyDates is how far a page key goes along the dates.
const manyDates = 20

func (m *datesPage) bindings() []binding {
	open := binding{"o", "o", "other shelf", "open another shelf or make a new one: dates come from it and captures " +
		"go to it",
		m.alone(func() tea.Cmd {
			m.shelfDesk.offerShelves("Open which shelf? Dates come from it and captures go to it", m.shelfDesk.use)
			return nil
		})}
	switch {
	case m.w.Shelf == nil:
		open.does, open.more = "open or make a shelf",
			"open a shelf, or make a new one: dates come from it and captures go to it"
		return []binding{open}
	case len(m.boards) == 0:
		return []binding{open}
	case m.growing:
		return m.growthBindings()
	case m.thin != nil:
		return append(m.thinBindings(), m.walk()...)
	}
	out := append(m.walk(), m.twinBindings()...)
	return append(append(out, m.shelfBindings()...), open)
}

// alone is an action that needs that no run is on.
func (m *datesPage) alone(what func() tea.Cmd) func(string) tea.Cmd {
	return func(string) tea.Cmd {
		if m.runPage.running() {
			m.fail("A run is under way already: see step 6.")
			return nil
		}
		return what()
	}
}

// walk are the ways along the dates and the machines.
func (m *datesPage) walk() []binding {
	b := &m.boards[m.board]
	along := func(k string) tea.Cmd {
		by := map[string]int{"left": -1, "h": -1, "right": 1, "l": 1, "[": -manyDates, "]": manyDates}[k]
		b.at = max(0, min(b.at+by, len(b.twins)-1))
		return nil
	}
	if m.thin != nil {
		return []binding{{"left h right l [ ]", "", "", "", along}, machinesBinding(m, "")}
	}
	return []binding{{"left h right l [ ]", "←→", "date", "walk the dates; [ and ] go 20 at once", along},
		machinesBinding(m, "↑↓"),
		{"d", "d", "disk", "which disk of a machine with several", acts(m.nextDisk)},
		{"/", "/", "type a date", "jump to a date, such as 2026-10", acts(func() {
			m.prompt.ask("Date, such as 2026-10: ", "", m.jumpTo)
		})}}
}

func machinesBinding(m *datesPage, show string) binding {
	return binding{lineKeys + " home end", show, "machine", "walk the machines", func(k string) tea.Cmd {
		m.board, m.twinDisk = moved(k, m.board, len(m.boards)), 0
		return nil
	}}
}

// thinBindings are for what would go by the rule.
func (m *datesPage) thinBindings() []binding {
	return []binding{
		{"enter", "Enter", "drop them", "to the last page before twins are dropped", leads(m.dropThinned)},
		{"r", "r", "other rule", "try another rule; nothing is dropped by that", m.alone(func() tea.Cmd {
			return m.askRule(m.twin().Machine)
		})},
		{"up down", "↑↓←→", "look around", "machines and dates", func(k string) tea.Cmd {
			m.board, m.twinDisk = moved(k, m.board, len(m.boards)), 0
			return nil
		}},
		{"esc", "Esc", "leave it", "nothing is dropped", acts(func() { m.thin, m.goes, m.wished = nil, nil, nil })},
	}
}

// twinBindings are for the chosen twin.
func (m *datesPage) twinBindings() []binding {
	return []binding{
		{"enter", "Enter", "restore " + short(m.twin().Taken), "plan to put this twin onto the target",
			leads(func() tea.Cmd {
				m.fitPage.copies, m.fitPage.of, m.fitPage.disk = "", m.twin().ID, m.twinDisk
				return m.goTo(stepFit)
			})},
		{"i", "i", "inside", "look inside: folders and files at this date", leads(m.insidePage.insideFrom)},
		{"v", "v", "prove", "read every block of this twin", leads(m.prove)},
		{"e", "e", "evidence", "show the last proof of this twin", leads(m.showEvidence)},
		{"f", "f", "for ever", "keep this twin for ever, with a note, or take that back", m.alone(m.keepForEver)},
	}
}

// shelfBindings are for the shelf itself.
func (m *datesPage) shelfBindings() []binding {
	here := "It lies in a folder here: whoever can write to it can delete it."
	if m.far.Far {
		here = ""
	}
	return []binding{
		{"t", "t", "thin", "show what would go by the rule; nothing is dropped by that", m.alone(func() tea.Cmd {
			m.thin, m.goes = &keeping.Preview{}, map[string]string{}
			return m.replan()
		})},
		{"r", "r", "rule", "how densely dates are kept", m.alone(func() tea.Cmd {
			return m.askRule(m.twin().Machine)
		})},
		{"x", "x", "discard", "take this twin off the shelf", m.alone(func() tea.Cmd {
			return m.askDiscard(m.twin())
		})},
		{"s", "s", "space", "give back the room of what nobody needs", m.alone(m.askRoom)},
		{"c", "c", "check", "check that everything is as it was written, and mend it", m.alone(func() tea.Cmd {
			m.offerChecks()
			return nil
		})},
		{"g", "g", "growth", "how the shelf grows, by machine, and when it is full; saved as a chart",
			acts(func() { m.growing, m.scroll = true, 0 })},
		{"m", "m", "move", "carry twins to another shelf, and compare both", m.alone(func() tea.Cmd {
			m.shelfDesk.offerShelves("Carry twins to which shelf? Nothing is removed from this shelf",
				m.shelfDesk.carryTo)
			return nil
		})},
		m.unless(here,
			binding{"w", "w", "what protects it", "try out what whoever gets hold of the key to a shelf far away " +
				"could destroy, with an object of its own", m.alone(m.shelfDesk.tryProtection)}),
		{"p", "p", "passphrases", "add, change or withdraw passphrases of a sealed shelf", m.alone(func() tea.Cmd {
			m.shelfDesk.offerPassphrases()
			return nil
		})},
	}
}

// keepForEver keeps the twin for ever, or takes that back.
func (m *datesPage) keepForEver() tea.Cmd {
	t, w := m.twin(), m.w
	if _, kept := m.pins[t.ID]; kept {
		return func() tea.Msg { return unkept{t.ID, w.Unkeep(m.ctx, t.ID)} }
	}
	m.prompt.ask("Why is it kept for ever? ", "", func(note string) {
		if err := w.Shelf.Keep(m.ctx, t.ID, note); err != nil {
			m.fail(sentence(err))
			return
		}
		m.pins[t.ID] = shelf.Pin{Note: note, When: time.Now()}
		m.prompt.pending = m.readShelf() // one that is under way may not have seen it
		m.say("The twin of %s of %s is kept for ever.", t.Machine, units.Moment(t.Taken))
	})
	return nil
}

// onUnkept takes the pin away as soon as it is gone from the shelf: what comes next counts on it.
func onUnkept(m *datesPage, msg unkept) tea.Cmd {
	if msg.err != nil {
		m.fail(sentence(msg.err))
		return nil
	}
	delete(m.pins, msg.twin)
	m.say("This twin is no longer kept for ever.")
	return m.readShelf()
}

// showEvidence shows the last proof of the twin.
func (m *datesPage) showEvidence() tea.Cmd {
	b, t := &m.boards[m.board], m.twin()
	if p := b.proofs[t.ID]; len(p) > 0 {
		m.proofPage.show(p[0], nil)
		return m.goTo(stepProof)
	}
	if n := b.unread[t.ID]; n > 0 {
		m.say("%s", unreadProofs(n))
		return nil
	}
	m.say("This twin has not been proven yet: press v.")
	return nil
}
