package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/ready"
)

func (m *readyPage) bindings() []binding {
	target := binding{"t", "t", "target", "choose the disk that would be written from those on the bench",
		acts(func() {
			m.chooser.offerTargets(func(d *bench.Disk) tea.Cmd {
				m.target = d
				return nil
			})
		})}
	if !m.readyOn() {
		return []binding{target}
	}
	r := &m.ready
	rows := r.rows()
	r.row = max(0, min(r.row, len(rows)-1))
	out := []binding{
		move(listKeyButTable, "row", "choose a part or a gap", &r.row, len(rows)),
		{"enter", "Enter", "write " + stickerEnd(m.target.Identity), "to the last page before anything is written",
			leads(m.readyGoOn)},
		{"a", "a", "add", "add a part in a gap", acts(func() { m.askNewPart(rows) })},
		m.onPart("s", "size", "another size for this part; its place stays", actsOn(m.askSize)),
		m.onPart("f", "format", "a new file system for this part", actsOn(m.offerKinds)),
		{"p", "p", "purpose", "fill the plan for a purpose", acts(m.offerPurposes)},
		{"e", "e", "even split", "share the rest out evenly; once more: among one more part", leads(func() tea.Cmd {
			m.splitEvenly()
			return m.replan()
		})},
		m.onPart("d", "delete", "delete this part from the table", func(i int) tea.Cmd {
			m.edit(func(d *ready.Draft) error { d.Remove(i); return nil })
			return m.replan()
		}),
		{"u", "u", "undo", "undo the last change of the plan", leads(m.undo)},
		m.otherWayBinding(),
	}
	return append(append(out, m.partBindings()...),
		binding{"g", "g", "GPT or MBR", "the other kind of table, for a disk laid out anew", leads(m.otherTable)},
		binding{"x", "x", "erase", "erase the whole disk", acts(m.offerErasing)},
		binding{"b", "b", "put back", "put back what was there before the last change made here", leads(m.askPutBack)},
		m.onPart("m", "mount", "mount this part read-only, or unmount the disk (as root)", m.mountPart),
		target)
}

// listKeyButTable are the keys of a list; g is for the table here.
const listKeyButTable = lineKeys + " home end G"

func (m *readyPage) otherWayBinding() binding {
	b := binding{"o", "o", "lay out anew", "drop everything that is there, and begin with an empty disk",
		leads(m.otherWay)}
	if m.ready.draft.New {
		b.does, b.more = "keep what is there", "go back to what is on the disk, and only change that"
	}
	return b
}

// actsOn makes an action of something that is for a part and leads to nothing else.
func actsOn(what func(int)) func(int) tea.Cmd {
	return func(i int) tea.Cmd {
		what(i)
		return nil
	}
}

// onPart is a binding for the chosen part; in a gap it says so.
func (m *readyPage) onPart(key, does, more string, do func(part int) tea.Cmd) binding {
	return binding{key, key, does, more, func(string) tea.Cmd {
		rows := m.ready.rows()
		if len(rows) == 0 || rows[m.ready.row].part < 0 {
			m.say("This is free: press a to add a part here.")
			return nil
		}
		return do(rows[m.ready.row].part)
	}}
}

// partBindings are for what belongs to a part in the table and its file system.
func (m *readyPage) partBindings() []binding {
	return []binding{
		m.onPart("r", "label", "label of the new file system", actsOn(func(i int) {
			p := &m.ready.draft.Parts[i]
			if p.Form == nil {
				m.say("A label comes with a new file system: press f first. What is on the part is then gone.")
				return
			}
			m.askLabel(i, p.Form.Kind)
		})),
		m.onPart("c", "cluster", "allocation unit of the new file system", actsOn(m.offerUnits)),
		m.onPart("n", "name", "name of the part in the table (GPT)", actsOn(func(i int) {
			p := &m.ready.draft.Parts[i]
			m.prompt.ask(fmt.Sprintf("Name of part %d: ", p.Number), p.Name, func(s string) {
				m.edit(func(d *ready.Draft) error { return d.SetName(i, strings.TrimSpace(s)) })
			})
		})),
		m.onPart("y", "type", "what the part is for, as the table says it", actsOn(m.offerTypes)),
	}
}

// undo takes the last change of the plan back.
func (m *readyPage) undo() tea.Cmd {
	r := &m.ready
	n := len(r.past)
	if n == 0 {
		m.say("There is nothing to undo.")
		return nil
	}
	r.draft, r.past, r.shares = r.past[n-1], r.past[:n-1], 0
	r.row = max(0, min(r.row, len(r.rows())-1))
	return m.replan()
}

func (m *readyPage) mountPart(i int) tea.Cmd {
	if len(m.target.Points()) > 0 {
		return m.benchPage.mountDisk(m.target)
	}
	return mount(m.target, m.ready.draft.Parts[i].Number)
}
