package tui

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/inside"
	"twinshelf/internal/names"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
)

func wide(s string) []byte {
	b := []byte{0xFF, 0xFE}
	for _, r := range s {
		b = append(b, byte(r), byte(r>>8))
	}
	return b
}

func TestTextIsShownInLines(t *testing.T) {
	long := strings.Repeat("0123456789", 15)
	for _, c := range []struct {
		name string
		b    []byte
		text bool
		want []string
	}{
		{"plain", []byte("one\ntwo\r\nthree"), true, []string{"one", "two", "three"}},
		{"tabs and bells", []byte("a\tb\x1b[2J\u202Ec\n\n"), true, []string{"a    b\uFFFD[2J\uFFFDc", ""}},
		{"a long line", []byte(long), true, []string{long[:78], long[78:]}},
		{"UTF-8", []byte("Überfahrt\nnach Süden\n"), true, []string{"Überfahrt", "nach Süden"}},
		{"not UTF-8", []byte("caf\xe9\n"), true, []string{"caf\uFFFD"}},
		{"UTF-16", wide("Über\r\nSüden"), true, []string{"Über", "Süden"}},
		{"bytes", []byte{1, 2, 3, 0, 5}, false, nil},
		{"noise", []byte("\x01\x02\x03abc"), false, nil},
		{"nothing", nil, true, nil},
	} {
		text, utf16 := looksLikeText(c.b)
		if text != c.text {
			t.Errorf("%s is text: %v", c.name, text)
			continue
		}
		if !text {
			continue
		}
		v := &viewing{c: &fsys.Resident{Bytes: c.b}, b: c.b, wide: utf16}
		lines, took := v.lines(50, 80)
		total := 0
		for _, n := range took {
			total += n
		}
		if !slices.Equal(lines, c.want) || total != len(c.b) {
			t.Errorf("%s: %q of %d bytes of %d, want %q", c.name, lines, total, len(c.b), c.want)
		}
	}
	if got := ansi.Strip(hexLine(newTheme(terminal{}), 0x1f0, []byte("tern\x00\xff"))); !strings.HasPrefix(got,
		"        1f0  74 65 72 6e 00 ff") || !strings.HasSuffix(got, "tern··") {
		t.Errorf("%q", got)
	}
}

// dated gives sights of an item by its versions: 0 for a date without it, -1 for one of which nobody knows.
func dated(versions ...int) (out []inside.Sight) {
	for i, v := range versions {
		s := inside.Sight{Twin: &shelf.Twin{ID: string(rune('a' + i)),
			Taken: time.Date(2026, 11, 1+i, 8, 0, 0, 0, time.UTC)}, There: v > 0, Version: max(0, v)}
		if v < 0 {
			s.Why = "left out"
		}
		out = append(out, s)
	}
	return out
}

func TestDatesOfAnItem(t *testing.T) {
	m := newModel(t.Context(), nil)
	m.wide, m.high = 100, 40
	for _, c := range []struct {
		versions []int
		now      int
		words    string
		line     string
	}{
		{[]int{1, 1, 1}, 2, "at 3 of 3 dates, always the same; the newest date has it", "▌━━━━━━━━"},
		{[]int{1, 2, 2}, 1, "at 3 of 3 dates, version 2 of 2; the newest date has it", "▌━━▌━━━━━"},
		{[]int{0, 1, 0}, 1, "at 1 of 3 dates; gone since, newest date that has it 2026-11-02", "·· ▌━━·· "},
		{[]int{1, 0, 2}, 0, "at 2 of 3 dates, version 1 of 2; the newest date has it", "▌━━·· ▌━━"},
		{[]int{1, -1, 1}, 0, "at 2 of 2 dates, unknown for 1, else the same; the newest date has it", "▌━━?? ━━━"},
		{[]int{1, 1, -1}, 0, "at 2 of 2 dates, unknown for 1, else the same; unknown at the newest date", "▌━━━━━?? "},
		{[]int{0, 0}, 0, "at no date", "·· ·· "},
		{[]int{0, -1}, 0, "at no date, unknown for 1", "·· ?? "},
	} {
		d := detail{sights: dated(c.versions...)}
		now := d.sights[c.now].Twin
		m.insidePage.inside.in = &inside.Machine{Twin: now}
		if got := ansi.Strip(sightWords(m.th, &d, now.ID)); got != c.words {
			t.Errorf("%v: %q, want %q", c.versions, got, c.words)
		}
		if got := ansi.Strip(m.insidePage.datesLine(&d, 100)); !strings.Contains(got, c.line) ||
			!strings.Contains(got, "2026-11-01 ") {
			t.Errorf("%v: %q, want %q in it", c.versions, got, c.line)
		}
	}
	many := detail{sights: dated(slices.Repeat([]int{1}, 500)...)}
	m.insidePage.inside.in.Twin = many.sights[250].Twin
	if got := ansi.Strip(m.insidePage.datesLine(&many, 80)); ansi.StringWidth(got) > 80 ||
		!strings.Contains(got, "‹") ||
		!strings.Contains(got, "›") {
		t.Errorf("500 dates: %q", got)
	}
}

// TestSpotsOnTheRail: where a file lies is marked under its part, however narrow that is.
func TestSpotsOnTheRail(t *testing.T) {
	const gb = 1_000_000_000
	r := rail{id: disk.Identity{Size: 100 * gb}, parts: []railPart{
		{span: span.At(0, gb/10), number: 1, title: "START", role: table.RoleStartup},
		{span: span.At(gb, 98*gb), number: 2, title: "system", role: table.RoleSystem}}}
	for _, c := range []struct {
		spots []span.Span
		from  int // cells in which marks are
		to    int
		count int
	}{
		{nil, 0, 0, 0},
		{[]span.Span{span.At(50*gb, 4096)}, 48, 53, 1},
		{[]span.Span{span.At(0, 4096)}, 0, 3, 1},
		{[]span.Span{span.At(20*gb, 60*gb)}, 18, 82, 58},
		{[]span.Span{span.At(99*gb+gb/2, 4096)}, 0, 0, 0}, // in no part
	} {
		r.spots = c.spots
		line := []rune(ansi.Strip(r.labels(newTheme(terminal{}), 100)))
		n := 0
		for i, x := range line {
			if x == '▲' {
				n++
				if i < c.from || i > c.to {
					t.Errorf("%v: a mark at cell %d", c.spots, i)
				}
			}
		}
		if n < c.count || c.count < 2 && n != c.count || len(line) != 100 {
			t.Errorf("%v: %d marks in %q", c.spots, n, string(line))
		}
	}
}

func TestHiddenItemsAndMarks(t *testing.T) {
	l := lookingIn{in: &inside.Machine{Twin: &shelf.Twin{ID: "one"}}, part: &inside.Part{Number: 3}, path: "a"}
	for _, name := range []string{"b", ".h", "c"} {
		e := fsys.Entry{Item: fsys.Item{Name: name}}
		if name[0] == '.' {
			e.Attr = fsys.Hidden
		}
		l.all = append(l.all, e)
	}
	l.arrange("c")
	if e, _ := l.chosen(); len(l.shown) != 2 || l.unseen != 1 || e.Name != "c" {
		t.Errorf("%d shown, %d hidden, %q chosen", len(l.shown), l.unseen, e.Name)
	}
	l.hidden = true
	if l.arrange("c"); len(l.shown) != 3 || l.at != 2 {
		t.Errorf("%d shown, at %d", len(l.shown), l.at)
	}
	l.marked = []marked{{key: l.markKey("b")}}
	if !l.isMarked("b") || l.isMarked("c") {
		t.Error("marks are wrong")
	}
	if l.in.Twin.ID = "two"; l.isMarked("b") {
		t.Error("a mark counts at another date")
	}
	d := diffing{rows: []diffRow{{part: &inside.PartDifference{Part: l.part},
		d: &names.Difference{Way: names.Moved, Path: "new/x", From: "old/x", Below: 3,
			New: names.Entry{Kind: names.Folder}}}}}
	if got := ansi.Strip(d.row(newTheme(terminal{}), 0, 120)); !strings.Contains(got, "→ moved") ||
		!strings.Contains(got, "old/x → new/x (with 3 items)") {
		t.Errorf("%q", got)
	}
}
