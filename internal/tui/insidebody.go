package tui

import (
	"fmt"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/fsys"
	"twinshelf/internal/inside"
	"twinshelf/internal/units"
)

// insideRoom is how many rows of the list there is room for.
func (m *insidePage) insideRoom() int {
	return max(3, m.room-1-m.detailHigh())
}

// detailHigh is how many lines stand under the list.
func (m *insidePage) detailHigh() int {
	switch {
	case m.wide >= twoPanes: // they are beside it
		return 0
	case m.high < 26:
		return 4
	}
	return 8
}

// share is how much of the window the folder takes, in percent.
func (m *insidePage) share() int { return 58 }

// beside is what is known of the chosen item, its dates, and the beginning of a text.
func (m *insidePage) beside(w int) []string {
	l := &m.inside
	if l.viewing != nil || l.diffing != nil || l.finding != nil || l.part == nil || l.problem != "" {
		return nil
	}
	e, ok := l.chosen()
	if !ok {
		return nil
	}
	out := []string{" " + m.th.strong.Render(fit(inside.Visible(e.Name), w-2)), ""}
	out = append(out, m.insideDetail(w)[1:]...)
	if len(l.detail.preview) > 0 {
		out = append(out, "", " "+m.th.dim.Render("How it begins"), "")
		for _, s := range l.detail.preview {
			out = append(out, " "+ansi.Truncate(s, w-2, "…"))
		}
	}
	return out
}

// lines shows the folder, and under it the dates and what is known of the chosen item.
func (m *insidePage) lines(w int) []string {
	l := &m.inside
	switch {
	case l.viewing != nil:
		return m.viewPane.viewingBody(w)
	case l.diffing != nil:
		return m.diffPane.diffingBody(w)
	case l.finding != nil:
		return m.findPane.findingBody(w)
	}
	out := []string{m.insideHead(w)}
	room := m.insideRoom()
	switch {
	case l.problem != "":
		for _, s := range m.th.wrap(l.problem, w-4) {
			out = append(out, "  "+m.th.bad.Render(s))
		}
		return out
	case l.in == nil:
		return append(out, m.th.dim.Render("  Opening …"))
	case l.part == nil:
		return append(out, m.partRows(w)...)
	}
	top := max(0, min(l.at-room/2, len(l.shown)-room))
	for i := top; i < len(l.shown) && i < top+room; i++ {
		out = append(out, m.itemRow(i, w))
	}
	if len(l.shown) == 0 {
		text := "The folder is empty."
		if l.unseen > 0 {
			text = fmt.Sprintf("Only hidden things are here (%d): press a to show them.", l.unseen)
		}
		out = append(out, m.th.dim.Render("  "+text))
	}
	if m.wide >= twoPanes {
		return out
	}
	for len(out) < room+1 {
		out = append(out, "")
	}
	return append(out, m.insideDetail(w)...)
}

// insideHead says where this is.
func (m *insidePage) insideHead(w int) string {
	l := &m.inside
	title := "Look inside"
	if l.in != nil {
		title = "Inside " + m.th.sentence(l.in.Title)
		if l.in.Twin != nil {
			title += ", " + l.in.Twin.Taken.Format("2006-01-02 15:04")
		}
	}
	place, right := "", ""
	if l.part != nil {
		place = inside.Visible(l.part.Label("", l.in.Disks) + strings.TrimPrefix("/"+l.path, "/."))
		right = fmt.Sprintf("%s, by %s", units.Plural(len(l.shown), "item"), orders[l.order])
		if l.unseen > 0 {
			right = fmt.Sprintf("%d hidden, ", l.unseen) + right
		}
		if n := len(l.marked); n > 0 {
			right = fmt.Sprintf("%d marked, ", n) + right
		}
	}
	if l.loading {
		right = "reading …"
	}
	room := w - len([]rune(right)) - 4
	if place != "" && len([]rune(title+place))+2 > room { // the rail says which machine and date
		title = "Inside"
	}
	if r := []rune(place); len(r) > room-len(title)-2 { // the end tells more
		place = "…" + string(r[max(0, len(r)-max(8, room-len(title)-3)):])
	}
	return sides(" "+m.th.strong.Render(title)+"  "+m.th.reads.Render(place), m.th.dim.Render(right)+" ", w)
}

func (m *insidePage) partRows(w int) []string {
	l := &m.inside
	if len(l.in.Parts) == 0 {
		return m.plain(w, "This disk", "has no parts that can be looked into.",
			"Its table is missing or doesn't add up, or it was captured as a whole. Esc leads back.")
	}
	const unknown, fixed = "no file system that is known", 2 + 6 + 8 + 10 + 2
	title := max(12, min(34, w-fixed-len(unknown)))
	rest := max(0, w-fixed-title)
	var out []string
	for i, p := range l.in.Parts {
		why := ""
		switch {
		case !p.Known():
			why = m.th.dim.Render(fit(unknown, rest))
		case p.Unclean != "":
			why = m.th.caution.Render(fit("not quiet: "+p.Unclean, rest))
		}
		name := fit(p.Label("", l.in.Disks), 6) + fit(p.Title, title)
		if i == l.at {
			name = "▶ " + m.th.here.Render(name)
		} else {
			name = "  " + name
		}
		out = append(out, name+fit(p.Kind, 8)+right(m.th.size(p.Span.Len()), 10)+"  "+why)
	}
	return append(out, "", m.th.dim.Render("  → opens a part."))
}

func (m *insidePage) itemRow(i, w int) string {
	l := &m.inside
	e := l.shown[i]
	sign, size := " ", right(m.th.size(e.Size), 10)
	style := lipgloss.NewStyle()
	switch {
	case e.Err != nil:
		sign, size, style = "×", right("damaged", 10), m.th.bad
	case e.IsDir():
		sign, size, style = "▸", right("folder", 10), m.th.strong
	case !e.Mode.IsRegular():
		sign, size, style = "→", right(strings.Fields(inside.ItemWord(e.Item))[0], 10), m.th.dim
	case l.gaps[e.Name] > 0:
		sign, style = "×", m.th.bad
	case e.Attr&fsys.Encrypted != 0:
		sign = "*"
	}
	if inside.Unseen(e.Item) && e.Err == nil {
		style = m.th.dim
	}
	when := ""
	if !e.Modified.IsZero() {
		when = e.Modified.Local().Format("2006-01-02 15:04")
	}
	name := fit(inside.Visible(e.Name), max(10, min(88, w-4-2-12-20)))
	mark := " "
	if l.isMarked(e.Name) {
		mark = m.th.good.Render("■")
	}
	if i == l.at {
		return "▶" + mark + sign + " " + m.th.here.Render(name) + "  " + size + "  " + right(when, 16)
	}
	return " " + mark + style.Render(sign+" "+name) + "  " + m.th.dim.Render(size+"  "+right(when, 16))
}

// insideDetail is the line of dates and what is known of the chosen item.
func (m *insidePage) insideDetail(w int) []string {
	l := &m.inside
	e, ok := l.chosen()
	out := []string{m.th.dim.Render(strings.Repeat("╌", w))}
	if !ok {
		return out
	}
	d := &l.detail
	if l.in.Twin != nil {
		out = append(out, m.datesLine(d, w))
		for _, s := range m.th.wrap(sightWords(m.th, d, l.in.Twin.ID), w-2) {
			out = append(out, " "+s)
		}
	}
	if e.Err != nil {
		for _, s := range m.th.wrap("Damaged: "+e.Err.Error(), w-2) {
			out = append(out, " "+m.th.bad.Render(s))
		}
		return out
	}
	if words := inside.GapWords(l.gaps[e.Name]); words != "" {
		for _, s := range m.th.wrap("× "+words+".", w-2) {
			out = append(out, " "+m.th.bad.Render(s))
		}
	}
	for _, s := range m.th.wrap(strings.Join(factsOf(e, d), " · "), w-2) {
		out = append(out, " "+s)
	}
	if m.high < 26 && m.wide < twoPanes {
		if d.problem != "" {
			out = append(out[:min(len(out), 3)], " "+m.th.bad.Render(fit(d.problem, w-2)))
		}
		return out
	}
	var times []string
	for _, x := range []struct {
		word string
		at   time.Time
	}{{"changed", e.Modified}, {"made", e.Created}, {"read", e.Accessed}} {
		if !x.at.IsZero() {
			times = append(times, x.word+" "+units.Moment(x.at.Local()))
		}
	}
	if w < 80 {
		for _, s := range times {
			out = append(out, m.th.dim.Render(" "+s))
		}
	} else {
		out = append(out, m.th.dim.Render(" "+strings.Join(times, " · ")))
	}
	var extras []string
	if d.more.Target != "" {
		extras = append(extras, "leads to "+inside.Visible(d.more.Target))
	}
	if n := len(d.more.Streams); n > 0 {
		extras = append(extras,
			fmt.Sprintf("%s (%s …)", units.Plural(n, "alternate stream"), inside.Visible(d.more.Streams[0].Name)))
	}
	if n := len(d.more.XAttrs); n > 0 && len(d.more.Access) == 0 {
		extras = append(extras,
			fmt.Sprintf("%s (%s …)", units.Plural(n, "attribute"), inside.Visible(d.more.XAttrs[0].Name)))
	}
	if d.more.Remark != "" {
		extras = append(extras, d.more.Remark)
	}
	if len(extras) > 0 {
		out = append(out, " "+strings.Join(extras, " · "))
	}
	if len(d.more.Access) > 0 {
		out = append(out, m.th.dim.Render(" "+fit(strings.Join(d.more.Access, " · "), w-2)))
	}
	if d.problem != "" {
		out = append(out, " "+m.th.bad.Render(fit(d.problem, w-2)))
	}
	return out
}

// factsOf are what a listing, and where the item lies, say of it.
func factsOf(e fsys.Entry, d *detail) []string {
	facts := []string{units.Exact(e.Size)}
	if !e.Mode.IsRegular() {
		facts = []string{inside.ItemWord(e.Item)}
	}
	if len(d.spans) > 0 {
		facts = append(facts, fmt.Sprintf("in %s from byte %s of the disk", units.Plural(len(d.spans), "piece"),
			units.Grouped(d.spans[0].Start)))
	}
	facts = append(facts, e.Mode.String())
	if e.UID != 0 || e.GID != 0 {
		facts = append(facts, fmt.Sprintf("owner %d:%d", e.UID, e.GID))
	}
	if e.Links > 1 && e.Mode.IsRegular() {
		facts = append(facts, fmt.Sprintf("%d names", e.Links))
	}
	return facts
}

// datesLine lights up the dates that have the item: a new version begins with a bar, what goes on is a line.
func (m *insidePage) datesLine(d *detail, w int) string {
	label := " Dates  "
	if len(d.sights) == 0 {
		return m.th.dim.Render(label + "looking through them …")
	}
	room := max(4, (w-len(label)-12-2*11)/3)
	at := 0
	for i, s := range d.sights {
		if s.Twin.ID == m.inside.in.Twin.ID {
			at = i
		}
	}
	first := max(0, min(len(d.sights)-room, at-room/2))
	var b strings.Builder
	b.WriteString(label + m.th.dim.Render(d.sights[0].Twin.Taken.Format("2006-01-02")+" "))
	if first > 0 {
		b.WriteString(m.th.dim.Render(fmt.Sprintf("‹%d ", first)))
	}
	last := 0
	for i, s := range d.sights {
		if i < first || i >= first+room {
			last = s.Version
			continue
		}
		cell, style := "·· ", m.th.dim
		switch {
		case s.Why != "":
			cell = "?? "
		case s.There && (s.Version != last || i == 0):
			cell, style = "▌━━", m.th.good
		case s.There:
			cell, style = "━━━", m.th.good
		}
		if i == at {
			style = m.th.here
		}
		if s.There {
			last = s.Version
		}
		b.WriteString(style.Render(cell))
	}
	if left := len(d.sights) - first - room; left > 0 {
		b.WriteString(m.th.dim.Render(fmt.Sprintf(" %d›", left)))
	}
	b.WriteString(m.th.dim.Render(" " + d.sights[len(d.sights)-1].Twin.Taken.Format("2006-01-02")))
	return b.String()
}

// sightWords say the same in words.
func sightWords(th theme, d *detail, now string) string {
	if len(d.sights) == 0 {
		return ""
	}
	there, unknown, versions, here := 0, 0, 0, 0
	var newest *inside.Sight
	for i := range d.sights {
		s := &d.sights[i]
		if s.Why != "" {
			unknown++
		}
		if s.There {
			there++
			versions = s.Version
			newest = s
		}
		if s.Twin.ID == now {
			here = s.Version
		}
	}
	known, same := len(d.sights)-unknown, ", always the same"
	s := fmt.Sprintf("at %d of %s", there, units.Plural(known, "date"))
	if newest == nil {
		s, same = "at no date", ""
	}
	if unknown > 0 {
		s, same = s+fmt.Sprintf(", unknown for %d", unknown), ", else the same"
	}
	if newest == nil {
		return th.caution.Render(s)
	}
	if versions > 1 && here > 0 {
		s += fmt.Sprintf(", version %d of %d", here, versions)
	} else if versions == 1 && there > 1 {
		s += same
	}
	switch last := d.sights[len(d.sights)-1]; {
	case last.Why != "":
		return s + th.caution.Render("; unknown at the newest date")
	case !last.There:
		return s + th.caution.Render("; gone since, newest date that has it "+newest.Twin.Taken.Format("2006-01-02"))
	}
	return s + "; the newest date has it"
}

func (m *insidePage) body(w int) ([]string, int) { return m.lines(w), -1 }
