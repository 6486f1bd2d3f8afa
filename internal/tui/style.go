package tui

import (
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/table"
)

// Colours only support what words and patterns already say.
var (
	strong = lipgloss.NewStyle().Bold(true)
	here   = lipgloss.NewStyle().Reverse(true).Bold(true)
	// stands out without colour too
	danger = lipgloss.NewStyle().Foreground(lipgloss.Color("124")).Background(lipgloss.Color("231")).Reverse(
		true).Bold(true)

	dim, reads, writes, good, bad, caution, grown, keyStyle lipgloss.Style
)

func init() { paint(true) }

// paint chooses the colours for a dark or a light terminal.
func paint(dark bool) {
	c := func(onDark, onLight string) lipgloss.Style {
		if dark {
			return lipgloss.NewStyle().Foreground(lipgloss.Color(onDark))
		}
		return lipgloss.NewStyle().Foreground(lipgloss.Color(onLight))
	}
	dim = c("245", "242")
	reads = c("80", "30").Bold(true)
	writes = c("215", "166").Bold(true)
	good = c("114", "28")
	bad = c("203", "160").Bold(true)
	caution = c("221", "130")
	grown = c("73", "66")
	keyStyle = c("153", "25").Bold(true)
}

// pattern is how a part of some role looks on a rail: the glyph of what is in use.
type pattern struct {
	used  string
	style lipgloss.Style
}

const freeGlyph, gapGlyph = "░", "─"

func patternOf(r table.Role) pattern {
	c := func(n string) lipgloss.Style { return lipgloss.NewStyle().Foreground(lipgloss.Color(n)) }
	switch r {
	case table.RoleStartup:
		return pattern{"▞", c("179")}
	case table.RoleSystem:
		return pattern{"█", c("74")}
	case table.RoleData:
		return pattern{"▆", c("109")}
	case table.RoleRecovery:
		return pattern{"◆", c("139")}
	case table.RoleSwap:
		return pattern{"~", c("102")}
	case table.RoleReserved:
		return pattern{"·", c("244")}
	}
	return pattern{"?", c("180")}
}

// fit cuts or pads s to exactly w cells.
func fit(s string, w int) string {
	if w <= 0 {
		return ""
	}
	s = ansi.Truncate(s, w, "…")
	return s + strings.Repeat(" ", max(0, w-ansi.StringWidth(s)))
}

// right puts s at the right end of w cells.
func right(s string, w int) string {
	s = ansi.Truncate(s, w, "…")
	return strings.Repeat(" ", max(0, w-ansi.StringWidth(s))) + s
}

// sides puts a at the left and b at the right of w cells; b wins the room.
func sides(a, b string, w int) string {
	b = ansi.Truncate(b, w, "…")
	return fit(a, w-ansi.StringWidth(b)) + b
}

// wrap breaks s into lines of at most w cells.
func wrap(s string, w int) []string {
	return strings.Split(ansi.Wrap(s, max(10, w), " "), "\n")
}
