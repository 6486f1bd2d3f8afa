package cli

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"twinshelf/internal/units"
)

// shown is a writer for people: what comes from outside in a text can't give orders to their terminal. It keeps line
// ends and tabs.
type shown struct{ w io.Writer }

func (s shown) Write(b []byte) (int, error) {
	clean := strings.Map(func(r rune) rune {
		if r != '\n' && r != '\t' && units.Moves(r) {
			return '\uFFFD'
		}
		return r
	}, string(b))
	if _, err := io.WriteString(s.w, clean); err != nil {
		return 0, err
	}
	return len(b), nil
}

// escaped writes such characters in JSON as escapes, so that the data stays what it is.
func escaped(b []byte) []byte {
	var out bytes.Buffer
	for len(b) > 0 {
		r, n := utf8.DecodeRune(b)
		if r != '\n' && r != '\t' && r != utf8.RuneError && units.Moves(r) {
			fmt.Fprintf(&out, "\\u%04x", r)
		} else {
			out.Write(b[:n])
		}
		b = b[n:]
	}
	return out.Bytes()
}
