package tui

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/fsys"
	"twinshelf/internal/inside"
	"twinshelf/internal/units"
)

// viewing is a file that is looked at, as text or as bytes.
type viewing struct {
	name string
	c    fsys.Contents
	hex  bool
	wide bool // text in UTF-16
	at   int64
	back []int64 // where pages before began
	b    []byte  // what was read from at on
	read int64   // where b begins; -1 before it was read
	err  error
}

type pageRead struct {
	v   *viewing
	at  int64
	b   []byte
	err error
	// text says what it looks like, at the first page.
	text, wide, first bool
}

const (
	hexRow   = 16
	viewPage = 32 << 10 // bytes read at once: more than a screen shows
)

// viewFile opens a file.
func (m *viewPane) viewFile(e fsys.Entry) tea.Cmd {
	l := &m.insidePage.inside
	t, err := l.part.Tree(m.ctx)
	if err != nil {
		m.fail(sentence(err))
		return nil
	}
	name, item := l.label(e.Name), e.Item
	v := &viewing{name: name, read: -1}
	return func() tea.Msg {
		c, err := t.Open(item, "")
		if err != nil {
			return problems{name + ": " + err.Error()}
		}
		v.c = c
		msg := readPage(v, 0)
		msg.first = true
		msg.text, msg.wide = looksLikeText(msg.b)
		return msg
	}
}

func readPage(v *viewing, at int64) pageRead {
	b := make([]byte, max(0, min(viewPage, v.c.Size()-at)))
	n, err := v.c.ReadAt(b, at)
	if n == len(b) {
		err = nil
	}
	return pageRead{v: v, at: at, b: b[:n], err: err}
}

func (m *viewPane) onPage(msg pageRead) {
	l := &m.insidePage.inside
	if msg.first {
		l.viewing = msg.v
		msg.v.hex, msg.v.wide = !msg.text, msg.wide
		m.scroll = 0
	}
	if l.viewing == msg.v && msg.at == msg.v.at {
		msg.v.b, msg.v.read, msg.v.err = msg.b, msg.at, msg.err
	}
}

// looksLikeText says whether bytes are text, and whether that is UTF-16.
func looksLikeText(b []byte) (text, wide bool) {
	if len(b) >= 2 && (b[0] == 0xFF && b[1] == 0xFE) {
		return true, true
	}
	if bytes.IndexByte(b, 0) >= 0 {
		return false, false
	}
	odd := 0
	for _, c := range b {
		if c < ' ' && c != '\n' && c != '\r' && c != '\t' && c != '\f' && c != 0x1B {
			odd++
		}
	}
	return odd*50 <= len(b), false
}

func (m *viewPane) bindings() []binding {
	l := &m.insidePage.inside
	v := l.viewing
	return []binding{
		{lineKeys + " pgdown pgup space enter", "↑↓", "read on", "PgUp and PgDn by pages", m.turned(m.readOn)},
		{"x", "x", "hex or text", "", m.turned(func(string) {
			v.hex = !v.hex
			v.at -= v.at % hexRow
			v.back = nil
		})},
		{"g home", "g", "beginning", "", m.turned(func(string) { v.at, v.back = 0, nil })},
		{"G end", "", "", "", m.turned(func(string) {
			rows := int64(max(1, m.viewRoom()))
			v.back = append(v.back, v.at)
			v.at = max(0, (v.c.Size()-rows*hexRow+hexRow-1)/hexRow*hexRow)
		})},
		{"esc left q", "Esc", "close it", "", acts(func() { l.viewing = nil })},
	}
}

// turned is an action that goes to another place of the contents, which are then read in the background.
func (m *viewPane) turned(to func(k string)) func(string) tea.Cmd {
	return func(k string) tea.Cmd {
		v := m.insidePage.inside.viewing
		if to(k); v.at == v.read {
			return nil
		}
		at := v.at
		return func() tea.Msg { return readPage(v, at) }
	}
}

// readOn goes on or back by lines or pages.
func (m *viewPane) readOn(k string) {
	v := m.insidePage.inside.viewing
	lines := max(1, m.viewRoom()) - 1
	if slices.Contains([]string{"down", "j", "up", "k"}, k) {
		lines = 1
	}
	if !slices.Contains([]string{"up", "k", "pgup"}, k) {
		if next := v.after(lines, m.wide); next < v.c.Size() && next > v.at {
			v.back = append(v.back, v.at)
			v.at = next
		}
		return
	}
	switch {
	case v.hex:
		v.at = max(0, v.at-int64(lines)*hexRow)
	case len(v.back) > 0:
		v.at, v.back = v.back[len(v.back)-1], v.back[:len(v.back)-1]
	default:
		v.at = 0
	}
}

func (m *viewPane) viewRoom() int { return max(3, m.room-1) }

// lines gives up to n lines of text from the present place, each with the bytes that it takes.
func (v *viewing) lines(n, w int) (out []string, took []int) {
	b := v.b
	for len(b) > 0 && len(out) < n {
		end := bytes.IndexByte(b, '\n')
		cut := len(b)
		if v.wide {
			end = bytes.Index(b, []byte{'\n', 0})
			if end >= 0 && end%2 == 0 {
				cut = end + 2
			} else {
				end = len(b)
			}
		} else if end >= 0 {
			cut = end + 1
		} else {
			end = len(b)
		}
		most := max(20, w-2)
		text := b[:end]
		if v.wide {
			text = fromWide(text)
		}
		if utf8.RuneCount(text) > most { // a long line goes on in the next one
			k := 0
			for range most {
				_, size := utf8.DecodeRune(text[k:])
				k += size
			}
			if text = text[:k]; v.wide {
				k = most * 2
			}
			cut = min(k, len(b))
		}
		out = append(out,
			inside.Visible(strings.ReplaceAll(strings.ToValidUTF8(strings.TrimRight(string(text), "\r"), "\uFFFD"),
				"\t", "    ")))
		took = append(took, cut)
		b = b[cut:]
	}
	return out, took
}

func fromWide(b []byte) []byte {
	u := make([]uint16, len(b)/2)
	for i := range u {
		u[i] = uint16(b[2*i]) | uint16(b[2*i+1])<<8
	}
	return []byte(strings.TrimPrefix(string(utf16.Decode(u)), "\uFEFF"))
}

// after is the byte at which the line begins that is n lines further on.
func (v *viewing) after(n, w int) int64 {
	if v.hex {
		return v.at + int64(n)*hexRow
	}
	_, took := v.lines(n, w)
	at := v.at
	for _, k := range took {
		at += int64(k)
	}
	return at
}

func (m *viewPane) viewingBody(w int) []string {
	v := m.insidePage.inside.viewing
	kind := "text"
	if v.hex {
		kind = "bytes"
	}
	out := []string{sides(" "+m.th.strong.Render(inside.Visible(v.name)),
		m.th.dim.Render(fmt.Sprintf("%s, from byte %s of %s ", kind, units.Grouped(v.at),
			units.Grouped(v.c.Size()))), w)}
	if v.err != nil {
		return append(out, " "+m.th.bad.Render(fit("Can't be read here: "+v.err.Error(), w-2)))
	}
	if v.read != v.at {
		return append(out, m.th.dim.Render(" Reading …"))
	}
	if v.c.Size() == 0 {
		return append(out, m.th.dim.Render(" The file is empty."))
	}
	rows := m.viewRoom()
	if !v.hex {
		lines, _ := v.lines(rows, w)
		for _, s := range lines {
			out = append(out, " "+s)
		}
		return out
	}
	for i := 0; i < rows && i*hexRow < len(v.b); i++ {
		out = append(out, hexLine(m.th, v.at+int64(i*hexRow), v.b[i*hexRow:min(len(v.b), (i+1)*hexRow)]))
	}
	return out
}

func hexLine(th theme, at int64, b []byte) string {
	var h, t strings.Builder
	for i := range hexRow {
		if i == hexRow/2 {
			h.WriteByte(' ')
		}
		if i >= len(b) {
			h.WriteString("   ")
			continue
		}
		fmt.Fprintf(&h, "%02x ", b[i])
		if b[i] >= ' ' && b[i] < 0x7F {
			t.WriteByte(b[i])
		} else {
			t.WriteRune('·')
		}
	}
	return th.dim.Render(right(fmt.Sprintf("%x", at), 11)) + "  " + h.String() + " " + th.reads.Render(t.String())
}
