package tui

import (
	"fmt"
	"maps"
	"strings"
	layout "twinshelf/internal/fit"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/plan"
	"twinshelf/internal/sizes"
)

func (m *model) fitBindings() []binding {
	b := []binding{{"Enter", "go on", "to the last page before anything is written"}, {"↑↓", "part", "choose a part"},
		{"+-", "share", "give the part a larger or smaller share of the room"},
		{"=", "size", "type how large the part shall be"},
		{"m", "smallest", "make the part as small as it gets, or take that back"},
		{"x", "leave out", "leave the part out, or take it in again"},
		{"f", "new part", "make a new part in the room that nothing takes"},
		{"k", "keep sizes", "let nothing grow, or let the main part take the room again"},
		{"t", "other target", "the next disk that may be written"},
		{"i", "identity", "give the target identities of its own, for a machine that has both disks, or keep " +
			"those of " +
			"the source"}}
	if _, several := m.several(); several {
		b = append(b, binding{"d", "disk", "the next disk of the machine, with a target of its own"},
			binding{"n", "no target", "leave this disk of the machine out; t takes it in again"})
	}
	if m.pair != nil && (len(m.pair.Plan.Repaired) > 0 || m.fit.wish.AsItStarts) {
		b = append(b, binding{"s", "start repair", "repair what keeps it from starting, or leave that as it is"})
	}
	if m.pair != nil {
		b = append(b, binding{"w", "rehearse", "write the planned disk into a new image file, to try it before " +
			"any disk " +
			"is written"})
	}
	if m.pair != nil {
		b = append(b, binding{"b", "look inside", "look inside of the planned disk, before it exists"})
	}
	if m.pair != nil && m.pair.Plan.Before() != nil {
		b = append(b, binding{"a", "anew", "write everything again, also what was written before the run was cut off"})
	}
	return b
}

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
func (m *model) fitWish() plan.Wish {
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
func (m *model) holds(msg tea.KeyPressMsg) bool {
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
func (m *model) release() tea.Cmd {
	held := m.fit.held
	m.fit.held = nil
	var cmds []tea.Cmd
	for _, msg := range held {
		cmds = append(cmds, m.onKey(msg))
	}
	return tea.Batch(cmds...)
}

// pointAtGrowing puts the row on the part that takes the room, once for each twin and target.
func (m *model) pointAtGrowing() {
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
func (m *model) wishFor(change func(x layout.Part, w *layout.PartWish)) tea.Cmd {
	return m.setPart(false, change)
}

// toggleFor is wishFor for a wish that is taken back by the same key: when none is left the plan is what it was.
func (m *model) toggleFor(change func(x layout.Part, w *layout.PartWish)) tea.Cmd {
	return m.setPart(true, change)
}

func (m *model) setPart(toggle bool, change func(x layout.Part, w *layout.PartWish)) tea.Cmd {
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

func (m *model) keyFit(k string) tea.Cmd {
	if m.pair != nil && k != "k" { // that is for the sizes here
		m.fit.row = moved(k, m.fit.row, len(m.pair.Plan.Layout.Parts))
	}
	switch k {
	case "b":
		return m.insideFrom()
	case "d":
		m.nextDisk()
		m.proposeTarget()
		return m.replan()
	case "t":
		m.nextTarget()
		m.chooseTarget(m.target)
		return m.replan()
	case "n":
		if _, several := m.several(); several {
			m.target = nil
			m.chooseTarget(nil)
		}
		return m.replan()
	case "f":
		m.askFill()
	case "i":
		wish := m.fitWish()
		wish.Fresh = !wish.Fresh
		m.setWish(wish)
		return m.replan()
	case "s":
		if wish := m.fitWish(); m.pair != nil && (len(m.pair.Plan.Repaired) > 0 || wish.AsItStarts) {
			wish.AsItStarts = !wish.AsItStarts
			m.setWish(wish)
			return m.replan()
		}
	case "a":
		if m.pair != nil && m.pair.Plan.Before() != nil {
			m.pair.Plan.Anew()
			m.say("Everything will be written again.")
		}
	case "k":
		if m.pair != nil || m.restoreErr != nil {
			wish := m.fitWish()
			wish.Parts, wish.Keep = nil, !wish.Keep
			m.setWish(wish)
		}
		return m.replan()
	case "+", "-":
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
	case "x":
		return m.toggleFor(func(_ layout.Part, w *layout.PartWish) { *w = layout.PartWish{Leave: !w.Leave} })
	case "w":
		m.askExport()
	case "m":
		return m.toggleFor(func(_ layout.Part, w *layout.PartWish) { *w = layout.PartWish{Least: !w.Least} })
	case "=":
		m.askPartSize()
	case "enter":
		return m.fitLastPage()
	}
	return nil
}

func (m *model) askPartSize() {
	if m.pair == nil || len(m.pair.Plan.Layout.Parts) == 0 {
		return
	}
	x := m.pair.Plan.Layout.Parts[min(m.fit.row, len(m.pair.Plan.Layout.Parts)-1)]
	if x.Fixed != "" {
		m.fail(fmt.Sprintf("Part %d can't grow: %s.", x.Part.Number, x.Fixed))
		return
	}
	room := m.pair.Plan.Layout.Room
	m.ask(fmt.Sprintf("Size of part %d, now %s, at most %s: ", x.Part.Number, sizes.Words(x.From.Len()),
		sizes.Words(x.From.Len()+room)), "", func(text string) {
		n, err := sizes.Parse(text, sizes.Room{Disk: m.target.Identity.Size, Rest: x.From.Len() + room, Used: m.used})
		if err != nil {
			m.fail(sentence(err))
			return
		}
		m.pending = m.wishFor(func(_ layout.Part, w *layout.PartWish) { *w = layout.PartWish{Size: n.Bytes} })
	})
}

func (m *model) askFill() {
	wish := m.fitWish()
	m.ask("File system of a new part in the room that is left (ext4, NTFS, exFAT, FAT32; empty for none): ",
		wish.NewPart.Kind,
		func(text string) {
			wish.NewPart.Kind = strings.TrimSpace(text)
			m.setWish(wish)
		})
}
