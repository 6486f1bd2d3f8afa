package units

import (
	"strconv"
	"strings"
	"unicode/utf8"
)

// Visible is text from outside (a label, a model, a name) without what would move a terminal's cursor, give it orders
// or turn its text around.
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

// VisibleJSON is JSON from outside whose strings hold nothing that would move a terminal's cursor, written as it is or
// as escapes.
func VisibleJSON(b []byte) []byte {
	out := make([]byte, 0, len(b))
	for at := 0; at < len(b); {
		if b[at] == '\\' && at+1 < len(b) {
			n := 2
			if v, ok := escape(b[at:]); ok {
				if n = 6; Moves(rune(v)) {
					out, at = append(out, `\ufffd`...), at+n
					continue
				}
			} else if strings.IndexByte("bfnrt", b[at+1]) >= 0 {
				out, at = append(out, ' '), at+n
				continue
			}
			out, at = append(out, b[at:min(at+n, len(b))]...), at+n
			continue
		}
		r, n := utf8.DecodeRune(b[at:])
		if r >= 0x7F && Moves(r) {
			out = append(out, `\ufffd`...)
		} else {
			out = append(out, b[at:at+n]...)
		}
		at += n
	}
	return out
}

// escape is the number in an escape of four hex digits.
func escape(b []byte) (uint64, bool) {
	if len(b) < 6 || b[1] != 'u' {
		return 0, false
	}
	v, err := strconv.ParseUint(string(b[2:6]), 16, 16)
	return v, err == nil
}
