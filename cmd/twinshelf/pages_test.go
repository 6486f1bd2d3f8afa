package main

import (
	"fmt"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/demotest"
	"twinshelf/internal/tmuxtest"
)

// TestScreenEveryPage walks over all pages in a large, a usual and the smallest terminal: each has its route, fits, and
// ends with the key line in one piece.
func TestScreenEveryPage(t *testing.T) {
	walk := []struct{ keys, shows string }{
		{"1", "MACHINES"}, {"2", "Ready prepares a disk"}, {"3", "Machine"}, {"4", "Chart table"},
		{"5", "needs a target"}, {"6", "Nothing has been started"}, {"7", "Proof shows the evidence"},
		{"8", "◆ is chosen"}, {"1 / H 1 Space 1 Space Enter w", "would be written"}, {"e", "nothing"},
		{"1 / S a n d Enter Enter", "Machine  Harbour kiosk"}, {"4 Enter", "what happens"}, {"Enter", "LAST PAGE"},
		{"Escape", "what happens"}, {"t", "Which disk is to be written?"}, {"Escape", "what happens"},
		{"i", "opens a part"},
		{"1", "MACHINES"}, {"?", "Keys of this step"},
	}
	for _, size := range [][2]int{{140, 42}, {80, 24}, {60, 15}} {
		w, h := size[0], size[1]
		t.Run(fmt.Sprintf("%d×%d", w, h), func(t *testing.T) {
			s := tmuxtest.Start(t, w, h, []string{"XDG_STATE_HOME=" + t.TempDir()}, demotest.Program(t), "demo")
			s.WaitFor("1 Bench", "MACHINES", "q leave")
			s.WaitGone("Looking")
			for _, page := range walk {
				for _, k := range strings.Fields(page.keys) {
					s.Keys(k)
				}
				s.Until(page.shows, func(scr string) bool {
					return strings.Contains(scr, page.shows) && fits(scr, w, h) == ""
				})
			}
		})
	}
}

// fits says what of a screen isn't as every page has it; empty when all is.
func fits(scr string, w, h int) string {
	lines := strings.Split(strings.TrimSuffix(scr, "\n"), "\n")
	if len(lines) != h {
		return fmt.Sprintf("%d lines", len(lines))
	}
	for _, l := range lines {
		if ansi.StringWidth(l) > w {
			return "too wide: " + l
		}
	}
	keys := strings.TrimRight(lines[h-1], " ")
	asks := strings.HasPrefix(keys, " Enter") || strings.HasPrefix(keys, " Esc")
	if !strings.HasPrefix(lines[0], "  1 Bench  2 Ready") || !strings.HasSuffix(keys, "q leave") && !asks ||
		strings.HasSuffix(keys, "…") {
		return "no route or no keys"
	}
	return ""
}
