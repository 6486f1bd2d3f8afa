package tui

import (
	"context"
	"fmt"
	"maps"
	"strings"
	layout "twinshelf/internal/fit"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/plan"
	"twinshelf/internal/sizes"
)

// fitting is what is wished in the Fit step.
type fitting struct {
	wish plan.Wish
	row  int
	of   string // the twin, disk and target that it is meant for
	seen bool   // a plan was shown, and the row was put on the part that grows
	// past are the wishes before, the last one at the end; planned is the one of the plan that is shown, nil for none.
	past    []plan.Wish
	planned *plan.Wish
	toggled string // the toggle that made the last change, with its part: the same one again takes it back
}

// mostPast bounds how many changes can be undone.
const mostPast = 200

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

// toggle makes a change, or takes it back when it was the last one made: pressed twice, a key leads back to exactly
// what was before.
func (m *fitPage) toggle(key string, change func() tea.Cmd) tea.Cmd {
	if n := len(m.fit.past); m.fit.toggled == key && n > 0 {
		return m.undo()
	}
	cmd := change()
	m.fit.toggled = key
	return cmd
}

// undo takes the last change of the wish back.
func (m *fitPage) undo() tea.Cmd {
	n := len(m.fit.past)
	if n == 0 {
		m.say("There is nothing to undo.")
		return nil
	}
	wish, past := m.fit.past[n-1], m.fit.past[:n-1]
	m.setWish(wish)
	m.fit.past = past
	return m.replan()
}

// giveUp stops what is being planned: the plan that is shown counts again, with its wish.
func (m *fitPage) giveUp() tea.Cmd {
	m.stopPlanning()
	if m.fit.planned == nil || m.pair == nil {
		m.say("Planning was given up. Any change, or t, begins anew.")
		return nil
	}
	past := m.fit.past
	m.setWish(*m.fit.planned)
	m.fit.past = past[:max(0, len(past)-1)]
	m.say("Planning was given up: the previous plan is kept.")
	return nil
}

// wishFor changes the wish for the chosen part. What the plan did by itself becomes a wish first, so that it stays.
func (m *fitPage) wishFor(change func(x layout.Part, w *layout.PartWish)) tea.Cmd {
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
	wish.Parts, wish.Keep = parts, !grows
	m.setWish(wish)
	return m.replan()
}

func (m *fitPage) bindings() []binding {
	if m.busy != nil && m.target != nil {
		return append([]binding{{"esc", "Esc", "give up planning", "stop planning; the previous plan is kept",
			leads(m.giveUp)}}, m.every(false)...)
	}
	return m.every(false)
}

// planless is why what needs a plan can't act now; empty when it can.
func (m *fitPage) planless() string {
	switch _, ok := m.origin(); {
	case !ok:
		return "There is nothing to restore or to copy yet: choose a date in Dates (4), or a disk on the Bench (1)."
	case m.target == nil:
		return "There is no target yet: press t to choose the disk that would be written."
	case m.pair == nil && m.busy != nil:
		return "The plan is still being worked out."
	case m.pair == nil:
		return "There is no plan that could be carried out: the page says why."
	}
	return ""
}

// every gives the bindings; also those that need a plan of some sort, if all are wanted.
func (m *fitPage) every(all bool) []binding {
	why := m.planless()
	if all {
		why = ""
	}
	does := "go on"
	if m.target != nil {
		does = "restore onto " + stickerEnd(m.target.Identity)
		if n := len(moreTargets(m)); n > 0 {
			does += fmt.Sprintf(" and %d more", n)
		}
		if m.copies != "" {
			does = "copy onto " + stickerEnd(m.target.Identity)
		}
	}
	out := []binding{m.unless(first(why, m.noRun()), binding{"enter", "Enter", does, "to the last page before " +
		"anything is " +
		"written", leads(m.fitLastPage)})}
	rows := 0
	if m.pair != nil {
		rows = len(m.pair.Plan.Layout.Parts)
	}
	if all || m.pair != nil {
		out = append(out, move(listKeys, "part", "choose a part", &m.fit.row, rows))
	}
	out = append(append(out, m.partBindings(why)...), m.wholeBindings(all, why)...)
	if _, several := m.several(); all || several {
		out = append(out,
			binding{"d", "d", "disk", "the next disk of the machine, with a target of its own", leads(func() tea.Cmd {
				m.disk = (m.disk + 1) % len(m.twin().Disks)
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
	return append(out, m.plannedBindings(all, why)...)
}

// partBindings are for the chosen part.
func (m *fitPage) partBindings(why string) []binding {
	share := func(k string) tea.Cmd {
		return m.wishFor(func(x layout.Part, w *layout.PartWish) {
			switch {
			case x.Fixed != "":
				m.fail(fmt.Sprintf("Part %d can't grow: %s.", x.Part.Number, x.Fixed))
			case k == "+":
				*w = layout.PartWish{Share: w.Share + 1}
			case k == "-" && w.Share > 0:
				w.Share, w.Size = max(0, w.Share-1), 0
			default:
				m.say("Part %d has no share of the room: + gives it one.", x.Part.Number)
			}
		})
	}
	return []binding{
		m.unless(why, binding{"+ -", "+-", "share", "give the part a larger or smaller share of the room", share}),
		m.unlessTyped(why, binding{"=", "=", "size", "type the size of the part", acts(m.askPartSize)}),
		m.unless(why, binding{"m", "m", "smallest", "make the part as small as it gets, or take that back",
			leads(func() tea.Cmd {
				return m.toggle(fmt.Sprint("m", m.fit.row), func() tea.Cmd {
					return m.wishFor(func(_ layout.Part, w *layout.PartWish) { *w = layout.PartWish{Least: !w.Least} })
				})
			})}),
		m.unless(why, binding{"x", "x", "leave out", "leave the part out, or take it in again", leads(func() tea.Cmd {
			return m.toggle(fmt.Sprint("x", m.fit.row), func() tea.Cmd {
				return m.wishFor(func(_ layout.Part, w *layout.PartWish) { *w = layout.PartWish{Leave: !w.Leave} })
			})
		})}),
	}
}

// wholeBindings are for the whole disk.
func (m *fitPage) wholeBindings(all bool, why string) []binding {
	if m.restoreErr != nil { // another wish may help
		why = ""
	}
	gaps, locked := first(why, nothingMissing(m)), first(why, nothingUnlocked(m))
	if all {
		gaps, locked = "", ""
	}
	return []binding{
		{"t", "t", "target", "choose the disk that would be written from those on the bench", acts(func() {
			m.chooser.offerTargets(func(d *bench.Disk) tea.Cmd {
				m.target = d
				m.chooseTarget(d)
				return nil
			})
		})},
		m.unless(why, binding{"M", "M", "more targets", "other disks that get the same at the same time, each " +
			"confirmed by what stands on it", acts(func() { offerMore(m) })}),
		m.unlessTyped(why, binding{"f", "f", "new part", "make a new part in the room that nothing takes",
			acts(m.askFill)}),
		m.unless(why, binding{"o", "o", "keep sizes", "let nothing grow, or let the main part take the room again",
			leads(func() tea.Cmd {
				return m.toggle("o", func() tea.Cmd {
					return m.change(func(w *plan.Wish) { w.Parts, w.Keep = nil, !w.Keep })
				})
			})}),
		{"u", "u", "undo", "undo the last change of the plan", leads(m.undo)},
		m.unless(why, binding{"y", "y", "identity", "give the target identities of its own, for a machine that " +
			"has both " +
			"disks, or keep those of the source", leads(func() tea.Cmd {
			return m.toggle("y", func() tea.Cmd {
				return m.change(func(w *plan.Wish) { w.Fresh = !w.Fresh })
			})
		})}),
		m.unless(first(why, noOtherHardware(m, all)), binding{"c", "c", "other hardware", "have a Windows load, " +
			"when it " +
			"starts, all drivers for disks that it has, for a machine with another controller", leads(func() tea.Cmd {
			return m.toggle("c", func() tea.Cmd {
				return m.change(func(w *plan.Wish) { w.OtherHardware = !w.OtherHardware })
			})
		})}),
		m.unless(gaps, binding{"z", "z", "gaps", "what fills the gaps of files that " +
			"couldn't be read whole, and whether a list names these", acts(func() { askGaps(m) })}),
		m.unless(locked, binding{"U", "U", "without encryption", "write unlocked volumes " +
			"without their encryption, so that they can grow and need no key, or as they are",
			leads(func() tea.Cmd { return toggleUnlocked(m) })}),
	}
}

// noOtherHardware is why nothing is to be done for other hardware; empty when something is.
func noOtherHardware(m *fitPage, all bool) string {
	if all || m.pair != nil && (m.pair.Plan.Startup.Narrow || m.fit.wish.OtherHardware) {
		return ""
	}
	return "Only a Windows is told this, and one that has drivers for disks which it doesn't load when it starts."
}

// plannedBindings are for what was planned.
func (m *fitPage) plannedBindings(all bool, why string) (out []binding) {
	repairs, cutOff := "This plan has no repair of what keeps it from starting.", "No earlier run of this plan "+
		"was cut off."
	if m.pair != nil && (len(m.pair.Plan.Repaired) > 0 || m.fit.wish.AsItStarts) || all {
		repairs = ""
	}
	if m.pair != nil && m.pair.Plan.Before() != nil || all {
		cutOff = ""
	}
	return []binding{
		m.unless(first(why, repairs), binding{"s", "s", "start repair", "repair what keeps it from starting, or " +
			"leave that " +
			"as it is", leads(func() tea.Cmd {
			return m.toggle("s", func() tea.Cmd {
				return m.change(func(w *plan.Wish) { w.AsItStarts = !w.AsItStarts })
			})
		})}),
		m.unlessTyped(first(why, m.noRun()), binding{"w", "w", "rehearse", "write the planned disk into a new " +
			"image file, " +
			"to try it before any disk is written", acts(m.askExport)}),
		m.unless(why, binding{"i", "i", "inside", "look inside: folders and files of the planned disk, before " +
			"it exists",
			leads(m.insidePage.insideFrom)}),
		m.unless(first(why, cutOff), binding{"a", "a", "anew", "write everything again, also what was written " +
			"before the " +
			"run was cut off", acts(func() {
			m.pair.Plan.Anew()
			m.say("Everything will be written again.")
		})}),
	}
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
			m.prompt.pending = m.replan()
		})
}

func (m *fitPage) opened() {
	m.proposeTarget()
}

// work plans what goes where.
func (m *fitPage) work(ctx context.Context, number int, doing func(string)) tea.Cmd {
	o, ok := m.origin()
	target := m.target
	if !ok || target == nil || target.Survey == nil {
		m.pair, m.restoreErr = nil, nil
		return nil
	}
	was := m.fit.of
	w, wish := m.w, m.fitWish()
	if m.restoreErr = nil; m.fit.of != was || m.pair != nil && m.pair.Target.Path != target.Path {
		m.pair = nil // it was about something else
	}
	return func() tea.Msg {
		p, err := w.PlanRestore(ctx, o, target, wish, doing)
		return planned{number, p, err}
	}
}
