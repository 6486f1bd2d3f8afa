package tui

import (
	"fmt"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/shelf"
	"twinshelf/internal/store/far"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// lines shows the boards with their twins, and the selected twin below.
func (m *datesPage) lines(w int) []string {
	switch {
	case m.w.Shelf == nil:
		return m.plain(w, "Dates", "needs a shelf.", "Press o to open one, or to make a new one on a mounted storage "+
			"drive (Ready, 2, makes a drive ready for it).")
	case len(m.boards) == 0:
		return m.plain(w, "The shelf", "holds no twins yet.", "Choose a disk on the Bench (1) and press Enter to "+
			"capture its machine.")
	}
	if m.growing {
		return m.growthBody(w)
	}
	out := m.shelfLines(w)
	var twin, thin []string
	if m.wide < twoPanes { // otherwise it is beside
		twin = twinLines(m, m.twin(), w)
	}
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

// share is how much of the window the machines and the board take, in percent.
func (m *datesPage) share() int { return 52 }

// beside shows the chosen twin.
func (m *datesPage) beside(w int) []string {
	if m.w.Shelf == nil || m.growing || m.twin() == nil {
		return nil
	}
	return twinLines(m, m.twin(), w)
}

// shelfLines say how full the shelf is and will be.
func (m *datesPage) shelfLines(w int) []string {
	f := m.ahead
	n := 16
	whole := max(1, float64(f.Stored)+float64(f.Free))
	fill := min(n, int(float64(f.Stored)/whole*float64(n)+0.5))
	line := " " + m.th.strong.Render(m.w.Shelf.Head().Name) + " "
	if w >= 100 && f.Free.Known() { // the words say it too
		line += "▕" + m.th.reads.Render(strings.Repeat("█", fill)) + m.th.dim.Render(strings.Repeat("░", n-fill)) + "▏ "
	}
	var out []string
	for i, l := range m.th.wrap(f.Words(), w-ansi.StringWidth(line)-1) {
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
	out = append(out, farLines(m, w)...)
	for _, k := range m.known {
		if !k.Open && m.high >= lowScreen {
			out = append(out, m.th.dim.Render(" Also known: "+k.Words()))
		}
	}
	return append(out, "")
}

// farLines say what protects a shelf far away, and what went over its line.
func farLines(m *datesPage, w int) (out []string) {
	if !m.far.Far {
		return nil
	}
	add := func(text string, paint lipgloss.Style) {
		for _, l := range m.th.wrap(text, w-2) {
			out = append(out, " "+paint.Render(l))
		}
	}
	v := m.far.Verdict
	switch {
	case m.far.Problem != nil:
		add("! "+sentence(m.far.Problem), m.th.caution)
		return out
	case v == nil:
		add("What protects it from whoever gets hold of its key wasn't tried out yet: w does.", m.th.dim)
	case v.Safe:
		add("Tried out on "+v.When.Format("2 Jan 2006")+": "+v.Says+".", m.th.dim)
	default:
		add("! Tried out on "+v.When.Format("2 Jan 2006")+": "+v.Says+".", m.th.caution)
	}
	if m.far.Line != "" {
		add(capital(m.far.Line)+".", m.th.dim)
	}
	return out
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
	out := []string{" " + head}
	back := fmt.Sprintf("up to %s come back. Nothing is dropped yet.", m.th.size(m.thin.Back))
	for _, l := range m.th.wrap(back, w-3) {
		out = append(out, " "+l)
	}
	for _, mp := range m.thin.Machines {
		if mp.Machine != m.boards[m.board].machine {
			continue
		}
		for _, l := range m.th.wrap(mp.Machine+": "+mp.Rule+"; then it reaches back to "+units.Moment(mp.Reach), w-3) {
			out = append(out, " "+l)
		}
	}
	if why := m.goes[m.twin().ID]; why != "" {
		for i, l := range m.th.wrap("✗ this one would go: "+why, w-5) {
			if i > 0 {
				l = "  " + l
			}
			out = append(out, " "+m.th.bad.Render(l))
		}
	}
	return append(out, "")
}

// twinLines say what is to know of a twin, and list its disks and parts.
func twinLines(m *datesPage, t *shelf.Twin, w int) []string {
	b := &m.boards[m.board]
	out := []string{" " + sides(m.th.strong.Render(units.Moment(t.Taken))+"  "+t.Machine, m.th.dim.Render(ago(t.Taken))+
		" ", w-1)}
	say := func(text string, paint func(...string) string) {
		for _, l := range m.th.wrap(text, w-2) {
			out = append(out, " "+paint(l))
		}
	}
	share := "the first one"
	if b.at > 0 {
		share = "new since the one before"
	}
	plain := func(s ...string) string { return strings.Join(s, "") }
	say(fmt.Sprintf("%s used, %s newly stored (%s)", m.th.strong.Render(m.th.size(t.Used)),
		m.th.strong.Render(m.th.size(t.Added)), share), plain)
	say(fmt.Sprintf("twin %d of %d, %s", b.at+1, len(b.twins), t.ID), m.th.dim.Render)
	if name := m.routinesPage.made(t.ID); name != "" {
		say("By the routine "+name+".", m.th.dim.Render)
	}
	if t.Note != "" {
		say("Note: "+t.Note, plain)
	}
	if also := workshop.AlsoOn(m.known, t.ID); len(also) > 0 {
		say("Also on "+strings.Join(also, ", ")+".", m.th.good.Render)
	}
	if to := workshop.Uncarried(m.routinesPage.list, m.known, t.ID); len(to) > 0 {
		say("Not carried to "+strings.Join(to, ", ")+" yet.", m.th.caution.Render)
	}
	if k, kept := m.pins[t.ID]; kept {
		say("◆ kept for ever: "+k.Note, m.th.good.Render)
	}
	proofLines(m, b, t, say)
	if words := t.RescueWords(); words != "" {
		say(capital(words)+".", m.th.caution.Render)
	}
	if n := t.Missing(); n > 0 {
		unread := "could not be read."
		if t.Rescue != nil {
			unread = "couldn't be read, or weren't tried yet: R on the Bench goes on."
		}
		say(fmt.Sprintf("× %s of the source %s", m.th.size(n), unread), m.th.bad.Render)
	}
	return append(out, diskLines(m, t, w)...)
}

// proofLines say when the twin was proven last, and what it was restored to.
func proofLines(m *datesPage, b *board, t *shelf.Twin, say func(string, func(...string) string)) {
	unread := b.unread[t.ID]
	if unread > 0 {
		say(unreadProofs(unread), m.th.caution.Render)
	}
	if p := shelf.ShelfProofs(b.proofs[t.ID]); len(p) > 0 {
		line := fmt.Sprintf("Last proof %s of the shelf: %s", units.Moment(p[0].When), p[0].Words())
		switch {
		case !p[0].Holds():
			say(line, m.th.bad.Render)
		case p[0].Old(time.Now()):
			say(line+"; that is long ago: press v to read it again", m.th.caution.Render)
		default:
			say(line, m.th.good.Render)
		}
	} else if unread == 0 {
		say("Not proven yet: press v to read every block of it.", m.th.caution.Render)
	}
	if p := shelf.TargetProofs(b.proofs[t.ID]); len(p) > 0 {
		paint := m.th.good.Render
		if !p[0].Holds() {
			paint = m.th.bad.Render
		}
		say(fmt.Sprintf("Restored to %s, proven %s: %s", p[0].Of, units.Moment(p[0].When), p[0].Words()), paint)
	}
}

// diskLines list the disks of a twin with their parts.
func diskLines(m *datesPage, t *shelf.Twin, w int) []string {
	var out []string
	for i, d := range t.Disks {
		mark := "  "
		if i == min(m.twinDisk, len(t.Disks)-1) {
			mark = " ▶"
		}
		if i > 0 || m.wide >= twoPanes {
			out = append(out, "")
		}
		out = append(out, sides(fmt.Sprintf("%s %s %s  %s", mark, fit(d.Identity.Model, 18),
			right(m.th.size(d.Identity.Size), 8), d.Identity.Serial),
			m.th.dim.Render(tableWord(string(d.Table.Kind)))+
				" ", w))
		for _, r := range d.Parts() {
			out = append(out, regionLine(m.th, r, w)...)
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

// regionLine is a part of a twin: how large, how much of it is used, what it brought anew; what is to know of it
// follows where there is no room beside it.
func regionLine(th theme, r shelf.Region, w int) []string {
	p := th.patternOf(tableRole(r.Role))
	wide := w >= 90
	title := min(30, max(12, w-51))
	line := "     " + p.style.Render(p.used) + " "
	if wide {
		title = min(30, w-78)
	}
	line += fit(fmt.Sprintf("%d %s", r.Part, r.Title()), title-1) + " "
	if wide {
		line += fit(r.Role, 10)
	}
	line += fit(r.Kind, 6) + right(th.size(r.Span.Len()), 8)
	if !r.Captured {
		return []string{line + "  " + th.caution.Render("left out")}
	}
	line += " " + right(th.size(r.Used), 8) + " used"
	line += right(th.size(r.Added), 9) + " new"
	var more []string
	if r.Unclean != "" {
		more = append(more, th.caution.Render(r.Unrest()))
	} else if len(r.Omitted) > 0 {
		more = append(more, th.dim.Render("without "+strings.Join(r.Omitted, ", ")))
	}
	if r.Trusted > 0 {
		more = append(more, th.dim.Render(th.size(r.Trusted)+" by its records"))
	}
	if why := r.Shrinks(); why != "" {
		more = append(more, th.dim.Render(why))
	}
	if text := strings.Join(more, "  "); text != "" && ansi.StringWidth(line+text)+2 <= w {
		return []string{line + "  " + text}
	}
	out := []string{line}
	for _, m := range more {
		for _, l := range th.wrap(m, w-10) {
			out = append(out, "         "+l)
		}
	}
	return out
}

// unreadProofs says that a twin has proofs that can't be read.
func unreadProofs(n int) string {
	return units.Plural(n, "proof") + " of it can't be read: press v to read every block of it anew."
}

func (m *datesPage) body(w int) ([]string, int) { return m.lines(w), -1 }

// lanes are the twin that is chosen; nothing is written here before a last page.
func (m *datesPage) lanes() lanes {
	ls := lanes{up: nothing(reading(m.th, ""), "nothing: the shelf has no twins yet"),
		down: nothing(writing(m.th, ""), "nothing; Enter plans to restore this twin")}
	if m.target != nil {
		ls.down.said = "nothing; Enter plans to restore this twin onto " + m.target.Identity.Model
	}
	if m.w.Shelf == nil {
		ls.up.said = "nothing: no shelf is open"
	}
	if t := m.twin(); t != nil {
		ls.up = reading(m.th, "").ofTwin(t, m.twinDisk)
	} else {
		ls.down.said = "nothing"
	}
	if m.growing || m.thin != nil {
		ls.up.fold = true
		ls.down.said = "nothing before the last page"
	}
	return ls
}

// shortPlace is where a shelf lies, short: an address without how it is reached.
func shortPlace(place string) string {
	if far.Is(place) {
		address, _, _ := strings.Cut(place, "?")
		return address
	}
	return shortPath(place)
}

// shelfLane puts the open shelf onto a lane, with what it is about to take in bytes.
func shelfLane(m *datesPage, l lane, adds int64) lane {
	s := m.w.Shelf
	if s == nil {
		return nothing(l, "nothing: no shelf is open")
	}
	f := m.ahead
	l.name, l.where = "shelf "+s.Head().Name, shortPlace(s.Place())
	if !f.Free.Known() {
		l.says("%s stored", f.Stored)
		if adds > 0 {
			l.says("probably %s more", adds)
		}
		return l
	}
	free := int64(f.Free)
	l.gauge = &gauge{f.Stored, min(adds, free), max(0, free-adds)}
	l.says("%s stored, %s free", f.Stored, free)
	if adds > 0 {
		l.says("probably %s more; %s free", adds, free)
	}
	if adds > free {
		l.warns("IT PROBABLY DOESN'T FIT")
	}
	return l
}
