package tui

import (
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// lines shows the boards with their twins, and the selected twin below.
func (m *datesPage) lines(w int) []string {
	switch {
	case m.w.Shelf == nil:
		return m.plain(w, "Dates", "needs a shelf.", "Press o to open one, or to make a new one on a mounted storage "+
			"drive (Ready, 2, makes a drive ready for it).", "By command: twinshelf --shelf FOLDER, twinshelf shelf "+
			"new FOLDER.")
	case len(m.boards) == 0:
		return m.plain(w, "The shelf", "holds no twins yet.", "Choose a disk on the Bench (1) and press Enter to "+
			"capture its machine.")
	}
	if m.growing {
		return m.growthBody(w)
	}
	out := m.shelfLines(w)
	twin := m.twinLines(m.twin(), w)
	var thin []string
	if m.thin != nil {
		thin = m.thinLines(w)
	}
	gaps := 1 // empty lines around the large board
	if m.high >= lowScreen {
		gaps = 2
	}
	list, large := shareRows(m.room-len(out)-len(thin)-gaps, len(m.boards), len(twin))
	out = append(out, m.boardList(w, list, large > 0)...)
	if out = append(out, ""); large > 0 {
		out = append(append(out, m.largeBoard(w, large)...), make([]string, gaps-1)...)
	}
	return append(append(out, thin...), twin...)
}

// shelfLines say how full the shelf is and will be.
func (m *datesPage) shelfLines(w int) []string {
	f := m.ahead
	n := 16
	whole := max(1, f.Stored+f.Free)
	fill := min(n, int(float64(f.Stored)/float64(whole)*float64(n)+0.5))
	line := " " + m.th.strong.Render(m.w.Shelf.Head().Name) + " "
	if w >= 100 { // the words say it too
		line += "▕" + m.th.reads.Render(strings.Repeat("█", fill)) + m.th.dim.Render(strings.Repeat("░", n-fill)) + "▏ "
	}
	var out []string
	for i, l := range wrap(f.Words(), w-ansi.StringWidth(line)-1) {
		if i > 0 {
			line = strings.Repeat(" ", ansi.StringWidth(line))
		}
		out = append(out, line+l)
	}
	for _, c := range m.concerns {
		out = append(out, m.th.caution.Render(" ! "+c))
	}
	if m.retired != "" {
		out = append(out, m.th.caution.Render(" Retired: "+m.retired+". It takes no more captures."))
	}
	for _, k := range m.known {
		if !k.Open && m.high >= lowScreen {
			out = append(out, m.th.dim.Render(" Also known: "+k.Words()))
		}
	}
	return append(out, "")
}

// thinLines say what would go by the rule.
func (m *datesPage) thinLines(w int) []string {
	if len(m.thin.Machines) == 0 {
		return []string{m.th.dim.Render(" Working out what would go …"), ""}
	}
	head := m.th.danger.Render(fmt.Sprintf(" BY THE RULE %s WOULD GO ",
		strings.ToUpper(units.Plural(m.thin.Goes, "twin"))))
	if m.thin.Goes == 0 {
		head = m.th.good.Render("By the rule nothing goes")
	}
	out := []string{" " + head + fmt.Sprintf("   up to %s come back. Nothing is dropped yet.",
		units.Bytes(m.thin.Back))}
	if m.readyPage.ready.hint != "" {
		paint := m.th.strong
		if m.readyPage.ready.wrong {
			paint = m.th.bad
		}
		for _, l := range wrap("= "+m.readyPage.ready.hint, w-3) {
			out = append(out, " "+paint.Render(l))
		}
	}
	for _, mp := range m.thin.Machines {
		if mp.Machine != m.boards[m.board].machine {
			continue
		}
		for _, l := range wrap(mp.Machine+": "+mp.Rule+"; then it reaches back to "+units.Moment(mp.Reach), w-3) {
			out = append(out, " "+l)
		}
	}
	if why := m.goes[m.twin().ID]; why != "" {
		out = append(out, m.th.bad.Render(" ✗ this one would go: "+why))
	}
	return append(out, "")
}

func (m *datesPage) twinLines(t *shelf.Twin, w int) []string {
	b := &m.boards[m.board]
	out := []string{fmt.Sprintf(" %s   %s %s", m.th.strong.Render(units.Moment(t.Taken)), t.Machine,
		m.th.dim.Render(fmt.Sprintf("twin %d of %d, %s", b.at+1, len(b.twins), t.ID)))}
	share := "the first one"
	if b.at > 0 {
		share = "new since the one before"
	}
	out = append(out, fmt.Sprintf(" %s used, %s stored anew (%s)", m.th.strong.Render(units.Bytes(t.Used)),
		m.th.strong.Render(units.Bytes(t.Added)), share))
	if t.Note != "" {
		out = append(out, " Note: "+t.Note)
	}
	if also := workshop.AlsoOn(m.known, t.ID); len(also) > 0 {
		out = append(out, m.th.good.Render(" Also on "+strings.Join(also, ", ")+"."))
	}
	if k, kept := m.pins[t.ID]; kept {
		out = append(out, m.th.good.Render(" ◆ kept for ever: "+k.Note))
	}
	unread := b.unread[t.ID]
	if unread > 0 {
		out = append(out, m.th.caution.Render(" "+unreadProofs(unread)))
	}
	if p := shelf.ShelfProofs(b.proofs[t.ID]); len(p) > 0 {
		line := fmt.Sprintf(" Last proof %s of the shelf: %s", units.Moment(p[0].When), p[0].Words())
		switch {
		case !p[0].Holds():
			out = append(out, m.th.bad.Render(line))
		case p[0].Old(time.Now()):
			out = append(out, m.th.caution.Render(line+"; that is long ago: press v to read it again"))
		default:
			out = append(out, m.th.good.Render(line))
		}
	} else if unread == 0 {
		out = append(out, m.th.caution.Render(" Not proven yet: press v to read every block of it."))
	}
	if p := shelf.TargetProofs(b.proofs[t.ID]); len(p) > 0 {
		style := m.th.good
		if !p[0].Holds() {
			style = m.th.bad
		}
		out = append(out,
			style.Render(fmt.Sprintf(" Restored to %s, proven %s: %s", p[0].Of, units.Moment(p[0].When), p[0].Words())))
	}
	if n := t.Missing(); n > 0 {
		out = append(out, m.th.bad.Render(fmt.Sprintf(" %s of the source could not be read.", units.Bytes(n))))
	}
	for i, d := range t.Disks {
		mark := "  "
		if i == min(m.twinDisk, len(t.Disks)-1) {
			mark = " ▶"
		}
		out = append(out,
			fmt.Sprintf("%s %s  %s  %s  %s, %s used", mark, fit(d.Identity.Model, 18),
				right(units.Bytes(d.Identity.Size), 8), d.Identity.Serial, tableWord(string(d.Table.Kind)),
				units.Bytes(d.Used)))
		for _, r := range d.Parts() {
			out = append(out, regionLine(m.th, r, w))
		}
	}
	return out
}

func tableWord(kind string) string {
	if kind == "" {
		return "no table"
	}
	return kind
}

func regionLine(th theme, r shelf.Region, w int) string {
	p := patternOf(tableRole(r.Role))
	state := fmt.Sprintf("%s used %s new", right(units.Bytes(r.Used), 9), right(units.Bytes(r.Added), 9))
	switch {
	case !r.Captured:
		state = th.caution.Render("left out")
	case r.Unclean != "":
		state += th.caution.Render("  not quiet: " + r.Unclean)
	case len(r.Omitted) > 0:
		state += th.dim.Render("  without " + strings.Join(r.Omitted, ", "))
	}
	if r.Trusted > 0 {
		state += th.dim.Render("  " + units.Bytes(r.Trusted) + " by its records")
	}
	if why := r.Shrinks(); why != "" {
		state += th.dim.Render("  " + why)
	}
	title := min(30, max(14, w-68))
	return "     " + p.style.Render(p.used) + " " + fit(fmt.Sprintf("%d %s", r.Part, r.Title()), title) +
		fit(r.Role, 10) + fit(r.Kind, 6) + right(units.Bytes(r.Span.Len()), 9) + " " + fit(state, w-33-title)
}

// unreadProofs says that a twin has proofs that can't be read.
func unreadProofs(n int) string {
	return units.Plural(n, "proof") + " of it can't be read: press v to read every block of it anew."
}

func (m *datesPage) body(w int) ([]string, int) { return m.lines(w), -1 }
