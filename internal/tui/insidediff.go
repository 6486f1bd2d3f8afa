package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/inside"
	"twinshelf/internal/names"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// compared is the outcome of a comparison.
type compared struct {
	d             *diffing
	number        int // of the work of the page Proof; 0 for the page Inside
	before, after *inside.Machine
	all           []inside.PartDifference
	err           error
}

// diffing is a comparison of two dates, or of a date and a disk.
type diffing struct {
	title  string
	before *inside.Machine
	after  *inside.Machine
	disk   *bench.Disk // what after is, when it is a disk
	all    []inside.PartDifference
	rows   []diffRow
	err    error
	done   bool
	at     int
}

// diffRow is a line of a comparison: the head of a part (d nil), or a difference.
type diffRow struct {
	part *inside.PartDifference
	d    *names.Difference
}

// offerComparison lets the other date be chosen.
func (m *diffPane) offerComparison() {
	l := &m.insidePage.inside
	if l.in.Twin == nil || len(m.datesPage.boards) == 0 {
		m.say("There is no other date to compare a disk with: look into a date of a machine (4, then i).")
		return
	}
	var others []*shelf.Twin
	n := menu{title: "Compare with which date of " + l.in.Twin.Machine + "?"}
	b := &m.datesPage.boards[m.datesPage.board]
	for i := len(b.twins) - 1; i >= 0; i-- {
		if t := b.twins[i]; t.ID != l.in.Twin.ID {
			others = append(others, t)
			n.choices = append(n.choices, choice{name: units.Moment(t.Taken), about: ""})
			if i == b.at-1 {
				n.at = len(n.choices) - 1
			}
		}
	}
	if len(others) == 0 {
		m.say("This machine has no other date.")
		return
	}
	n.then = func(chosen []int) tea.Cmd { return m.compareWith(others[chosen[0]]) }
	m.menus.offer(n)
}

func (m *diffPane) compareWith(other *shelf.Twin) tea.Cmd {
	l := &m.insidePage.inside
	older, newer := other, l.in.Twin
	if older.Taken.After(newer.Taken) {
		older, newer = newer, older
	}
	d := &diffing{title: fmt.Sprintf("%s: from %s to %s", newer.Machine, older.Taken.Format("2006-01-02 15:04"),
		newer.Taken.Format("2006-01-02 15:04"))}
	part, folder := l.part, ""
	if part != nil && l.path != "." {
		folder = l.path
	}
	w := m.w
	return m.compare(d, part, folder, func() (before, after *inside.Machine, err error) {
		if before, err = w.LookInto(m.ctx, workshop.Origin{Twin: older}); err == nil {
			after, err = w.LookInto(m.ctx, workshop.Origin{Twin: newer})
		}
		return before, after, err
	})
}

// compare works out a comparison in the background; part nil means all of them.
func (m *diffPane) compare(d *diffing, part *inside.Part, folder string,
	open func() (before, after *inside.Machine, err error)) tea.Cmd {
	m.insidePage.inside.diffing, m.scroll = d, 0
	w, ctx := m.w, m.ctx
	return func() tea.Msg {
		before, after, err := open()
		if err != nil {
			return compared{d: d, err: err}
		}
		only := part
		if part != nil {
			only = after.Same(part)
		}
		lib, _ := w.Library() // two disks need none
		all, err := inside.Compare(ctx, lib, before, after, only, folder)
		return compared{d: d, before: before, after: after, all: all, err: err}
	}
}

// onCompared takes what a comparison came to.
func (m *diffPane) onCompared(msg compared) {
	if msg.number != 0 && planningOver(m.model, msg.number) {
		m.proofPage.onCompared(msg)
	}
	if m.insidePage.inside.diffing == msg.d {
		msg.d.take(msg)
	}
}

// take keeps what a comparison came to, as rows.
func (d *diffing) take(msg compared) {
	if d.done {
		return
	}
	d.before, d.after, d.all, d.err, d.done = msg.before, msg.after, msg.all, msg.err, true
	for i := range d.all {
		p := &d.all[i]
		if !p.Part.Known() {
			continue
		}
		d.rows = append(d.rows, diffRow{part: p})
		for j := range p.All {
			d.rows = append(d.rows, diffRow{p, &p.All[j]})
		}
	}
}

// goToDifference opens the folder of a difference at the date that has it.
func (m *diffPane) goToDifference(r diffRow) tea.Cmd {
	d := m.insidePage.inside.diffing
	side := d.after
	if r.d.Way == names.Removed {
		side = d.before
	}
	o := workshop.Origin{Twin: side.Twin, Bench: d.disk}
	if side.Twin != nil {
		o.Bench = nil
		m.insidePage.showOnBoard(side.Twin)
	}
	cmd := m.insidePage.lookInto(o, fmt.Sprintf("%d.%d:%s", r.part.Part.Disk+1, r.part.Part.Number, r.d.Path))
	m.insidePage.inside.behind.d = d
	return cmd
}

func (m *diffPane) diffingBody(w int) []string {
	l := &m.insidePage.inside
	d := l.diffing
	head := " " + m.th.strong.Render(d.title)
	if l.part != nil && l.path != "." {
		head += "  " + m.th.reads.Render(inside.Visible(l.part.Label(l.path, l.in.Disks)))
	}
	switch {
	case d.err != nil:
		return []string{head, " " + m.th.bad.Render(fit(d.err.Error(), w-2))}
	case !d.done:
		return []string{head, m.th.dim.Render("  Comparing …")}
	}
	out := []string{head}
	room := m.viewPane.viewRoom()
	top := max(0, min(d.at-room/2, len(d.rows)-room))
	for i := top; i < len(d.rows) && i < top+room; i++ {
		out = append(out, d.row(m.th, i, w))
	}
	return out
}

var waySigns = map[names.Way]string{names.Added: "+", names.Removed: "−", names.Changed: "≠", names.Moved: "→"}

func (d *diffing) row(th theme, i, w int) string {
	r := d.rows[i]
	mark := "  "
	if i == d.at {
		mark = "▶ "
	}
	if r.d == nil {
		return mark + th.strong.Render(fit(r.part.Part.Name(), 34)) +
			th.dim.Render(fit(inside.DifferenceWords(*r.part), w-36))
	}
	text := fit(inside.Visible(inside.DifferencePath(*r.d)), max(20, w-38))
	if i == d.at {
		text = th.here.Render(text)
	}
	what := r.d.Way.String()
	if d.disk != nil && r.d.Way == names.Added {
		what = "back"
	}
	word := waySigns[r.d.Way] + " " + fit(what, 8)
	switch r.d.Way {
	case names.Added:
		word = th.good.Render(word)
	case names.Removed:
		word = th.caution.Render(word)
	}
	return mark + "  " + word + " " + text + right(inside.DifferenceSize(*r.d), 22)
}
