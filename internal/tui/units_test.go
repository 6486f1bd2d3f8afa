package tui

import (
	"regexp"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
)

// decimals are sizes in decimal units as they are computed, not as they stand on stickers.
var decimals = regexp.MustCompile(`(?:^|[^0-9A-Za-z.])(\d\.\d\d|\d\d\.\d|\d{3}) (kB|MB|GB|TB)\b`)

// both are sizes that are said in both kinds of units.
var both = regexp.MustCompile(`iB \([0-9.]+ [kMGT]B\)`)

// TestBinaryUnits: B says every size of every page in the other kind of units, and once more leads back.
func TestBinaryUnits(t *testing.T) {
	m := opened(t)
	states := statesToPress()
	more := func(s state, keys ...string) state {
		lead := func(m tea.Model) tea.Model { return key(s.lead(m), keys...) }
		return state{s.name + " " + strings.Join(keys, " "), lead}
	}
	for _, s := range states {
		switch s.name {
		case "Bench":
			states = append(states, more(s, "t"), more(s, "?"), more(s, "."))
		case "Ready":
			states = append(states, more(s, "p"), more(s, "o", "a"), more(s, "x"), more(s, "p", "enter", "enter"))
		case "Fit":
			states = append(states, more(s, "enter"), more(s, "down", "m"), more(s, "o"))
		case "folder":
			states = append(states, more(s, "t"), more(s, "down", "right"))
		}
	}
	seen := false
	sizes := []tea.WindowSizeMsg{{Width: 140, Height: 42}, {Width: 60, Height: 15}}
	for _, s := range states {
		for _, size := range sizes {
			m = key(afresh(feed(m, size)), "B")
			m = s.lead(m)
			now := text(m)
			seen = seen || strings.Contains(now, "GiB")
			for _, line := range strings.Split(now, "\n") {
				if decimals.MatchString(both.ReplaceAllString(line, "iB")) {
					t.Errorf("%s at %d×%d still says\n%s", s.name, size.Width, size.Height, line)
				}
			}
			m = key(afresh(m), "B")
		}
	}
	m = key(afresh(m), "4")
	before := text(m)
	if m = key(m, "B"); text(m) == before {
		t.Error("B changes nothing")
	}
	m = key(m, "B")
	m.(*model).note = ""
	if again := text(m); again != before {
		t.Errorf("B twice leads to\n%s\nand not back to\n%s", again, before)
	}
	if !seen {
		t.Error("no page says anything in GiB")
	}
}
