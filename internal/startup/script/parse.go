// Package script reads and runs the menu scripts of GNU GRUB (GNU GRUB manual, "Writing full configuration files
// directly" and "Shell-like scripting"), as far as it takes to learn which kernel they start: variables, conditions,
// functions, searches and menus. Nothing is drawn and nobody is asked: it follows what happens when nobody presses a
// key.
package script

import (
	"errors"
	"fmt"
	"strings"
)

const (
	maxScript = 4 << 20 // bytes of one script
	maxNest   = 32      // blocks within blocks
	maxWords  = 1 << 16 // words of one script
)

// ErrSyntax means that a script isn't one that the loader would take.
var ErrSyntax = errors.New("the menu's script has an error")

// word is what stands between blanks: pieces that are taken as they are, and names of variables.
type word []piece

type piece struct {
	text     string
	variable bool
	quoted   bool
}

// plain is a word's text when no variable is in it and nothing of it is quoted.
func (w word) plain() string {
	if len(w) == 1 && !w[0].variable && !w[0].quoted {
		return w[0].text
	}
	return ""
}

// statement is a command with its words and, for menu entries and functions, a block; or a condition.
type statement struct {
	words []word
	block []statement
	// branches are those of an if: the first whose condition holds runs. A branch without a condition is the else.
	branches []branch
}

type branch struct {
	condition, body []statement
}

// token is a word, or the end of a statement.
type token struct {
	word word
	end  bool
}

// parse reads a script.
func parse(text string) ([]statement, error) {
	if len(text) > maxScript {
		return nil, fmt.Errorf("%w: it is larger than %d bytes", ErrSyntax, maxScript)
	}
	tokens, err := scan(text)
	if err != nil {
		return nil, err
	}
	p := parser{tokens: tokens}
	out, stop, err := p.until(0)
	if err == nil && stop != "" {
		err = fmt.Errorf("%w: a %q that closes nothing", ErrSyntax, stop)
	}
	return out, err
}

// scan splits a script into words.
func scan(text string) ([]token, error) {
	s := scanner{text: text}
	for s.at < len(s.text) {
		if len(s.out) > maxWords {
			return nil, fmt.Errorf("%w: more than %d words", ErrSyntax, maxWords)
		}
		c := s.text[s.at]
		switch {
		case c == '\\' && strings.HasPrefix(s.text[s.at+1:], "\n"):
			s.at += 2
		case c == '\n' || c == ';':
			s.finish()
			s.out = append(s.out, token{end: true})
			s.at++
		case c == ' ' || c == '\t' || c == '\r':
			s.finish()
			s.at++
		case c == '#' && !s.open:
			s.at += lineLength(s.text[s.at:])
		default:
			if err := s.piece(c); err != nil {
				return nil, err
			}
		}
	}
	s.finish()
	return s.out, nil
}

func lineLength(text string) int {
	if n := strings.IndexByte(text, '\n'); n >= 0 {
		return n
	}
	return len(text)
}

// scanner holds the words that were read and the one that is being read.
type scanner struct {
	text string
	at   int
	out  []token
	word word
	open bool // a word has begun
}

func (s *scanner) finish() {
	if s.open {
		s.out = append(s.out, token{word: s.word})
	}
	s.word, s.open = nil, false
}

func (s *scanner) add(text string, quoted bool) {
	s.open = true
	if n := len(s.word) - 1; n >= 0 && !s.word[n].variable && s.word[n].quoted == quoted {
		s.word[n].text += text
		return
	}
	s.word = append(s.word, piece{text: text, quoted: quoted})
}

// piece reads on in a word.
func (s *scanner) piece(c byte) error {
	s.open = true
	switch c {
	case '\'':
		n := strings.IndexByte(s.text[s.at+1:], '\'')
		if n < 0 {
			return fmt.Errorf("%w: a quote isn't closed", ErrSyntax)
		}
		s.add(s.text[s.at+1:s.at+1+n], true)
		s.at += n + 2
	case '"':
		return s.doubleQuoted()
	case '$':
		s.variable(false)
	case '\\':
		if s.at++; s.at < len(s.text) {
			s.add(s.text[s.at:s.at+1], true)
			s.at++
		}
	default:
		n := strings.IndexAny(s.text[s.at+1:], "\\\n; \t\r'\"$")
		if n < 0 {
			n = len(s.text) - s.at - 1
		}
		s.add(s.text[s.at:s.at+1+n], false)
		s.at += n + 1
	}
	return nil
}

func (s *scanner) doubleQuoted() error {
	s.add("", true)
	for s.at++; s.at < len(s.text); {
		switch c := s.text[s.at]; {
		case c == '"':
			s.at++
			return nil
		case c == '$':
			s.variable(true)
		case c == '\\' && s.at+1 < len(s.text) && strings.IndexByte("\"\\$\n", s.text[s.at+1]) >= 0:
			if s.text[s.at+1] != '\n' {
				s.add(s.text[s.at+1:s.at+2], true)
			}
			s.at += 2
		default:
			s.add(s.text[s.at:s.at+1], true)
			s.at++
		}
	}
	return fmt.Errorf("%w: a quote isn't closed", ErrSyntax)
}

// variable reads $name, ${name} or $?.
func (s *scanner) variable(quoted bool) {
	rest := s.text[s.at+1:]
	name, length := "", 0
	if strings.HasPrefix(rest, "{") {
		if n := strings.IndexByte(rest, '}'); n > 0 {
			name, length = rest[1:n], n+1
		}
	} else {
		for length < len(rest) && nameByte(rest[length]) {
			length++
		}
		if length == 0 && strings.HasPrefix(rest, "?") {
			length = 1
		}
		name = rest[:length]
	}
	if length == 0 {
		s.add("$", quoted)
		s.at++
		return
	}
	s.word = append(s.word, piece{text: name, variable: true, quoted: quoted})
	s.at += 1 + length
}

func nameByte(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}

// parser builds statements from words.
type parser struct {
	tokens []token
	at     int
}

// next skips the ends of statements and gives the word that stands there without taking it; false at the end.
func (p *parser) next() (word, bool) {
	for p.at < len(p.tokens) && p.tokens[p.at].end {
		p.at++
	}
	if p.at == len(p.tokens) {
		return nil, false
	}
	return p.tokens[p.at].word, true
}

// until reads statements up to a word that closes a block, which is taken and given.
func (p *parser) until(nest int) (out []statement, closer string, err error) {
	if nest > maxNest {
		return nil, "", fmt.Errorf("%w: more than %d blocks within each other", ErrSyntax, maxNest)
	}
	for {
		w, ok := p.next()
		if !ok {
			return out, "", nil
		}
		switch w.plain() {
		case "}", "then", "elif", "else", "fi", "do", "done":
			p.at++
			return out, w.plain(), nil
		}
		st, err := p.statement(w, nest)
		if err != nil {
			return nil, "", err
		}
		out = append(out, st)
	}
}

func (p *parser) statement(first word, nest int) (statement, error) {
	switch first.plain() {
	case "if":
		p.at++
		return p.condition(nest)
	case "while", "until", "for":
		return p.loop(nest)
	}
	var st statement
	for p.at < len(p.tokens) && !p.tokens[p.at].end {
		w := p.tokens[p.at].word
		if w.plain() == "}" {
			break
		}
		p.at++
		if w.plain() != "{" {
			st.words = append(st.words, w)
			continue
		}
		block, closer, err := p.until(nest + 1)
		if err == nil && closer != "}" {
			err = fmt.Errorf("%w: a block isn't closed", ErrSyntax)
		}
		st.block = block
		return st, err
	}
	return st, nil
}

// condition reads an if from its condition to the fi.
func (p *parser) condition(nest int) (statement, error) {
	var st statement
	want := "then"
	for {
		var b branch
		var closer string
		var err error
		if want == "then" {
			b.condition, closer, err = p.until(nest + 1)
			if err == nil && closer != "then" {
				err = fmt.Errorf("%w: an if without then", ErrSyntax)
			}
			if err != nil {
				return st, err
			}
		}
		if b.body, closer, err = p.until(nest + 1); err != nil {
			return st, err
		}
		st.branches = append(st.branches, b)
		switch {
		case closer == "fi":
			return st, nil
		case closer == "elif" && want == "then":
		case closer == "else" && want == "then":
			want = "fi"
		default:
			return st, fmt.Errorf("%w: an if isn't closed", ErrSyntax)
		}
	}
}

// loop reads a loop and leaves it out: no menu needs one to find its kernel.
func (p *parser) loop(nest int) (statement, error) {
	p.at++
	for _, want := range []string{"do", "done"} {
		_, closer, err := p.until(nest + 1)
		if err != nil {
			return statement{}, err
		}
		if closer != want {
			return statement{}, fmt.Errorf("%w: a loop isn't closed", ErrSyntax)
		}
	}
	return statement{}, nil
}
