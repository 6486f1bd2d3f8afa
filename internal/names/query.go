package names

import (
	"bytes"
	"fmt"
	"path"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Query is what names are searched for.
type Query struct {
	// Text is a piece of the name, or with *, ? or [ in it a pattern that the whole name must match. With a slash it is
	// looked for in the path instead.
	Text string
	// Case makes upper and lower case differ.
	Case bool
	// Hidden finds hidden and system items too.
	Hidden bool
	// Kinds are those that are looked for; none means all.
	Kinds []Kind
}

// matcher is a query made ready.
type matcher struct {
	q      Query
	text   string // folded unless case counts
	ascii  bool
	glob   bool
	byPath bool
}

func (q Query) matcher() (*matcher, error) {
	m := &matcher{q: q, text: q.Text, glob: strings.ContainsAny(q.Text, "*?["), byPath: strings.Contains(q.Text, "/")}
	if strings.TrimSpace(q.Text) == "" {
		return nil, fmt.Errorf("say what to look for: a piece of a name, or a pattern as *.odt")
	}
	if m.glob {
		if _, err := path.Match(q.Text, ""); err != nil {
			return nil, fmt.Errorf("the pattern %q can't be understood: a [ without its ]", q.Text)
		}
	}
	if !q.Case {
		m.text = fold(q.Text)
	}
	m.ascii = true
	for i := range len(m.text) {
		m.ascii = m.ascii && m.text[i] < utf8.RuneSelf
	}
	return m, nil
}

// fold makes names that differ by case only equal.
func fold(s string) string {
	return strings.Map(func(r rune) rune {
		if r < utf8.RuneSelf {
			if 'A' <= r && r <= 'Z' {
				r += 'a' - 'A'
			}
			return r
		}
		// The least of those that fold together stands for all.
		least := r
		for f := unicode.SimpleFold(r); f != r; f = unicode.SimpleFold(f) {
			least = min(least, f)
		}
		if least < utf8.RuneSelf && 'A' <= least && least <= 'Z' {
			least += 'a' - 'A'
		}
		return least
	}, s)
}

// literal is the longest stretch of the text that must stand in a match as it is.
func (m *matcher) literal() string {
	if !m.glob {
		return m.text
	}
	best := ""
	for _, s := range strings.FieldsFunc(m.text, func(r rune) bool { return strings.ContainsRune(`*?[]\`, r) }) {
		if strings.Contains(m.text, "[") {
			return "" // what stands between brackets is no literal
		}
		if len(s) > len(best) {
			best = s
		}
	}
	return best
}

// may says quickly whether any name of a chunk can match.
func (m *matcher) may(c *chunk) bool {
	if m.byPath {
		return true
	}
	want := m.literal()
	if want == "" {
		return true
	}
	if m.q.Case {
		return bytes.Contains(c.names, []byte(want))
	}
	switch {
	case m.ascii && containsFold(c.names, want):
		return true
	// the only others that fold to ASCII
	case m.ascii && !bytes.Contains(c.names, []byte("\u212A")) && !bytes.Contains(c.names, []byte("\u017F")):
		return false
	}
	return strings.Contains(fold(string(c.names)), want)
}

// containsFold says whether ASCII text, in lower case, stands in b in whatever case.
func containsFold(b []byte, want string) bool {
	lower, upper := want[0], want[0]
	if 'a' <= lower && lower <= 'z' {
		upper -= 'a' - 'A'
	}
	for len(b) >= len(want) {
		i := bytes.IndexByte(b, lower)
		before := b
		if i >= 0 {
			before = b[:i]
		}
		if upper != lower {
			if j := bytes.IndexByte(before, upper); j >= 0 {
				i = j
			}
		}
		if i < 0 || i+len(want) > len(b) {
			return false
		}
		if equalFold(b[i:i+len(want)], want) {
			return true
		}
		b = b[i+1:]
	}
	return false
}

func equalFold(b []byte, want string) bool {
	for i, c := range b {
		if 'A' <= c && c <= 'Z' {
			c += 'a' - 'A'
		}
		if c != want[i] {
			return false
		}
	}
	return true
}

// matches says whether an entry is what is looked for.
func (m *matcher) matches(p string, kind byte) bool {
	if kind&hiddenBit != 0 && !m.q.Hidden {
		return false
	}
	if len(m.q.Kinds) > 0 {
		ok := false
		for _, k := range m.q.Kinds {
			ok = ok || k == Kind(kind&kindBits)
		}
		if !ok {
			return false
		}
	}
	name := p[strings.LastIndexByte(p, '/')+1:]
	if m.byPath {
		name = p
	}
	if !m.q.Case {
		name = fold(name)
	}
	switch {
	case !m.glob:
		return strings.Contains(name, m.text)
	case m.byPath:
		return matchPath(m.text, name)
	}
	ok, _ := path.Match(m.text, name)
	return ok
}

// matchPath matches a pattern with slashes against the end of a path.
func matchPath(pattern, p string) bool {
	n := strings.Count(strings.Trim(pattern, "/"), "/") + 1
	parts := strings.Split(p, "/")
	ok, _ := path.Match(strings.Trim(pattern, "/"), strings.Join(parts[max(0, len(parts)-n):], "/"))
	return ok
}
