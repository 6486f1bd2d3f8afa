package tui

import (
	"fmt"
	"strings"
	"time"

	"twinshelf/internal/keeping"
)

// The growth of the shelf, from the Dates step: over time, by machine, and as a file.

func (m *datesPage) growthBindings() []binding {
	scroll := m.scrolled()
	scroll.show, scroll.does = "↑↓", "scroll"
	return []binding{
		{"enter", "Enter", "save the chart", "as .svg or .pdf, with a line for each machine and when it is full",
			acts(func() { savePicture(m.model, datePictures(m)[0]) })},
		scroll,
		{"esc g", "Esc", "back", "to the dates", acts(func() { m.growing, m.scroll = false, 0 })},
	}
}

// growthBody shows how the shelf grew, how each machine does, and when it'll be full.
func (m *datesPage) growthBody(w int) []string {
	f := m.ahead
	out := []string{" " + m.th.strong.Render("How "+m.w.Shelf.Head().Name+" grows")}
	for _, l := range m.th.wrap(f.Words(), w-2) {
		out = append(out, " "+l)
	}
	out = append(out, "")
	const foot = 4 // rows of axis, distance, titles and what is below
	if high := min(10, m.room-len(out)-foot-min(len(f.Machines), m.room/3)); high >= 3 {
		out = append(append(out, growthChart(m, w-scaleWide-2, high)...), "")
	}
	most := 1.0
	for _, g := range f.Machines {
		most = max(most, g.PerWeek)
	}
	out = append(out, m.th.dim.Render(" "+fit("machine", 24)+right("twins", 7)+right("stored", 11)+right("a week", 11)))
	for _, g := range f.Machines {
		line := " " + fit(g.Machine, 24) + right(fmt.Sprint(g.Twins), 7) + right(m.th.size(g.Stored), 11) +
			right(m.th.size(int64(g.PerWeek)), 11)
		if n := w - 60; n > 0 {
			line += "  " + m.th.grown.Render(strings.Repeat("━", int(g.PerWeek/most*float64(min(n, 40))+0.5)))
		}
		out = append(out, line)
	}
	return out
}

// growthChart is what all twins up to a date brought, over w columns.
func growthChart(m *datesPage, w, high int) []string {
	from, to, stored := keeping.Grown(m.twins(), w)
	most := max(1, stored[len(stored)-1])
	var out []string
	for r := high - 1; r >= 0; r-- {
		left := ""
		switch r {
		case high - 1:
			left = m.th.size(most) + " "
		case 0:
			left = "0 "
		}
		var line strings.Builder
		for _, n := range stored {
			level := int(n * int64(8*high) / most)
			if n > 0 {
				level = max(1, level)
			}
			line.WriteString(eighths[max(0, min(8, level-8*r))])
		}
		out = append(out, m.th.dim.Render(right(left, scaleWide))+m.th.grown.Render(line.String()))
	}
	const day = "2006-01-02"
	middle := from.Add(to.Sub(from) / 2)
	axis := fit(from.Format(day), w/2-len(day)/2) + middle.Format(day)
	if to.Sub(from) < 72*time.Hour {
		axis = from.Format(day)
	}
	return append(out, strings.Repeat(" ", scaleWide)+m.th.dim.Render(sides(axis, to.Format(day), w)))
}
