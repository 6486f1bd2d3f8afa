package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/table"
)

// menuKey opens the list of everything that works here.
const menuKey = "."

// offerKeys lists everything that works on the page with its letter; what is chosen is done.
func (m *helper) offerKeys() {
	var does []binding
	n := menu{title: "What works here"}
	for _, b := range shown(m.bindings()) {
		if b.show == menuKey || strings.HasPrefix(b.show, "↑") || b.show == "←→" || b.show == "1–8" {
			continue
		}
		does = append(does, b)
		n.choices = append(n.choices, choice{name: fit(b.show, 8) + b.does, about: b.more})
	}
	n.then = func(chosen []int) tea.Cmd {
		b := does[chosen[0]]
		return b.do(strings.Fields(b.keys)[0])
	}
	m.menus.offer(n)
}

// helpBody explains the keys of what is shown, from the same tables that act, and all marks.
func (m *helper) helpBody(w int) []string {
	title, keys := "Keys of this step: "+m.stepName(), over(m.page().bindings(), m.anywhere())
	if m.menus.menu != nil {
		title, keys = "Keys of this list", m.menus.bindings()
	}
	out := []string{"", " " + m.th.strong.Render(title), ""}
	for _, b := range shown(keys) {
		text := b.more
		if text == "" {
			text = b.does
		}
		for i, l := range m.th.wrap(text, w-12) {
			show := b.show
			if i > 0 {
				show = ""
			}
			out = append(out, "   "+m.th.keyStyle.Render(fit(show, 8))+l)
		}
	}
	out = append(out, "", " "+m.th.strong.Render("The rails"), "")
	out = append(out, m.legendLines(w)...)
	for _, l := range []string{
		"READS is what the step reads, WRITES what it really writes; the words after that say of which moment it is: " +
			"as of a date, is now, will be, is being written.",
		"WRITES is written only after its last page, where you type what is on its sticker. LOSES names what is " +
			"there now and goes.",
		fmt.Sprintf("While a run is under way: %s done, %s being done, %s still to come, %s left for later by a "+
			"rescue, %s can't be read or written; where nothing stands there is nothing to do.", finishedMark,
			busyMark,
			toComeMark, doubtfulMark, unreadableMark),
		"Threads lead from a part to where it goes, with its number at both ends.",
	} {
		out = append(out, m.th.bullet(l, w)...)
	}
	out = append(out, "", " "+m.th.strong.Render("The Bench"), "")
	out = append(out, m.th.bullet("□ may be written, ■ out of reach, ▶ chosen as source, ◀ chosen as target, ◐ a "+
		"restore onto it was cut off, ✗ some of it could not be read at its newest twin, ⧗ a routine of it is due, "+
		"waits or failed.", w)...)
	out = append(out, "", " "+m.th.strong.Render("Dates"), "")
	return append(out, m.th.bullet("Twins on a board: the height is how much each added, ≈ where that is more than "+
		"the scale shows; ◆ kept for ever, ! not quiet, × places that couldn't be read, ‼ a proof failed, ○ the last "+
		"proof is over half a year old, ✗ would go by the rule.", w)...)
}

// legendLines say how the parts of a disk look.
func (m *helper) legendLines(w int) []string {
	var legend []string
	for _, r := range []table.Role{table.RoleStartup, table.RoleSystem, table.RoleData, table.RoleRecovery,
		table.RoleSwap, table.RoleReserved, table.RoleUnknown} {
		p := m.th.patternOf(r)
		legend = append(legend, p.style.Render(p.used+p.used)+" "+string(r))
	}
	legend = append(legend, m.th.free.Render(freeGlyph+freeGlyph)+" free inside a part",
		m.th.dim.Render(gapGlyph+gapGlyph)+" no part", wideEdge+" begins a part that is drawn wider than it is")
	var out []string
	line := "  "
	for _, l := range legend {
		if ansi.StringWidth(line+l)+4 > w {
			out, line = append(out, line), "  "
		}
		line += " " + l + "  "
	}
	return append(out, line)
}
