package tui

import (
	"strings"

	"github.com/charmbracelet/x/ansi"
)

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
func (th theme) wrap(s string, w int) []string {
	return strings.Split(ansi.Wrap(th.sentence(s), max(10, w), " "), "\n")
}
