package tui

import (
	"strings"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk/health"
)

// painted is the colour of a level.
func (th theme) painted(l health.Level) func(...string) string {
	switch l {
	case health.Failing:
		return th.bad.Render
	case health.Watch:
		return th.caution.Render
	case health.Sound:
		return th.good.Render
	}
	return th.dim.Render
}

// healthMark stands before a verdict, so that it is told without colour too.
func healthMark(l health.Level) string {
	switch l {
	case health.Failing:
		return "✗ "
	case health.Watch:
		return "! "
	}
	return ""
}

// verdictLines are what a drive says of itself, in a sentence.
func verdictLines(m *benchPage, d *bench.Disk, w int) []string {
	if d.Health == nil || d.Image && !d.Health.Told() {
		return nil
	}
	l := d.Health.Verdict().Level
	words := d.Health.Words()
	if l < health.Watch {
		words = "Drive: " + words
	}
	var out []string
	for _, line := range m.th.wrap(healthMark(l)+words, w-3) {
		out = append(out, " "+m.th.painted(l)(line))
	}
	return out
}

// healthTable is all that a drive says of itself.
func healthTable(m *benchPage, d *bench.Disk, w int) []string {
	lines := d.HealthLines()
	if len(lines) == 0 {
		why := "It wasn't asked yet."
		if d.Health != nil {
			why = capital(d.Health.Silent) + "."
		}
		return []string{" " + m.th.dim.Render(fit(why, w-2))}
	}
	wide := 0
	for _, l := range lines {
		wide = max(wide, len(l.Name))
	}
	wide = min(wide, max(12, w/2))
	out := []string{" " + m.th.strong.Render("What the drive says of itself"), ""}
	for _, l := range lines {
		paint := func(s ...string) string { return strings.Join(s, "") }
		if l.Level >= health.Watch {
			paint = m.th.painted(l.Level)
		}
		for i, v := range m.th.wrap(l.Value, w-wide-6) {
			name, mark := l.Name, fit(healthMark(l.Level), 2)
			if i > 0 {
				name, mark = "", "  "
			}
			out = append(out, " "+paint(mark)+m.th.dim.Render(fit(name, wide+1))+" "+paint(v))
		}
	}
	return out
}

// healthBinding turns the other pane between what is on a disk and how its drive is.
func healthBinding(m *benchPage, d *bench.Disk) binding {
	b := binding{"H", "H", "health", "all that the drive says of itself, or again what is on the disk",
		acts(func() { m.figures = !m.figures })}
	if m.figures {
		b.does = "contents"
	}
	return b
}
