package tui

import (
	"fmt"
	"slices"

	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/restore"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

func tableRole(s string) table.Role { return table.Role(s) }

// fitBody shows what goes where.
func (m *model) fitBody(w int) []string {
	t := m.twin()
	switch {
	case t == nil:
		return m.plain(w, "Fit", "needs a twin.", "Capture a machine first: Bench (1), then Enter on its disk.")
	case m.target == nil:
		return m.plain(w, "Fit", "needs a target.", "Press t for the first disk that may be written, or go to the Bench (1) and press w on the disk.",
			"Nothing is written before the last page, where you type what stands on the target's sticker.")
	case m.restoreErr != nil:
		out := []string{"", " " + bad.Render("This can't be done.")}
		for _, l := range wrap(m.restoreErr.Error(), w-4) {
			out = append(out, "   "+l)
		}
		return append(out, "", "   Press t for the next disk that may be written.")
	case m.restore == nil:
		return []string{"", dim.Render(" Working out what goes where …")}
	}
	d := &t.Disks[min(m.twinDisk, len(t.Disks)-1)]
	title := min(30, max(16, w-60))
	out := []string{" " + strong.Render("Every part keeps its place and its size."), "",
		dim.Render("     " + fit("part", title) + fit("role", 10) + right("size", 9) + right("used", 11) + "   begins, as before, at")}
	for _, r := range d.Parts() {
		p := patternOf(tableRole(r.Role))
		out = append(out, "   "+p.style.Render(p.used)+" "+fit(fmt.Sprintf("%d %s", r.Part, r.Title()), title)+fit(r.Role, 10)+right(units.Bytes(r.Span.Len()), 9)+right(units.Bytes(r.Used), 11)+
			"   "+units.Bytes(r.Span.Start))
	}
	if left := m.restore.Fit.Leftover; !left.Empty() {
		out = append(out, caution.Render(fmt.Sprintf("   ─ %s%s   left over, unused", fit("behind the last part", title+10), right(units.Bytes(left.Len()), 9))))
	}
	out = append(out, "")
	_, data := m.restore.Bytes()
	notes := append(slices.Clone(m.restore.Fit.Notes), fmt.Sprintf("the smallest disk it fits is one of %s; %s of data to write, about %s, then it is read back and proven",
		units.Bytes(d.Identity.Size), units.Bytes(data), units.Duration(m.restore.Estimate())))
	for _, n := range append(notes, restore.Warnings(d)...) {
		out = append(out, bullet(n, w)...)
	}
	return out
}

// summaryBody is the last page before anything is written.
func (m *model) summaryBody(w int) []string {
	s := m.summary
	var out []string
	add := func(title string, lines []string, paint func(...string) string) {
		for i, l := range lines {
			if i > 0 {
				title = ""
			}
			for j, part := range wrap(l, w-18) {
				if j > 0 {
					title = ""
				}
				out = append(out, " "+fit(title, 14)+paint(part))
			}
		}
	}
	add("Reads", s.From, reads.Render)
	add("Writes to", s.To, writes.Render)
	if len(s.Lost) == 0 {
		add("Lost", []string{"nothing"}, good.Render)
	}
	add("Lost", s.Lost, bad.Render)
	add("Stays", s.Stays, good.Render)
	add("Does", s.Steps, strong.Render)
	add("Doubtful", s.Doubts, caution.Render)
	add("Note", s.Notes, dim.Render)
	return out
}

// summaryFoot is where the confirmation is typed; it stays in view too.
func (m *model) summaryFoot(w int) []string {
	look := m.summary.Look
	if look == "" {
		look = "Look at the sticker"
	}
	ask, typed := " "+look+" and type "+strong.Render(m.summary.What)+":", "  "+m.confirm.View()
	if ansi.StringWidth(ask)+14 <= w {
		return []string{"", ask + typed}
	}
	return []string{ask, " ▸" + typed}
}

// summaryHead stays in view over the last page, however long that is.
func (m *model) summaryHead(w int) []string {
	head, paint := " LAST PAGE: "+m.summary.Head+" ", danger
	if m.summary.Mild {
		paint = here
	}
	var out []string
	for _, l := range wrap(head, w-2) {
		out = append(out, " "+paint.Render(fit(l, min(w-2, ansi.StringWidth(head)))))
	}
	return append(out, "")
}
