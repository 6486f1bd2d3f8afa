package tui

import (
	"os"
	"slices"
	"strings"
)

// Glyphs says which characters the screen is drawn with.
type Glyphs string

const (
	// GlyphsByTerminal lets the terminal's name decide.
	GlyphsByTerminal Glyphs = "auto"
	// GlyphsFull are all that a terminal window has.
	GlyphsFull Glyphs = "full"
	// GlyphsFew are those of the oldest console fonts (IBM code page 437), one cell for one cell.
	GlyphsFew Glyphs = "few"
)

// bareTerminals are the names of terminals that draw with a console font.
var bareTerminals = []string{"linux", "vt100", "vt102", "vt220", "ansi", "cons25", "console"}

// few says whether the terminal gets the few characters of console fonts.
func (g Glyphs) few() bool {
	if g == GlyphsFull || g == GlyphsFew {
		return g == GlyphsFew
	}
	name, _, _ := strings.Cut(os.Getenv("TERM"), "-")
	return slices.Contains(bareTerminals, name)
}

// inFew puts a character of a console font in the place of each that the screen draws with and that such a font lacks:
// as wide, and no two that mean something on the same page become one.
var inFew = strings.NewReplacer(
	"▏", "│", "▕", "│", "▞", "▒", "▓", "▓", "╳", "╬",
	"◆", "♦", "▆", "▓", "▂", "_", "▁", "_", "▃", "▄", "▅",
	"▄", "▇", "█",
	"━", "═", "┃", "║", "┈", "·", "╌", "·", "╶", "─",
	"╴", "─", "╰", "└", "╯", "┘", "╭", "┌", "╮", "┐",
	"▾", "▼", "▸", "►", "▶", "►", "◀", "◄", "◂", "◄",
	"□", "○", "◐", "◘", "●", "•", "✓", "√", "✗", "x", "×", "x",
	"⧗", "~", "…", "»", "‹", "<", "›", ">", "“", "\"",
	"”", "\"", "‘", "'", "’", "'", "–", "-", "—", "-", "≠", "#",
	"⇥", "»", "↹", "»", "↵", "◄", "⏸", "║",
	"⋯", "»", "▔", "═", "╎", ":", "┆", "│", "▪", "■",
)
