package tui

import (
	"fmt"
	"image/color"
	"math"
	"strings"
	"testing"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
)

// luminance and contrast are those of WCAG 2.1 (relative luminance, contrast ratio).
func luminance(c color.Color) float64 {
	r, g, b, _ := c.RGBA()
	part := func(v uint32) float64 {
		x := float64(v) / 0xffff
		if x <= 0.03928 {
			return x / 12.92
		}
		return math.Pow((x+0.055)/1.055, 2.4)
	}
	return 0.2126*part(r) + 0.7152*part(g) + 0.0722*part(b)
}

func contrast(a, b color.Color) float64 {
	x, y := luminance(a), luminance(b)
	return (max(x, y) + 0.05) / (min(x, y) + 0.05)
}

// TestContrast: every colour can be read on its background, and on the usual ones near it, in true colour and as the
// nearest of 256; with sixteen colours as the usual terminals show them.
func TestContrast(t *testing.T) {
	marks := map[ink]bool{inkStartup: true, inkSystem: true, inkData: true, inkRecovery: true, inkSwap: true,
		inkReserved: true, inkUnknown: true, inkFree: true, inkGrown: true}
	for name, c := range map[string]struct {
		p        palette
		grounds  []string
		profiles []colorprofile.Profile
	}{
		"dark":    {darkInks, []string{"#000000", "#10141c", "#1e1e1e"}, rich},
		"light":   {lightInks, []string{"#ffffff", "#fafafa", "#f4f1e8"}, rich},
		"dark16":  {darkSixteen, []string{"#000000"}, []colorprofile.Profile{colorprofile.ANSI}},
		"light16": {lightSixteen, []string{"#ffffff"}, []colorprofile.Profile{colorprofile.ANSI}},
	} {
		for i, hex := range c.p.ink {
			if hex == "" {
				t.Fatalf("%s: colour %d isn't set", name, i)
			}
			least := 4.5
			if marks[ink(i)] {
				least = 3
			}
			for _, ground := range c.grounds {
				for _, profile := range c.profiles {
					got := contrast(profile.Convert(lipgloss.Color(hex)), lipgloss.Color(ground))
					if got < least {
						t.Errorf("%s, %v: colour %d, %s, has %.2f on %s", name, profile, i, hex, got, ground)
					}
				}
			}
		}
	}
	for _, profile := range rich {
		got := contrast(profile.Convert(lipgloss.Color(dangerInk)), profile.Convert(lipgloss.Color(dangerPaper)))
		if got < 7 {
			t.Errorf("danger, %v: %.2f", profile, got)
		}
	}
}

var rich = []colorprofile.Profile{colorprofile.TrueColor, colorprofile.ANSI256}

// TestRolesDiffer: without any colour each role of a part looks different from the others, and from what is free.
func TestRolesDiffer(t *testing.T) {
	for _, few := range []bool{false, true} {
		seen := map[string]string{}
		all := map[string]string{"free": freeGlyph, "no part": gapGlyph}
		for role, p := range newTheme(terminal{}).roles {
			all[string(role)] = p.used
		}
		for what, glyph := range all {
			if few {
				glyph = inFew.Replace(glyph)
			}
			if other, twice := seen[glyph]; twice {
				t.Errorf("few %v: %s and %s are both %q", few, what, other, glyph)
			}
			seen[glyph] = what
		}
	}
}

// oldConsole is IBM code page 437 as Unicode (its table in the Unicode Consortium's mappings), beside ASCII.
const oldConsole = "☺☻♥♦♣♠•◘○◙♂♀♪♫☼►◄↕‼¶§▬↨↑↓→←∟↔▲▼⌂Çüéâäàåç" +
	"êëèïîìÄÅÉæÆôöòûùÿÖÜ¢£¥₧ƒáíóúñÑªº¿⌐¬½¼¡«»░▒▓│┤╡╢╖╕╣║╗╝╜╛┐└┴┬├─┼" +
	"╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀αßΓπΣσµτΦΘΩδ∞φε∩≡±≥≤⌠⌡÷≈°∙·√ⁿ²■\u00a0"

// TestFewGlyphs: what any page draws with few characters can be drawn with a console font, cell for cell.
func TestFewGlyphs(t *testing.T) {
	m := targeted(opened(t))
	for _, keys := range everyView {
		m = key(m, "esc", "1")
		m = key(m, keys...)
		full := ansi.Strip(strings.Join(m.(*model).draw(), "\n"))
		few := inFew.Replace(full)
		if ansi.StringWidth(few) != ansi.StringWidth(full) {
			t.Errorf("%q: widths differ", keys)
		}
		for _, r := range few {
			if r > 126 && !strings.ContainsRune(oldConsole, r) {
				t.Errorf("%q: %s is in no console font", keys, fmt.Sprintf("%q (%U)", r, r))
			}
		}
	}
	t.Setenv("TERM", "linux")
	if !GlyphsByTerminal.few() || GlyphsFull.few() || !GlyphsFew.few() {
		t.Error("the terminal's name, or what was said, doesn't decide")
	}
	t.Setenv("TERM", "xterm-256color")
	if GlyphsByTerminal.few() || !GlyphsFew.few() {
		t.Error("a terminal window gets few characters, or what was said doesn't count")
	}
}
