package tui

import "charm.land/lipgloss/v2"

// theme is the styles for a dark or a light terminal. Colours only support what words and patterns already say.
type theme struct {
	strong, here lipgloss.Style
	// danger stands out without colour too.
	danger                                                  lipgloss.Style
	dim, reads, writes, good, bad, caution, grown, keyStyle lipgloss.Style
}

// newTheme chooses the colours for a dark or a light terminal.
func newTheme(dark bool) theme {
	c := func(onDark, onLight string) lipgloss.Style {
		if dark {
			return lipgloss.NewStyle().Foreground(lipgloss.Color(onDark))
		}
		return lipgloss.NewStyle().Foreground(lipgloss.Color(onLight))
	}
	inverse := lipgloss.NewStyle().Foreground(lipgloss.Color("124")).Background(lipgloss.Color("231")).Reverse(true)
	return theme{
		strong: lipgloss.NewStyle().Bold(true), here: lipgloss.NewStyle().Reverse(true).Bold(true),
		danger: inverse.Bold(true), dim: c("245", "242"), reads: c("80", "30").Bold(true),
		writes: c("215", "166").Bold(true), good: c("114", "28"), bad: c("203", "160").Bold(true),
		caution: c("221", "130"), grown: c("73", "66"), keyStyle: c("153", "25").Bold(true),
	}
}
