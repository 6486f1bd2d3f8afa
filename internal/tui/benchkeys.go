package tui

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/units"
)

func (m *benchPage) bindings() []binding {
	again := binding{"a", "a", "look again", "look at all disks again", leads(func() tea.Cmd {
		m.say("Looking again.")
		return m.lookAtAll()
	})}
	d := m.chosen()
	if d == nil {
		return []binding{again}
	}
	m.cursor = max(0, min(m.cursor, len(m.disks)-1))
	unread, name := m.unread(d), stickerEnd(d.Identity)
	out := []binding{
		m.unless(unread, binding{"enter", "Enter", "capture " + name, "capture the machine of this disk",
			leads(func() tea.Cmd { return m.read(d, stepCapture) })}),
		move(listKeys, "disk", "choose a disk", &m.cursor, len(m.disks)),
		{"/", "/", "find", "go to the next disk by a piece of its model, serial number, machine, or of a label on it",
			acts(func() { m.prompt.ask("Model, serial number, machine or label: ", "", m.find) })},
		m.unless(first(unread, m.unwritten(d)), binding{"w", "w", "as target", "choose this disk to be written, " +
			"or let go " +
			"of it; nothing is written yet", acts(func() { m.aim(d) })}),
		m.unless(unread, binding{"c", "c", "copy", "copy this disk onto another one directly", leads(func() tea.Cmd {
			m.fitPage.copies = d.Path
			return m.read(d, stepFit)
		})}),
		m.unless(unread, binding{"i", "i", "inside", "look inside: folders and files of this disk",
			leads(m.insidePage.insideFrom)}),
		m.unless(first(unread, m.unwritten(d)), binding{"e", "e", "ready", "make this disk ready: lay it out, " +
			"format, " +
			"erase", leads(func() tea.Cmd {
			m.source = without(m.source, d)
			m.target = d
			return m.goTo(stepReady)
		})}),
		m.unless(unread, binding{"r", "r", "as source", "choose this disk to be read, or let go of it",
			leads(func() tea.Cmd { return m.read(d, stepBench) })}),
	}
	out = slices.Insert(out, 3, unlockBinding(m, d))
	return append(out, m.keepingBindings(d, again)...)
}

// keepingBindings are for what isn't part of the job: the padlock, mounting, looking again.
func (m *benchPage) keepingBindings(d *bench.Disk, again binding) []binding {
	busy := ""
	if m.runPage.writesTo(d.Path) {
		busy = d.Identity.Model + " is being written."
	}
	return []binding{
		m.unless(busy, binding{"p", "p", "padlock", "put this disk out of reach, or back; remembered",
			leads(func() tea.Cmd { return m.padlock(d) })}),
		m.unless(busy, binding{"m", "m", "mount", "mount a part of this disk read-only, or unmount it (as root)",
			leads(func() tea.Cmd { return m.mountDisk(d) })}),
		m.newestBinding(),
		healthBinding(m, d),
		m.unless(busy, surfaceBinding(m, d)),
		m.unless(busy, rescueBinding(m.model, func() []*bench.Disk { return []*bench.Disk{d} },
			func() string { return m.datesPage.owners.of(d).machine })),
		{"J", "J", "case", "choose the customer's case that the work belongs to, or open one",
			acts(m.sheetPage.offerCases)},
		again,
	}
}

// find goes to the next disk that has a text on its sticker, in what is known of it, or on it. Without a text it is the
// one that was looked for last.
func (m *benchPage) find(text string) {
	if text = strings.TrimSpace(text); text == "" {
		text = m.sought
	}
	if m.sought = text; text == "" {
		return
	}
	var found []int
	for i, d := range m.disks {
		has := []string{d.Identity.Model, d.Identity.Serial, d.Identity.WWN, d.Path, d.Words(),
			m.datesPage.owners.of(d).machine}
		if strings.Contains(strings.ToLower(strings.Join(has, "\n")), strings.ToLower(text)) {
			found = append(found, i)
		}
	}
	if len(found) == 0 {
		m.fail("No disk here has " + text + " on its sticker, in its name or as a label.")
		return
	}
	next := slices.IndexFunc(found, func(i int) bool { return i > m.cursor })
	m.cursor = found[max(0, next)]
	m.say("%s found. / and Enter goes to the next.", units.Plural(len(found), "disk"))
}

// unread says why a disk can't be read now; empty when it can.
func (m *benchPage) unread(d *bench.Disk) string {
	switch {
	case m.runPage.writesTo(d.Path):
		return d.Identity.Model + " is being written: until that is done it can't be used for anything else."
	case d.Survey == nil:
		return d.Identity.Model + ": " + d.Words() + "."
	}
	return ""
}

// unwritten says why a disk can't be the target; empty when it can.
func (m *benchPage) unwritten(d *bench.Disk) string {
	if d.Reach != "" {
		return d.Identity.Model + " is out of reach: " + d.Reach + "."
	}
	return ""
}

// without is the chosen disk, unless it is this one.
func without(chosen, d *bench.Disk) *bench.Disk {
	if chosen != nil && chosen.Path == d.Path {
		return nil
	}
	return chosen
}

// read chooses a disk to be read and goes to a step; on the Bench the chosen one is let go of.
func (m *benchPage) read(d *bench.Disk, to step) tea.Cmd {
	m.target = without(m.target, d)
	switch {
	case to != stepBench:
		m.source = d
		if to == stepCapture {
			m.capturePage.chosen = map[string]bool{}
		}
	case m.source != nil && m.source.Path == d.Path:
		m.source = nil
		m.say("%s isn't the source any more.", d.Identity.Model)
	default:
		m.source = d
		m.say("%s is the source: it would be read.", d.Identity.Model)
	}
	return m.goTo(to)
}

// padlock puts a disk out of reach, or back.
func (m *benchPage) padlock(d *bench.Disk) tea.Cmd {
	if err := m.w.ToggleReach(d.Identity); err != nil {
		m.fail(sentence(err))
		return nil
	}
	m.target = without(m.target, d)
	return m.look()
}

// aim chooses a disk to be written, or lets go of it.
func (m *benchPage) aim(d *bench.Disk) {
	switch {
	case m.source != nil && m.source.Path == d.Path:
		m.fail(d.Identity.Model + " is the disk that is read: choose another target, or press r to let go of it.")
	case m.target != nil && m.target.Path == d.Path:
		m.target = nil
		m.say("%s isn't the target any more.", d.Identity.Model)
	default:
		m.target = d
		m.say("%s would be written. Nothing is written before you confirm.", d.Identity.Model)
	}
}

// chosen is the disk under the cursor; nil on an empty bench.
func (m *benchPage) chosen() *bench.Disk {
	if len(m.disks) == 0 {
		return nil
	}
	return m.disks[max(0, min(m.cursor, len(m.disks)-1))]
}

// lanes are what was chosen so far; here nothing is read or written.
func (m *benchPage) lanes() lanes {
	ls := lanes{up: nothing(reading(m.th, ""), "nothing yet: Enter captures a disk, c copies one, 4 has the "+
		"dates of the shelf"),
		down: nothing(writing(m.th, ""), "nothing yet: w chooses the disk that would be written")}
	if m.source != nil {
		ls.up = reading(m.th, isChosen).ofDisk(m.source)
		ls.up.fold = true
	}
	if m.target != nil {
		ls.down = writing(m.th, isChosen).ofDisk(m.target).overwriting(m.target)
		ls.down.fold = true
		if m.runPage.writesTo(m.target.Path) {
			ls.down = underWay(m.model, m.target)
		}
	}
	return ls
}
