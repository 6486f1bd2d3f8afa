package lvm

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"twinshelf/internal/span"
)

// The metadata text is sections in braces, and names with values: whole numbers, strings, lists of both.
const (
	maxDepth = 16
	maxNodes = 1 << 20
)

// section is a section of the text, with what it holds in the order of the text.
type section struct {
	name   string
	values map[string]value
	below  []*section
	// body is the section's contents in the text, without its braces.
	body span.Span
}

// value is a number, a string, or a list.
type value struct {
	number int64
	text   string
	list   []value
	kind   byte      // 'n', 's' or 'l'
	at     span.Span // in the text
}

func (s *section) section(name string) *section {
	for _, b := range s.below {
		if b.name == name {
			return b
		}
	}
	return nil
}

func (s *section) number(name string) (int64, error) {
	v, ok := s.values[name]
	if !ok || v.kind != 'n' {
		return 0, fmt.Errorf("%s has no number %s", s.name, name)
	}
	return v.number, nil
}

func (s *section) text(name string) string { return s.values[name].text }

// words are the strings of a list.
func (s *section) words(name string) []string {
	var out []string
	for _, v := range s.values[name].list {
		if v.kind == 's' {
			out = append(out, v.text)
		}
	}
	return out
}

// parser reads the text once, from its start.
type parser struct {
	b     []byte
	at    int
	nodes int
}

// parse gives the text as one section.
func parse(b []byte) (*section, error) {
	p := &parser{b: b}
	s := &section{values: map[string]value{}}
	if err := p.section(s, 0); err != nil {
		return nil, fmt.Errorf("at byte %d of its metadata: %w", p.at, err)
	}
	if p.at < len(p.b) {
		return nil, fmt.Errorf("at byte %d of its metadata: a brace that closes nothing", p.at)
	}
	return s, nil
}

// section reads up to the closing brace, or the end of the text.
func (p *parser) section(s *section, depth int) error {
	if depth > maxDepth {
		return fmt.Errorf("sections are nested more than %d deep", maxDepth)
	}
	s.body.Start = int64(p.at)
	for {
		p.space()
		s.body.End = int64(p.at)
		if p.at == len(p.b) || p.b[p.at] == '}' {
			return nil
		}
		if p.nodes++; p.nodes > maxNodes {
			return fmt.Errorf("it has more than %d entries", maxNodes)
		}
		name := p.name()
		if name == "" {
			return fmt.Errorf("%q where a name should be", p.b[p.at])
		}
		p.space()
		if err := p.entry(s, name, depth); err != nil {
			return err
		}
	}
}

// entry reads what follows a name.
func (p *parser) entry(s *section, name string, depth int) error {
	switch p.peek() {
	case '{':
		p.at++
		b := &section{name: name, values: map[string]value{}}
		if err := p.section(b, depth+1); err != nil {
			return err
		}
		if p.peek() != '}' {
			return fmt.Errorf("section %s doesn't end", name)
		}
		p.at++
		if s.section(name) != nil {
			return fmt.Errorf("section %s is there twice", name)
		}
		s.below = append(s.below, b)
		return nil
	case '=':
		p.at++
		v, err := p.value(true)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		if _, twice := s.values[name]; twice {
			return fmt.Errorf("%s is there twice", name)
		}
		s.values[name] = v
		return nil
	}
	return fmt.Errorf("%s is neither a section nor a value", name)
}

func (p *parser) peek() byte {
	if p.at < len(p.b) {
		return p.b[p.at]
	}
	return 0
}

// space skips what says nothing: blanks, and comments to the end of their line. The text ends at a zero byte.
func (p *parser) space() {
	for p.at < len(p.b) {
		switch c := p.b[p.at]; {
		case c == '#':
			for p.at < len(p.b) && p.b[p.at] != '\n' {
				p.at++
			}
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			p.at++
		case c == 0:
			p.b = p.b[:p.at]
		default:
			return
		}
	}
}

// name reads a name.
func (p *parser) name() string {
	from := p.at
	for p.at < len(p.b) {
		c := p.b[p.at]
		if !(c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' ||
			strings.IndexByte("._-+/", c) >= 0) {
			break
		}
		p.at++
	}
	return string(p.b[from:p.at])
}

// value reads a value; lists hold no lists.
func (p *parser) value(lists bool) (value, error) {
	p.space()
	v := value{at: span.Span{Start: int64(p.at)}}
	var err error
	switch c := p.peek(); {
	case c == '"':
		v.kind = 's'
		v.text, err = p.quoted()
	case c == '[' && lists:
		v.kind = 'l'
		v.list, err = p.list()
	case c == '-' || c >= '0' && c <= '9':
		v.kind = 'n'
		v.number, err = strconv.ParseInt(p.name(), 10, 64)
	default:
		err = fmt.Errorf("%q where a value should be", c)
	}
	v.at.End = int64(p.at)
	return v, err
}

// quoted reads a string; a backslash takes the next byte as it is.
func (p *parser) quoted() (string, error) {
	var b []byte
	for p.at++; p.at < len(p.b); p.at++ {
		switch c := p.b[p.at]; {
		case c == '"':
			p.at++
			if !utf8.Valid(b) {
				return "", fmt.Errorf("a string isn't UTF-8")
			}
			return string(b), nil
		case c == '\\' && p.at+1 < len(p.b):
			p.at++
			b = append(b, p.b[p.at])
		default:
			b = append(b, c)
		}
	}
	return "", fmt.Errorf("a string doesn't end")
}

func (p *parser) list() ([]value, error) {
	var out []value
	p.at++
	for {
		p.space()
		if p.peek() == ']' {
			p.at++
			return out, nil
		}
		if p.nodes++; p.nodes > maxNodes {
			return nil, fmt.Errorf("it has more than %d entries", maxNodes)
		}
		v, err := p.value(false)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
		p.space()
		if p.peek() == ',' {
			p.at++
		} else if p.peek() != ']' {
			return nil, fmt.Errorf("%q in a list", p.peek())
		}
	}
}
