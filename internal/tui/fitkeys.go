package tui

import (
	"context"
	"fmt"
	"maps"
	"strings"
	layout "twinshelf/internal/fit"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/plan"
	"twinshelf/internal/sizes"
)

// fitting is what is wished in the Fit step.
type fitting struct {
	wish plan.Wish
	row  int
	of   string // the twin, disk and target that it is meant for
	goOn bool   // Enter was pressed while the plan was worked out
	// held are keys that came while the plan was worked out, from the first that opens a prompt on: they wait for it,
	// since what is typed for a prompt must never act as commands.
	held []tea.KeyPressMsg
	seen bool // a plan was shown, and the row was put on the part that grows
}

// fitWish is the wish for what is chosen now; for something else it begins anew.
func (m *fitPage) fitWish() plan.Wish {
	o, ok := m.origin()
	if !ok || m.target == nil {
		return plan.Wish{}
	}
	if of := originKey(o) + " " + m.target.Path; m.fit.of != of {
		m.fit = fitting{of: of, wish: m.pairing.wish[of]}
	}
	return m.fit.wish
}

// maxHeld is how many keys wait for a plan at the most.
const maxHeld = 200

// holds says whether a key waits for the plan that is being worked out.
func (m *fitPage) holds(msg tea.KeyPressMsg) bool {
	_, ok := m.origin()
	if m.step != stepFit || !ok || m.pair != nil || m.restoreErr != nil || m.target == nil || m.target.Survey == nil {
		return false
	}
	k := msg.String()
	switch {
	case len(m.fit.held) > 0 && k == "esc":
		m.fit.held = nil
		return true
	case len(m.fit.held) == 0 && k != "w" && k != "=":
		return false
	}
	if len(m.fit.held) < maxHeld {
		m.fit.held = append(m.fit.held, msg)
	}
	return true
}

// release lets the keys act that have waited.
func (m *fitPage) release() tea.Cmd {
	held := m.fit.held
	m.fit.held = nil
	var cmds []tea.Cmd
	for _, msg := range held {
		cmds = append(cmds, m.onKey(msg))
	}
	return tea.Batch(cmds...)
}

// pointAtGrowing puts the row on the part that takes the room, once for each twin and target.
func (m *fitPage) pointAtGrowing() {
	if m.fit.seen || m.pair == nil {
		return
	}
	m.fit.seen = true
	for i, x := range m.pair.Plan.Layout.Parts {
		if x.Share > 0 {
			m.fit.row = i
		}
	}
}

// wishFor changes the wish for the chosen part. What the plan did by itself becomes a wish first, so that it stays.
func (m *fitPage) wishFor(change func(x layout.Part, w *layout.PartWish)) tea.Cmd {
	return m.setPart(false, change)
}

// toggleFor is wishFor for a wish that is taken back by the same key: when none is left the plan is what it was.
func (m *fitPage) toggleFor(change func(x layout.Part, w *layout.PartWish)) tea.Cmd {
	return m.setPart(true, change)
}

func (m *fitPage) setPart(toggle bool, change func(x layout.Part, w *layout.PartWish)) tea.Cmd {
	if m.pair == nil || len(m.pair.Plan.Layout.Parts) == 0 {
		return nil
	}
	wish := m.fitWish()
	parts := map[int]layout.PartWish{}
	if maps.Copy(parts, wish.Parts); len(parts) == 0 {
		for _, x := range m.pair.Plan.Layout.Parts {
			if x.Share > 0 {
				parts[x.Part.Number] = layout.PartWish{Share: x.Share}
			}
		}
	}
	x := m.pair.Plan.Layout.Parts[min(m.fit.row, len(m.pair.Plan.Layout.Parts)-1)]
	w := parts[x.Part.Number]
	change(x, &w)
	if parts[x.Part.Number] = w; w == (layout.PartWish{}) {
		delete(parts, x.Part.Number)
	}
	grows := false
	for _, w := range parts {
		grows = grows || w.Share > 0 || w.Size > 0
	}
	wish.Parts, wish.Keep = parts, !grows && !(toggle && len(parts) == 0)
	m.setWish(wish)
	return m.replan()
}

func (m *fitPage) bindings() []binding { return m.every(false) }

// every gives the bindings; also those that need a plan of some sort, if all are wanted.
func (m *fitPage) every(all bool) []binding {
	out := []binding{{"enter", "Enter", "go on", "to the last page before anything is written", leads(m.fitLastPage)}}
	rows := 0
	if m.pair != nil {
		rows = len(m.pair.Plan.Layout.Parts)
	}
	if all || m.pair != nil {
		out = append(out, move(listKeys, "part", "choose a part", &m.fit.row, rows))
	}
	out = append(append(out, m.partBindings()...), m.wholeBindings()...)
	if _, several := m.several(); all || several {
		out = append(out,
			binding{"d", "d", "disk", "the next disk of the machine, with a target of its own", leads(func() tea.Cmd {
				m.datesPage.nextDisk()
				m.proposeTarget()
				return m.replan()
			})},
			binding{"n", "n", "no target", "leave this disk of the machine out; t takes it in again",
				leads(func() tea.Cmd {
					m.target = nil
					m.chooseTarget(nil)
					return m.replan()
				})})
	}
	return append(out, m.plannedBindings(all)...)
}

// partBindings are for the chosen part.
func (m *fitPage) partBindings() []binding {
	share := func(k string) tea.Cmd {
		return m.wishFor(func(x layout.Part, w *layout.PartWish) {
			switch {
			case x.Fixed != "":
				m.fail(fmt.Sprintf("Part %d can't grow: %s.", x.Part.Number, x.Fixed))
			case k == "+":
				w.Share, w.Size = w.Share+1, 0
			default:
				w.Share, w.Size = max(0, w.Share-1), 0
			}
		})
	}
	return []binding{
		{"+ -", "+-", "share", "give the part a larger or smaller share of the room", share},
		{"=", "=", "size", "type how large the part shall be", acts(m.askPartSize)},
		{"m", "m", "smallest", "make the part as small as it gets, or take that back", leads(func() tea.Cmd {
			return m.toggleFor(func(_ layout.Part, w *layout.PartWish) { *w = layout.PartWish{Least: !w.Least} })
		})},
		{"x", "x", "leave out", "leave the part out, or take it in again", leads(func() tea.Cmd {
			return m.toggleFor(func(_ layout.Part, w *layout.PartWish) { *w = layout.PartWish{Leave: !w.Leave} })
		})},
	}
}

// wholeBindings are for the whole disk.
func (m *fitPage) wholeBindings() []binding {
	return []binding{
		{"f", "f", "new part", "make a new part in the room that nothing takes", acts(m.askFill)},
		{"o", "o", "keep sizes", "let nothing grow, or let the main part take the room again", leads(func() tea.Cmd {
			if m.pair != nil || m.restoreErr != nil {
				m.change(func(w *plan.Wish) { w.Parts, w.Keep = nil, !w.Keep })
			}
			return m.replan()
		})},
		{"t", "t", "other target", "the next disk that may be written", leads(func() tea.Cmd {
			m.nextTarget()
			m.chooseTarget(m.target)
			return m.replan()
		})},
		{"y", "y", "identity", "give the target identities of its own, for a machine that has both disks, or keep " +
			"those of the source", leads(func() tea.Cmd {
			return m.change(func(w *plan.Wish) { w.Fresh = !w.Fresh })
		})},
	}
}

// plannedBindings are for what was planned.
func (m *fitPage) plannedBindings(all bool) (out []binding) {
	if !all && m.pair == nil {
		return nil
	}
	if all || len(m.pair.Plan.Repaired) > 0 || m.fit.wish.AsItStarts {
		out = append(out,
			binding{"s", "s", "start repair", "repair what keeps it from starting, or leave that as it is",
				leads(func() tea.Cmd { return m.change(func(w *plan.Wish) { w.AsItStarts = !w.AsItStarts }) })})
	}
	out = append(out,
		binding{"w", "w", "rehearse", "write the planned disk into a new image file, to try it before any disk is " +
			"written",
			acts(m.askExport)},
		binding{"i", "i", "look inside", "look inside of the planned disk, before it exists",
			leads(m.insidePage.insideFrom)})
	if all || m.pair.Plan.Before() != nil {
		out = append(out,
			binding{"a", "a", "anew", "write everything again, also what was written before the run was cut off",
				acts(func() {
					m.pair.Plan.Anew()
					m.say("Everything will be written again.")
				})})
	}
	return out
}

// change changes the wish, and has it planned.
func (m *fitPage) change(how func(*plan.Wish)) tea.Cmd {
	wish := m.fitWish()
	how(&wish)
	m.setWish(wish)
	return m.replan()
}

func (m *fitPage) askPartSize() {
	if m.pair == nil || len(m.pair.Plan.Layout.Parts) == 0 {
		return
	}
	x := m.pair.Plan.Layout.Parts[min(m.fit.row, len(m.pair.Plan.Layout.Parts)-1)]
	if x.Fixed != "" {
		m.fail(fmt.Sprintf("Part %d can't grow: %s.", x.Part.Number, x.Fixed))
		return
	}
	room := m.pair.Plan.Layout.Room
	m.prompt.ask(fmt.Sprintf("Size of part %d, now %s, at most %s: ", x.Part.Number, sizes.Words(x.From.Len()),
		sizes.Words(x.From.Len()+room)), "", func(text string) {
		n, err := sizes.Parse(text,
			sizes.Room{Disk: m.target.Identity.Size, Rest: x.From.Len() + room, Used: m.readyPage.used})
		if err != nil {
			m.fail(sentence(err))
			return
		}
		m.prompt.pending = m.wishFor(func(_ layout.Part, w *layout.PartWish) { *w = layout.PartWish{Size: n.Bytes} })
	})
}

func (m *fitPage) askFill() {
	wish := m.fitWish()
	m.prompt.ask("File system of a new part in the room that is left (ext4, NTFS, exFAT, FAT32; empty for none): ",
		wish.NewPart.Kind,
		func(text string) {
			wish.NewPart.Kind = strings.TrimSpace(text)
			m.setWish(wish)
		})
}

func (m *fitPage) opened() {
	if m.datesPage.twin() != nil && !m.copying {
		m.fromTwin, m.copying = true, false
	}
	m.proposeTarget()
}

// work plans what goes where.
func (m *fitPage) work(ctx context.Context, number int, doing func(string)) tea.Cmd {
	m.pair, m.restoreErr = nil, nil
	o, ok := m.origin()
	target := m.target
	if !ok || target == nil || target.Survey == nil {
		return nil
	}
	w, wish := m.w, m.fitWish()
	return func() tea.Msg {
		p, err := w.PlanRestore(ctx, o, target, wish, doing)
		return planned{number, p, err}
	}
}
