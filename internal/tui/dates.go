package tui

import (
	"fmt"
	"strings"

	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// spineHeights are the heights of a twin's spine by how much it brought.
var spineHeights = []string{"▁", "▂", "▃", "▄", "▅", "▆"}

// datesBody shows the boards with their twins, and the selected twin below.
func (m *model) datesBody(w int) []string {
	switch {
	case m.w.Shelf == nil:
		return m.plain(w, "Dates", "needs a shelf.", "Start with --shelf FOLDER, or make one with \"twinshelf shelf new FOLDER\".")
	case len(m.boards) == 0:
		return m.plain(w, "The shelf", "holds no twins yet.", "Choose a disk on the Bench (1) and press Enter to capture its machine.")
	}
	var out []string
	for i := range m.boards {
		out = append(out, m.boardLine(i, w))
	}
	out = append(out, "")
	return append(out, m.twinLines(m.twin(), w)...)
}

func (m *model) boardLine(i, w int) string {
	b := &m.boards[i]
	name := fit("  "+b.machine, 22)
	if i == m.board {
		name = here.Render(fit("▶ "+b.machine, 22))
	}
	most := int64(1)
	for _, t := range b.twins {
		most = max(most, t.Added)
	}
	var s strings.Builder
	first := max(0, min(len(b.twins)-(w-60)/3, b.at-2))
	for j := first; j < len(b.twins) && j-first < max(3, (w-60)/3); j++ {
		t := b.twins[j]
		h := spineHeights[min(5, int(6*t.Added/most))]
		spine := " " + h + h
		switch {
		case j == b.at && i == m.board:
			spine = reads.Render("▸" + h + h)
		case !t.Quiet() || t.Missing() > 0:
			spine = caution.Render(spine)
		}
		s.WriteString(spine)
	}
	newest := b.twins[len(b.twins)-1]
	return name + dim.Render(right(units.Plural(len(b.twins), "twin"), 9)) + "  newest " + newest.Taken.Format("2006-01-02") + "  " + s.String()
}

func (m *model) twinLines(t *shelf.Twin, w int) []string {
	b := &m.boards[m.board]
	out := []string{fmt.Sprintf(" %s   %s %s", strong.Render(units.Moment(t.Taken)), t.Machine, dim.Render(fmt.Sprintf("twin %d of %d, %s", b.at+1, len(b.twins), t.ID)))}
	share := "the first one"
	if b.at > 0 {
		share = "new since the one before"
	}
	out = append(out, fmt.Sprintf(" %s used, %s stored anew (%s)", strong.Render(units.Bytes(t.Used)), strong.Render(units.Bytes(t.Added)), share))
	if t.Note != "" {
		out = append(out, " Note: "+t.Note)
	}
	if p := b.proofs[t.ID]; len(p) > 0 {
		line := fmt.Sprintf(" Last proof %s of %s: %s", units.Moment(p[0].When), p[0].Of, p[0].Words())
		if p[0].Holds() {
			out = append(out, good.Render(line))
		} else {
			out = append(out, bad.Render(line))
		}
	} else {
		out = append(out, caution.Render(" Not proven yet: press v to read every block of it."))
	}
	if n := t.Missing(); n > 0 {
		out = append(out, bad.Render(fmt.Sprintf(" %s of the source could not be read.", units.Bytes(n))))
	}
	for i, d := range t.Disks {
		mark := "  "
		if i == min(m.twinDisk, len(t.Disks)-1) {
			mark = " ▶"
		}
		out = append(out, fmt.Sprintf("%s %s  %s  %s  %s, %s used", mark, fit(d.Identity.Model, 18), right(units.Bytes(d.Identity.Size), 8), d.Identity.Serial, tableWord(string(d.Table.Kind)), units.Bytes(d.Used)))
		for _, r := range d.Parts() {
			out = append(out, regionLine(r, w))
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

func regionLine(r shelf.Region, w int) string {
	p := patternOf(tableRole(r.Role))
	state := fmt.Sprintf("%s used %s new", right(units.Bytes(r.Used), 9), right(units.Bytes(r.Added), 9))
	switch {
	case !r.Captured:
		state = caution.Render("left out")
	case r.Unclean != "":
		state += caution.Render("  not quiet: " + r.Unclean)
	case len(r.Omitted) > 0:
		state += dim.Render("  without " + strings.Join(r.Omitted, ", "))
	}
	title := min(30, max(14, w-68))
	return "     " + p.style.Render(p.used) + " " + fit(fmt.Sprintf("%d %s", r.Part, r.Title()), title) + fit(r.Role, 10) + fit(r.Kind, 6) + right(units.Bytes(r.Span.Len()), 9) + " " + fit(state, w-33-title)
}
