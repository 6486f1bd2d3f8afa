package tui

import "slices"

// otherUnits says sizes in the other kind of units from now on, and remembers that.
func otherUnits(m *model) {
	m.term.sizes = m.term.sizes.Other()
	renewTheme(m)
	m.say("Sizes are in %s now.", m.term.sizes)
	if err := m.w.SaySizes(m.term.sizes); err != nil {
		m.fail("Sizes are in " + m.term.sizes.String() + " until Twin Shelf ends; that can't be remembered: " +
			err.Error())
	}
}

// renewTheme follows what the screen is drawn for.
func renewTheme(m *model) {
	m.th = newTheme(m.term)
	for _, d := range m.disks {
		m.th.names = append(m.th.names, d.Identity.Model)
	}
	for _, t := range m.datesPage.twins() {
		for i := range t.Disks {
			m.th.names = append(m.th.names, t.Disks[i].Identity.Model)
		}
	}
	slices.Sort(m.th.names)
	m.th.names = slices.Compact(m.th.names)
}
