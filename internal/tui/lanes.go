package tui

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/bench"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// tense says of which moment a lane is.
type tense string

const (
	isNow    tense = "is now"
	willBe   tense = "will be"
	isChosen tense = "chosen"
	written  tense = "is being written"
	readBack tense = "is being read back"
	was      tense = "written"
)

// lane is one of the two things that are always in view: what the step reads, and what it really writes, each at a
// moment that is said in words.
type lane struct {
	rail
	word  string // READS or WRITES
	tense tense
	ink   lipgloss.Style
	said  string // instead of a disk, where there is none
	name  string // instead of the model
	where string
	state string // at the right: how full it is, or what happens to it
	// amounts, in bytes, belong to each %s of the state.
	amounts []int64
	alarm   bool // the state is a danger
	fold    bool // it is said in one line and not drawn
	// masked hides the end of the serial number, which is to be read from the sticker.
	masked bool
	gauge  *gauge // a shelf is drawn as how full it is
}

// gauge is how full a shelf or a folder's drive is, in bytes.
type gauge struct{ stored, adds, free int64 }

// lanes are both, what of the target will be lost, and which parts go together.
type lanes struct {
	up, down lane
	lost     *strip
	joined   bool         // threads lead from each part to where it goes
	fates    map[int]bool // of each part of the upper lane: whether it is lost; nil where that isn't the question
}

// strip is what is on the target now and will be lost.
type strip struct {
	rail
	tense tense
	words string // where there are no parts to name
}

const (
	readsWord  = "READS"
	writesWord = "WRITES"
	losesWord  = "LOSES"
	wordWide   = 8
)

func reading(th theme, t tense) lane { return lane{word: readsWord, ink: th.reads, tense: t} }
func writing(th theme, t tense) lane { return lane{word: writesWord, ink: th.writes, tense: t} }

// underWay is the lane of a disk that is being written by the run that is on.
func underWay(m *model, d *bench.Disk) lane {
	return nothing(writing(m.th, ""), stickerEnd(d.Identity)+" is being written: step 6 shows it")
}

// nothing is a lane of a step that reads, or writes, nothing.
func nothing(l lane, said string) lane {
	l.said, l.fold, l.tense = said, true, ""
	return l
}

// says gives the lane a state, with an amount in bytes for each %s in it.
func (l *lane) says(state string, amounts ...int64) {
	l.state, l.amounts, l.alarm = state, amounts, false
}

// warns gives it one that is a danger.
func (l *lane) warns(state string) { l.state, l.amounts, l.alarm = state, nil, true }

// stateWords is the state in the units of the screen.
func (l lane) stateWords(th theme) string {
	var sizes []any
	for _, n := range l.amounts {
		sizes = append(sizes, th.size(n))
	}
	if len(sizes) == 0 {
		return th.sentence(l.state)
	}
	return fmt.Sprintf(l.state, sizes...)
}

// ofDisk puts an attached disk as it is now onto a lane.
func (l lane) ofDisk(d *bench.Disk) lane {
	l.id, l.where, l.parts = d.Identity, shortPath(d.Path), partsOf(d)
	if l.says(d.Words()); d.Survey != nil && len(l.parts) > 0 {
		n, all := usedOn(d)
		switch {
		case all:
			l.says("%s used", n)
		case n > 0:
			l.says("at least %s used", n)
		default:
			l.says("use unknown")
		}
	}
	return l
}

// usedOn is how many bytes of a disk's parts are in use, and whether that is known of all that hold something.
func usedOn(d *bench.Disk) (n int64, all bool) {
	all = true
	for _, a := range d.Survey.Parts() {
		switch {
		case a.Content.Maps:
			n += a.Content.Used
		case a.Content.Used > 0:
			all = false
		}
	}
	return n, all
}

// ofTwin puts disk i of a twin onto a lane.
func (l lane) ofTwin(t *shelf.Twin, i int) lane {
	i = max(0, min(i, len(t.Disks)-1))
	d := &t.Disks[i]
	l.id, l.where, l.parts = d.Identity, t.Machine, twinParts(d)
	l.tense = tense("as of " + short(t.Taken))
	if len(t.Disks) > 1 {
		l.where += fmt.Sprintf(", disk %d of %d", i+1, len(t.Disks))
	}
	l.says("%s used", d.Used)
	return l
}

// overwriting says what writing the whole disk does to what is on it.
func (l lane) overwriting(d *bench.Disk) lane {
	n := len(partsOf(d))
	switch {
	case d.Survey == nil:
		l.says(d.Words())
	case d.Survey.Blank():
		l.says("blank: erases nothing")
	case n == 0:
		l.warns("ERASES UNKNOWN CONTENTS")
	default:
		l.warns("ERASES " + strings.ToUpper(units.Plural(n, "part")))
	}
	return l
}

// lostOn is what is on a disk and goes when all of it is overwritten; nil where nothing does.
func lostOn(d *bench.Disk) *strip {
	if d.Survey == nil || d.Survey.Blank() {
		return nil
	}
	s := &strip{rail: rail{id: d.Identity, parts: partsOf(d)}, tense: isNow}
	if len(s.parts) == 0 {
		s.words = d.Words()
	}
	return s
}

// nowWriting are the lanes of a plan while it is carried out.
func (l lanes) nowWriting() lanes {
	l.down.tense = written
	if l.lost != nil {
		s := *l.lost
		s.tense, l.lost = "was there", &s
	}
	return l
}

// leastState is how many columns of a lane's state are always shown.
const leastState = 12

// caption is the line over the bar: what is read or written, and of which moment it is.
func (l lane) caption(th theme, w int) string {
	word := l.ink.Render(fit(l.word, wordWide))
	if l.said != "" {
		return word + th.dim.Render(fit(l.said, w-wordWide))
	}
	state := l.stateWords(th)
	if l.alarm {
		state = th.danger.Render(" ‼ " + state + " ‼ ")
	}
	name := l.name
	if name == "" {
		name = l.id.Model
	}
	text := th.strong.Render(name)
	if l.id.Size > 0 {
		text += "  " + th.size(l.id.Size)
	}
	switch {
	case l.id.Serial != "" && l.masked:
		text += "  …" + mask
	case l.id.Serial != "":
		text += "  …" + l.id.Tail()
	}
	if l.tense != "" {
		text = l.ink.Bold(false).Render(string(l.tense)) + "  " + text
	}
	if !l.alarm { // which disk it is matters more than how it is
		state = ansi.Truncate(state, max(leastState, w-wordWide-ansi.StringWidth(text)-3), "…")
	}
	return word + sides(text+"  "+th.dim.Render(l.where), " "+state+" ", w-wordWide)
}

// height is how much room the window has for lanes.
type height int

const (
	low  height = iota // a line for each disk, with the numbers of its parts in it
	mid                // the numbers and names below
	tall               // disks are two rows high
)

func heightOf(rows int) height {
	switch {
	case rows >= 36:
		return tall
	case rows >= 22:
		return mid
	}
	return low
}

// draw gives the lines of a lane.
func (l lane) draw(th theme, scale int64, w int, h height) []string {
	out := []string{l.caption(th, w)}
	switch {
	case l.fold || l.said != "":
		return out
	case l.gauge != nil:
		return append(out, l.gauge.bar(th, w))
	case l.id.Size == 0:
		return out
	}
	n := l.width(scale, w)
	rest := strings.Repeat(" ", w-n)
	if len(l.parts) == 0 && l.cells == nil {
		return append(out, l.bar(th, n, false)+rest)
	}
	if h == low {
		if l.cells != nil {
			return append(out, l.progress(th, n)+rest)
		}
		return append(out, l.bar(th, n, true)+l.legend(th, w-n))
	}
	out = append(out, l.bar(th, n, false)+l.legend(th, w-n))
	if h == tall {
		out = append(out, l.bar(th, n, false)+rest)
	}
	if l.cells != nil {
		out = append(out, l.progress(th, n)+rest)
	}
	return append(out, l.labels(th, n)+rest)
}

// bar draws how full a shelf is, what is added, and what is free.
func (g *gauge) bar(th theme, w int) string {
	whole := max(1, g.stored+g.adds+g.free)
	cells := func(n int64) int { return int(float64(n)/float64(whole)*float64(w-2) + 0.5) }
	stored, adds := cells(g.stored), cells(g.adds)
	if g.stored > 0 {
		stored = max(1, stored)
	}
	if g.adds > 0 {
		adds = max(1, adds)
	}
	stored = min(stored, w-2-adds)
	return th.strong.Render("▐") + th.reads.Render(strings.Repeat("█", stored)) +
		th.writes.Render(strings.Repeat("▒", adds)) + th.free.Render(strings.Repeat(freeGlyph, w-2-stored-adds)) +
		th.strong.Render("▌")
}

// draw gives the lines of what will be lost: the parts named and struck out, and where there is room drawn.
func (s *strip) draw(th theme, scale int64, w int, h height) []string {
	head := th.bad.Render(fit(losesWord, wordWide)) + th.bad.Bold(false).Render(string(s.tense)) + "  "
	words := th.sentence(s.words)
	if len(s.parts) > 0 {
		words = s.names(th, w-ansi.StringWidth(head), h > low)
	}
	out := []string{fit(head+words, w)}
	if h == tall && len(s.parts) > 0 {
		n := s.width(scale, w)
		out = append(out, s.bar(th, n, true)+strings.Repeat(" ", w-n))
	}
	return out
}

// names are those of the parts, struck out, as many as there is room for, and how many more there are; used says with
// how much of each is in use.
func (s *strip) names(th theme, w int, used bool) string {
	line := ""
	for i, p := range s.parts {
		name := th.bad.Render("✗ ") + th.struck.Render(fmt.Sprintf("%d %s", p.number, p.title))
		switch {
		case used && p.known:
			name += th.dim.Render(" " + th.size(p.used) + " used")
		case used:
			name += th.dim.Render(" use unknown")
		}
		if i > 0 {
			name = th.dim.Render(" · ") + name
		}
		more := fmt.Sprintf(" · … %d more", len(s.parts)-i)
		kept := 0
		if i < len(s.parts)-1 {
			kept = ansi.StringWidth(more)
		}
		if i > 0 && ansi.StringWidth(line+name)+kept > w {
			return line + th.bad.Render(more)
		}
		line += name
	}
	return line
}

// lanesNow are the lanes of the page that is shown; a run that is looked at has its own.
func (m *railsPane) lanesNow() lanes {
	ls := m.page().lanes()
	if m.lastPage.summary != nil && m.lastPage.disk() != nil { // it draws both itself
		ls.up.fold, ls.down.fold, ls.lost, ls.fates = true, true, nil, nil
		ls.down.masked, ls.up.masked = true, m.step == stepReady
	}
	return ls
}

// rails draws both lanes and what belongs to them.
func (m *railsPane) rails(w, rows int) []string {
	ls, h := m.lanesNow(), heightOf(rows)
	scale := max(ls.up.id.Size, ls.down.id.Size)
	drawn := func(l lane) bool { return l.id.Size > 0 && !l.fold && l.said == "" }
	if !drawn(ls.down) {
		scale = ls.up.id.Size
	} else if !drawn(ls.up) {
		scale = ls.down.id.Size
	}
	out := ls.up.draw(m.th, scale, w, h)
	if h > low && drawn(ls.up) && drawn(ls.down) {
		switch {
		case ls.fates != nil && len(ls.up.parts) > 0:
			out = append(out, ls.drawFates(m.th, w))
		case ls.joined && len(ls.up.parts) > 0:
			out = append(out, ls.threads(m.th, scale, w))
		}
	}
	out = append(out, ls.down.draw(m.th, scale, w, h)...)
	if ls.lost != nil {
		out = append(out, ls.lost.draw(m.th, scale, w, h)...)
	}
	return out
}

// drawFates marks under each part of the upper lane whether it stays or goes.
func (ls lanes) drawFates(th theme, w int) string {
	line := strings.Split(strings.Repeat(" ", w), "")
	for _, s := range ls.up.layout(ls.up.width(ls.up.id.Size, w)) {
		if at := (s.from + s.to) / 2; at < w {
			line[at] = th.good.Render("▾")
			if ls.fates[s.part.number] {
				line[at] = th.bad.Render("✗")
			}
		}
	}
	return strings.Join(line, "")
}

// threads join the parts that go together: each carries its number at both ends, and where two would run over each
// other only their ends are drawn.
func (ls lanes) threads(th theme, scale int64, w int) string {
	to := map[int]int{}
	for _, s := range ls.down.layout(ls.down.width(scale, w)) {
		to[s.part.number] = s.from + 1
	}
	var all []thread
	for _, s := range ls.up.layout(ls.up.width(scale, w)) {
		if end, known := to[s.part.number]; known { // otherwise it is left out
			all = append(all, thread{s.part.number, s.from + 1, end})
		}
	}
	return th.writes.Render(string(drawThreads(all, w)))
}

// thread leads from a cell of the upper lane to one of the lower.
type thread struct{ number, from, to int }

// over says whether two threads would run over each other.
func (t thread) over(o thread) bool {
	return max(min(t.from, t.to), min(o.from, o.to)) <= min(max(t.from, t.to), max(o.from, o.to))+2
}

func drawThreads(all []thread, w int) []rune {
	line := []rune(strings.Repeat(" ", w))
	put := func(at int, text string) bool {
		r := []rune(text)
		if at < 0 || at+len(r) > w || strings.TrimSpace(string(line[at:at+len(r)])) != "" {
			return false
		}
		copy(line[at:], r)
		return true
	}
	for _, t := range all {
		put(t.to, "▾"+fmt.Sprint(t.number))
	}
	for _, t := range all { // where there is room
		switch number := fmt.Sprint(t.number); {
		case t.to > t.from:
			put(t.from, "╰"+number)
		case t.to < t.from:
			put(t.from-len(number), number+"╯")
		}
	}
	for i, t := range all {
		alone := t.from != t.to
		for j, o := range all {
			alone = alone && (i == j || !t.over(o))
		}
		for k := min(t.from, t.to); alone && k < max(t.from, t.to); k++ {
			if line[k] == ' ' {
				line[k] = '─'
			}
		}
	}
	return line
}

// shortPath keeps a device's name whole and of a long path only the file.
func shortPath(p string) string {
	if len(p) <= 24 {
		return p
	}
	return "…/" + filepath.Base(p)
}

// short is a moment as the screen says it where its year is plain.
func short(t time.Time) string {
	if t.Year() != time.Now().Year() {
		return t.Format("2 Jan 2006 15:04")
	}
	return t.Format("2 Jan 15:04")
}

// ago is how long ago a moment was, as one says it.
func ago(t time.Time) string {
	d := time.Since(t)
	days := int(d.Hours() / 24)
	switch {
	case d < 0:
		return short(t)
	case d < time.Hour:
		return units.Plural(int(d.Minutes()), "minute") + " ago"
	case days == 0:
		return units.Plural(int(d.Hours()), "hour") + " ago"
	case days < 60:
		return units.Plural(days, "day") + " ago"
	case days < 730:
		return units.Plural(days/30, "month") + " ago"
	}
	return units.Plural(days/365, "year") + " ago"
}

// age is how old something is.
func age(t time.Time) string {
	text, past := strings.CutSuffix(ago(t), " ago")
	if !past {
		return "of " + text
	}
	return text + " old"
}
