package tui

import (
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"

	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// ink is a colour's use. Colours only support what words and patterns already say.
type ink int

const (
	inkText ink = iota // the terminal's own; said here only for computing contrasts
	inkDim
	inkReads
	inkWrites
	inkGood
	inkBad
	inkCaution
	inkGrown
	inkKey
	inkStartup
	inkSystem
	inkData
	inkRecovery
	inkSwap
	inkReserved
	inkUnknown
	inkFree // what nobody uses: quiet, and never all that says so
	inks
)

// palette are the colours for one kind of background, and that background.
type palette struct {
	ground string
	ink    [inks]string
}

// The palettes: for dark and light backgrounds, with any colour (a terminal with 256 takes the nearest), and with the
// sixteen that every terminal has. TestContrast computes that text has at least 4.5, marks at least 3.
var (
	darkInks = palette{"#10141c", [inks]string{inkText: "#d8dee9", inkDim: "#9aa3b2", inkReads: "#62d2c8",
		inkWrites: "#ffb066", inkGood: "#87d787", inkBad: "#ff7b72", inkCaution: "#ffd75f", inkGrown: "#7fb3b8",
		inkKey: "#a8c7ff", inkStartup: "#d7af5f", inkSystem: "#6aaede", inkData: "#8fbcbb", inkRecovery: "#b794c9",
		inkSwap: "#a0a0a0", inkReserved: "#8a93a3", inkUnknown: "#d7af87", inkFree: "#6c7789"}}
	lightInks = palette{"#ffffff", [inks]string{inkText: "#1c1f26", inkDim: "#5b6370", inkReads: "#00696b",
		inkWrites: "#8f3600", inkGood: "#1f6f2b", inkBad: "#b3161b", inkCaution: "#7d5300", inkGrown: "#3c6a70",
		inkKey: "#1f4e9e", inkStartup: "#8a6100", inkSystem: "#1f6aa5", inkData: "#2f6f6e", inkRecovery: "#7a4a94",
		inkSwap: "#666666", inkReserved: "#6a7280", inkUnknown: "#8a5a2b", inkFree: "#808894"}}
	darkSixteen = palette{"#000000", [inks]string{inkText: "7", inkDim: "7", inkReads: "14", inkWrites: "11",
		inkGood: "10", inkBad: "9", inkCaution: "11", inkGrown: "6", inkKey: "15", inkStartup: "11", inkSystem: "14",
		inkData: "6", inkRecovery: "13", inkSwap: "7", inkReserved: "7", inkUnknown: "15", inkFree: "7"}}
	lightSixteen = palette{"#ffffff", [inks]string{inkText: "0", inkDim: "0", inkReads: "4", inkWrites: "1",
		inkGood: "0", inkBad: "1", inkCaution: "5", inkGrown: "4", inkKey: "4", inkStartup: "5", inkSystem: "4",
		inkData: "0", inkRecovery: "5", inkSwap: "8", inkReserved: "8", inkUnknown: "1", inkFree: "8"}}
)

// danger is white on red: the red is dark enough for white in any terminal.
const dangerPaper, dangerInk = "#a80f14", "#ffffff"

// theme is the styles for a terminal.
type theme struct {
	strong, here lipgloss.Style
	// danger stands out without colour too.
	danger, struck                                          lipgloss.Style
	dim, reads, writes, good, bad, caution, grown, keyStyle lipgloss.Style
	free                                                    lipgloss.Style
	roles                                                   map[table.Role]pattern
	// sizes are the units that sizes are said in; names are those of disks, which stay as they are.
	sizes units.System
	names []string
}

// size says n bytes, rate bytes per second.
func (th theme) size(n int64) string                { return th.sizes.Bytes(n) }
func (th theme) rate(bytesPerSecond float64) string { return th.sizes.Rate(bytesPerSecond) }

// sentence is a sentence that came from elsewhere in the units of the screen.
func (th theme) sentence(s string) string { return th.sizes.Sentence(s, th.names) }

// terminal is what a theme depends on.
type terminal struct {
	light   bool
	profile colorprofile.Profile
	sizes   units.System
}

// palette is the one for the terminal.
func (t terminal) palette() palette {
	switch sixteen := t.profile == colorprofile.ANSI; {
	case sixteen && t.light:
		return lightSixteen
	case sixteen:
		return darkSixteen
	case t.light:
		return lightInks
	}
	return darkInks
}

// newTheme chooses the colours for a terminal.
func newTheme(t terminal) theme {
	p := t.palette()
	c := func(i ink) lipgloss.Style { return lipgloss.NewStyle().Foreground(lipgloss.Color(p.ink[i])) }
	paper, white := lipgloss.Color(dangerPaper), lipgloss.Color(dangerInk)
	if t.profile == colorprofile.ANSI {
		paper, white = lipgloss.Color("1"), lipgloss.Color("15")
	}
	danger := lipgloss.NewStyle().Foreground(paper).Background(white).Reverse(true).Bold(true)
	th := theme{
		strong: lipgloss.NewStyle().Bold(true), here: lipgloss.NewStyle().Reverse(true).Bold(true), danger: danger,
		struck: c(inkBad).Strikethrough(true), dim: c(inkDim), reads: c(inkReads).Bold(true),
		writes: c(inkWrites).Bold(true), good: c(inkGood), bad: c(inkBad).Bold(true), caution: c(inkCaution),
		grown: c(inkGrown), keyStyle: c(inkKey).Bold(true), free: c(inkFree), sizes: t.sizes,
	}
	th.roles = map[table.Role]pattern{
		table.RoleStartup: {"▞", c(inkStartup)}, table.RoleSystem: {"█", c(inkSystem)}, table.RoleData: {"▓",
			c(inkData)},
		table.RoleRecovery: {"╳", c(inkRecovery)}, table.RoleSwap: {"≈", c(inkSwap)},
		table.RoleReserved: {"·", c(inkReserved)}, table.RoleUnknown: {"?", c(inkUnknown)},
	}
	return th
}

// pattern is how a part of some role looks on a rail: the glyph of what is in use.
type pattern struct {
	used  string
	style lipgloss.Style
}

const freeGlyph, gapGlyph = "░", "─"

// patternOf is the pattern of a role; one that isn't known looks unknown.
func (th theme) patternOf(r table.Role) pattern {
	if p, known := th.roles[r]; known {
		return p
	}
	return th.roles[table.RoleUnknown]
}
