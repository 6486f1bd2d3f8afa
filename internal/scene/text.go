package scene

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"unicode"

	"codeberg.org/go-fonts/dejavu/dejavusans"
	"codeberg.org/go-fonts/dejavu/dejavusansbold"
	"golang.org/x/image/font"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/image/math/fixed"
	"golang.org/x/text/unicode/bidi"
)

// Fonts are the two that everything is written with, as TrueType.
func Fonts() (regular, bold []byte) { return dejavusans.TTF, dejavusansbold.TTF }

// faces are the parsed fonts: regular and bold. A font of the program that can't be read is a mistake of its making.
var faces = sync.OnceValue(func() [2]*sfnt.Font {
	var out [2]*sfnt.Font
	for i, ttf := range [][]byte{dejavusans.TTF, dejavusansbold.TTF} {
		f, err := sfnt.Parse(ttf)
		if err != nil {
			panic(err)
		}
		out[i] = f
	}
	return out
})

// perPoint is how many millimetres a point has.
const perPoint = 25.4 / 72

// Width is how wide a text is, in millimetres, in a font of so many points.
func Width(words string, size float64, bold bool) float64 {
	f := faces()[0]
	if bold {
		f = faces()[1]
	}
	var buf sfnt.Buffer
	em := fixed.I(int(f.UnitsPerEm()))
	sum := fixed.Int26_6(0)
	for _, r := range words {
		g, err := f.GlyphIndex(&buf, r)
		if err != nil {
			continue
		}
		if a, err := f.GlyphAdvance(&buf, g, em, font.HintingNone); err == nil {
			sum += a
		}
	}
	return float64(sum) / float64(em) * size * perPoint
}

// Printable is a text as it can be printed: what the fonts have no glyph for is shown as its code, never dropped, and
// writing that runs to the left is laid in the order in which it is seen.
func Printable(s string) string { return seen(coded(s)) }

// coded is a text with the codes of what the fonts have no glyph for, and with letters joined that are written so.
func coded(s string) string {
	var buf sfnt.Buffer
	var out strings.Builder
	for _, r := range strings.ToValidUTF8(s, "�") {
		g0, err0 := faces()[0].GlyphIndex(&buf, r)
		g1, err1 := faces()[1].GlyphIndex(&buf, r)
		switch {
		case r == '\n' || r == '\t':
			out.WriteByte(' ')
		case r > 0xFFFF || unicode.Is(unicode.C, r) || err0 != nil || err1 != nil || g0 == 0 || g1 == 0:
			fmt.Fprintf(&out, "[U+%04X]", r)
		default:
			out.WriteRune(r)
		}
	}
	return string(joined([]rune(out.String())))
}

// runsLeft says whether any of a text is writing that runs to the left.
func runsLeft(s string) bool {
	return strings.ContainsFunc(s, func(r rune) bool {
		p, _ := bidi.LookupRune(r)
		return p.Class() == bidi.R || p.Class() == bidi.AL
	})
}

// seen is a text with writing that runs to the left in the order in which it is seen.
func seen(s string) string {
	if !runsLeft(s) {
		return s
	}
	var p bidi.Paragraph
	if _, err := p.SetString(s, bidi.DefaultDirection(bidi.LeftToRight)); err != nil {
		return s
	}
	order, err := p.Order()
	if err != nil {
		return s
	}
	var out, group []string // a group is what is read from the right to the left, its pieces as they are seen
	for i := range order.NumRuns() {
		run := order.Run(i)
		text := run.String()
		switch {
		case run.Direction() == bidi.RightToLeft:
			group = append(group, bidi.ReverseString(text))
		case len(group) > 0 && strings.Trim(text, "0123456789.,:/+-") == "": // a number in such writing
			group = append(group, text)
		default:
			slices.Reverse(group)
			out, group = append(append(out, group...), text), nil
		}
	}
	slices.Reverse(group)
	return strings.Join(append(out, group...), "")
}

// mostFitted is how many letters of a text are tried: more don't fit on any paper.
const mostFitted = 500

// Fit cuts a text to a width in millimetres, and gives it as it can be printed; what is cut ends in an ellipsis.
func Fit(words string, size float64, bold bool, width float64) string {
	words = coded(words)
	if Width(words, size, bold) <= width {
		return seen(words)
	}
	runes := []rune(words)
	runes = runes[:min(len(runes), mostFitted)]
	for len(runes) > 0 && Width(string(runes)+"…", size, bold) > width {
		runes = runes[:len(runes)-1]
	}
	if len(runes) == 0 {
		return ""
	}
	return seen(strings.TrimRight(string(runes), " ") + "…")
}

// Wrap breaks a text into lines of a width in millimetres, as they can be printed; a word that is longer is broken
// where
// it must.
func Wrap(words string, size float64, bold bool, width float64) []string {
	words = coded(words)
	var out []string
	line := ""
	for _, w := range strings.Fields(words) {
		next := w
		if line != "" {
			next = line + " " + w
		}
		if Width(next, size, bold) <= width {
			line = next
			continue
		}
		if line != "" {
			out = append(out, line)
		}
		pieces := broken(w, size, bold, width)
		out = append(out, pieces[:len(pieces)-1]...)
		line = pieces[len(pieces)-1]
	}
	if line != "" || len(out) == 0 {
		out = append(out, line)
	}
	for i := range out {
		out[i] = seen(out[i])
	}
	return out
}

// broken breaks a word into pieces of at most a width; each has at least one letter.
func broken(word string, size float64, bold bool, width float64) []string {
	var out []string
	piece := ""
	for _, r := range word {
		if piece != "" && Width(piece+string(r), size, bold) > width {
			out = append(out, piece)
			piece = ""
		}
		piece += string(r)
	}
	return append(out, piece)
}
