package units

import "strings"

// Visible is text from outside (a label, a model, a name) without what would move a terminal's cursor, give it orders or turn
// its text around.
func Visible(s string) string {
	return strings.Map(func(r rune) rune {
		if Moves(r) {
			return '\uFFFD'
		}
		return r
	}, s)
}

// Moves says whether a character does something to a terminal instead of being shown.
func Moves(r rune) bool {
	return r < ' ' || r >= 0x7F && r < 0xA0 || r >= 0x202A && r <= 0x202E || r >= 0x2066 && r <= 0x2069
}
