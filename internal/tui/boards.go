package tui

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// A board is drawn twice: as a line of the list of machines, a cell for each twin, and large for the selected machine,
// its twins as spines to scale, oldest left, above a line with their marks and the months.
const (
	leastBoard = 4  // rows of a large board: two of spines, the marks, the months
	mostBoard  = 14 // rows of a large board
	scaleWide  = 10 // cells at its left, for the scale
	leastList  = 4  // rows of the list of machines, where there are so many
	lowScreen  = 30 // rows of the window under which nothing is spent on distance
	shortTwin  = 4  // rows that the selected twin gets at least
)

// eighths of a cell, from nothing to full.
var eighths = []string{" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"}

// shareRows divides the rows among the list, the large board and the selected twin. The twin and the least of the list
// come first; the list takes what the board can't use, and without room for its least the board is left out.
func shareRows(rows, machines, twin int) (list, large int) {
	list = min(machines, max(leastList, rows-twin-leastBoard))
	if large = min(mostBoard, rows-list-twin); large >= leastBoard {
		return list, large
	}
	return min(machines, max(1, min(leastList, rows-shortTwin), rows-twin)), 0
}

// scaleOf is how much a full spine stands for, in bytes, on a board of the twins from number first on. A machine's
// first twin brought everything and says nothing about the others: it doesn't count beside them.
func scaleOf(twins []*shelf.Twin, first int) int64 {
	if first == 0 && len(twins) > 1 {
		twins = twins[1:]
	}
	most := int64(1)
	for _, t := range twins {
		most = max(most, t.Added)
	}
	return most
}

// boardList is the list of machines, cut to rows around the selected one; large says that its board is drawn large
// below.
func (m *datesPage) boardList(w, rows int, large bool) []string {
	n := len(m.boards)
	first := max(0, min(m.board-rows/2, n-rows))
	var out []string
	for i := first; i < min(n, first+rows); i++ {
		more := ""
		switch {
		case i == first && first > 0:
			more = fmt.Sprintf("↑ %d more", first)
		case i == first+rows-1 && i < n-1:
			more = fmt.Sprintf("↓ %d more", n-1-i)
		}
		out = append(out, m.boardLine(i, w, large, more))
	}
	return out
}

// boardLine is one machine: its name, how many twins, the newest, and a cell for each of as many as fit.
func (m *datesPage) boardLine(i, w int, large bool, more string) string {
	b := &m.boards[i]
	name := fit("  "+b.machine, 22)
	if i == m.board {
		name = m.th.here.Render(fit("▶ "+b.machine, 22))
	}
	head := name + m.th.dim.Render(right(units.Plural(len(b.twins), "twin"), 10)) + " "
	if w >= 70 {
		head += " newest " + right(b.twins[len(b.twins)-1].Taken.Format("2 Jan 2006"), 11) + " "
	}
	tail := m.markCounts(b)
	if more != "" {
		tail += m.th.dim.Render("  " + more)
	}
	room := max(3, w-ansi.StringWidth(head)-ansi.StringWidth(tail)-6)
	first := max(0, min(len(b.twins)-room, b.at-room*2/3))
	var s strings.Builder
	if first > 0 {
		s.WriteString(m.th.dim.Render(right("‹"+strconv.Itoa(first), 5)))
	} else {
		s.WriteString("     ")
	}
	scale := scaleOf(b.twins, 0)
	for j := first; j < min(len(b.twins), first+room); j++ {
		t := b.twins[j]
		cell := eighths[max(1, min(7, int(t.Added*7/scale)))] // never full: the next machine's stands right above
		switch {
		case j == b.at && i == m.board && !large:
			cell = m.th.reads.Render("▲") // nothing else points at it
		case j == b.at && i == m.board:
			cell = m.th.reads.Render(cell)
		case m.goes[t.ID] != "":
			cell = m.th.dim.Render("·")
		}
		s.WriteString(cell)
	}
	if left := len(b.twins) - first - room; left > 0 {
		s.WriteString(m.th.dim.Render("›"))
	}
	return sides(head+s.String(), tail, w)
}

// spineMark says what is to know about a twin in one sign; the first that holds.
func (m *datesPage) spineMark(b *board, t *shelf.Twin) string {
	p := shelf.ShelfProofs(b.proofs[t.ID])
	_, kept := m.pins[t.ID]
	switch {
	case m.goes[t.ID] != "":
		return "✗"
	case len(p) > 0 && !p[0].Holds():
		return "‼"
	case t.Missing() > 0:
		return "×"
	case !t.Quiet():
		return "!"
	case kept:
		return "◆"
	case len(p) > 0 && p[0].Old(time.Now()):
		return "○"
	}
	return ""
}

// markStyle colours a mark.
func markStyle(th theme, mark string) lipgloss.Style {
	switch mark {
	case "◆":
		return th.good
	case "○":
		return th.dim
	case "✗", "‼", "×":
		return th.bad
	}
	return th.caution
}

// markCounts says how many twins of a machine carry which mark: in the list nothing else tells of them.
func (m *datesPage) markCounts(b *board) string {
	count := map[string]int{}
	for _, t := range b.twins {
		count[m.spineMark(b, t)]++
	}
	out := ""
	for _, mark := range []string{"✗", "‼", "×", "!", "◆", "○"} {
		if n := count[mark]; n > 0 {
			out += " " + markStyle(m.th, mark).Render(mark+strconv.Itoa(n))
		}
	}
	return out
}

// spine is one twin on the large board.
type spine struct {
	twin  *shelf.Twin
	mark  string
	level int // eighths of a row, from the foot
	over  bool
	on    bool
	style lipgloss.Style
}

// largeBoard is the selected machine's board.
func (m *datesPage) largeBoard(w, rows int) []string {
	b := &m.boards[m.board]
	high := rows - 2
	pitch, thick := 2, 1
	for _, wide := range [][2]int{{12, 3}, {3, 2}, {2, 1}} { // 12 have room for the whole date below
		if pitch, thick = wide[0], wide[1]; len(b.twins)*pitch <= w-scaleWide-8 {
			break
		}
		pitch, thick = 1, 1
	}
	room := (w - scaleWide - 8) / pitch
	first := max(0, min(len(b.twins)-room, b.at-room*2/3))
	shown := b.twins[first:min(len(b.twins), first+room)]
	scale := scaleOf(shown, first)
	spines := make([]spine, len(shown))
	over := false
	for i, t := range shown {
		s := spine{twin: t, mark: m.spineMark(b, t), on: first+i == b.at, over: t.Added > scale,
			level: int(min(t.Added, scale) * int64(8*high) / scale)}
		if t.Added > 0 {
			s.level = max(1, s.level)
		}
		switch {
		case s.on:
			s.style = m.th.reads
		case s.mark == "✗":
			s.style = m.th.dim
		}
		over = over || s.over
		spines[i] = s
	}
	out := make([]string, 0, rows)
	for r := high - 1; r >= 0; r-- {
		left := ""
		switch {
		case r == high-1:
			left = m.th.size(scale) + " "
		case r == high-2 && over:
			left = "≈ more "
		}
		line := m.th.dim.Render(right(left, scaleWide))
		for _, s := range spines {
			cell := eighths[max(0, min(8, s.level-8*r))]
			switch {
			case s.over && r == high-2:
				cell = "≈"
			case s.mark == "✗" && cell != " ":
				cell = "░"
			}
			line += s.style.Render(strings.Repeat(cell, thick)) + strings.Repeat(" ", pitch-thick)
		}
		out = append(out, line)
	}
	before, behind := "", ""
	if first > 0 {
		before = "‹" + strconv.Itoa(first) + " "
	}
	if n := len(b.twins) - first - len(shown); n > 0 {
		behind = strconv.Itoa(n) + "›"
	}
	foot := m.th.dim.Render(right(before, scaleWide))
	for _, s := range spines {
		cell := s.style.Render(strings.Repeat("━", thick))
		if s.mark != "" {
			cell = markStyle(m.th, s.mark).Render(s.mark) + s.style.Render(strings.Repeat("━", thick-1))
		}
		foot += cell + strings.Repeat(" ", pitch-thick)
	}
	return append(out, foot+m.th.dim.Render(behind), ansi.Truncate(strings.Repeat(" ", scaleWide)+
		months(m.th, spines, pitch), w, ""))
}

// months names the months under the spines where they change, the year where it does, and points at the selected one.
func months(th theme, spines []spine, pitch int) string {
	line := []rune(strings.Repeat(" ", len(spines)*pitch+2*len("2026-01")))
	at := pitch * slices.IndexFunc(spines, func(s spine) bool { return s.on })
	free, last := 0, time.Time{}
	for i, s := range spines {
		x, t := i*pitch, s.twin.Taken
		label := ""
		switch {
		case pitch > len("2006-01-02"):
			label, free = t.Format("2006-01-02"), 0
		case i == 0 || t.Year() != last.Year():
			label = t.Format("2006-01")
		case t.Month() != last.Month():
			label = t.Format("01")
		}
		last = t
		if x <= at && at < x+len(label) { // the pointer stands there
			x = at + 1
		}
		if label != "" && x >= free {
			copy(line[x:], []rune(label))
			free = x + len(label) + 1
		}
	}
	if at < 0 {
		return th.dim.Render(string(line))
	}
	return th.dim.Render(string(line[:at])) + th.reads.Render("▲") + th.dim.Render(string(line[at+1:]))
}
