package tui

import (
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/table"
)

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
