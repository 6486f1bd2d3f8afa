package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk/health"
	"twinshelf/internal/units"
)

// body lists the disks by what they are to the person, two lines each.
func (m *benchPage) body(w int) ([]string, int) {
	if len(m.disks) == 0 {
		if m.looking > 0 {
			return []string{"", " Looking …"}, -1
		}
		return m.plain(w, "The bench", "is empty.",
			"Attach the customer's disk, the storage drive and the new disk, then press a to look again.",
			"Image files work too: start with --disk FILE, as often as needed."), -1
	}
	var out []string
	keep, last := 0, sort("")
	for i, d := range m.disks {
		if s := m.sortOf(d); s != last {
			if last != "" && m.room > 2*len(m.disks)+2*len(sorts) {
				out = append(out, "")
			}
			out, last = append(out, " "+m.th.dim.Render(string(s))), s
		}
		if i == m.cursor {
			keep = len(out) + 1
		}
		out = append(out, m.rows(d, i == m.cursor, w)...)
		if m.room > 3*len(m.disks)+2*len(sorts) {
			out = append(out, "")
		}
	}
	return out, keep
}

// sort is what a disk is to the person; the list is in this order.
type sort string

const (
	sortMachine sort = "MACHINES"
	sortBlank   sort = "NEW OR BLANK"
	sortOther   sort = "OTHER DISKS"
	sortStorage sort = "SHELVES, AND DISKS OUT OF REACH"
)

var sorts = []sort{sortMachine, sortBlank, sortOther, sortStorage}

func (m *benchPage) sortOf(d *bench.Disk) sort {
	switch {
	case m.datesPage.owners.of(d).machine != "":
		return sortMachine
	case d.Reach != "" && !m.runPage.writesTo(d.Path):
		return sortStorage
	case d.Survey != nil && d.Survey.Blank():
		return sortBlank
	}
	return sortOther
}

// rows are the lines of one disk: its sticker and whose it is, then how full it is and how it is.
func (m *benchPage) rows(d *bench.Disk, here bool, w int) []string {
	id := d.Identity
	mark, name := "   ", m.th.strong.Render(fit(id.Model, 18))
	if here {
		mark, name = " ▶ ", m.th.here.Render(fit(id.Model, 18))
	}
	tail := ""
	if id.Serial != "" {
		tail = "…" + id.Tail()
	}
	line := mark + name + right(m.th.size(id.Size), 9) + "  " + fit(tail, 6) + " "
	words, paint := m.stateWords(d)
	strip := max(14, min(20, w/4))
	r := rail{id: id, parts: partsOf(d)}
	bar := fit("", strip)
	if d.Survey != nil && !m.runPage.writesTo(d.Path) { // what was on it is being overwritten
		bar = r.bar(m.th, strip, false)
	}
	return []string{line + fit(m.isWhat(d), w-ansi.StringWidth(line)-1),
		"   " + bar + "  " + paint(fit(words, w-strip-6))}
}

// isWhat says whose disk it is, or what it is.
func (m *benchPage) isWhat(d *bench.Disk) string {
	if o := m.datesPage.owners.of(d); o.machine != "" {
		return o.name()
	}
	switch {
	case d.Survey == nil && d.Problem == "":
		return m.th.dim.Render("looking …")
	case d.Survey != nil && d.Survey.Blank():
		return "blank"
	}
	return d.Words()
}

// stateWords say how a disk is and whether it may be written, the most important thing first.
func (m *benchPage) stateWords(d *bench.Disk) (string, func(...string) string) {
	may, words, paint := m.howIs(d, true)
	if len(words) > 0 && may == mayBeWritten {
		may, words[0] = "□ "+words[0], ""
		words = words[1:]
	}
	return strings.Join(append([]string{may}, words...), " · "), paint
}

// howIs says whether a disk may be written, how it is, and in which colour that is said; twin says how old the newest
// twin is too.
func (m *benchPage) howIs(d *bench.Disk, twin bool) (may string, words []string, paint func(...string) string) {
	may, paint = m.may(d)
	switch {
	case d.Problem != "":
		return "can't be read: " + d.Problem, nil, m.th.bad.Render
	case m.runPage.writesTo(d.Path):
		return may, nil, paint
	}
	verdict := d.Health.Verdict()
	if verdict.Level == health.Failing {
		words, paint = append(words, healthMark(verdict.Level)+verdict.Short()), m.th.bad.Render
	}
	if f := m.facts[d.Path]; f.cutOff > 0 {
		words, paint = append(words, fmt.Sprintf("◐ restore cut off at %d %%", f.cutOff)), m.th.caution.Render
	}
	o := m.datesPage.owners.of(d)
	if o.unread > 0 {
		words = append(words, "✗ "+m.th.size(o.unread)+" unread on "+o.newest.Format("2 Jan"))
		paint = m.th.bad.Render
	}
	if o.machine != "" && twin {
		newest := "twin " + age(o.newest) + o.onWhich()
		if m.isChanged(d, o) {
			newest += ", changed since"
		}
		words = append(words, newest)
	}
	if due := m.routinesPage.dueOf(d); due != "" {
		if words = append(words, due); m.isPlain(d) && o.unread == 0 && verdict.Level != health.Failing {
			paint = m.th.caution.Render
		}
	}
	if how := d.MountWords(); strings.HasPrefix(how, "mounted") {
		words = append(words, how)
	}
	if d.Survey != nil && len(d.Survey.Warnings()) > 0 {
		words = append(words, unquietWord(d))
		if d.Reach == "" && m.isPlain(d) && o.unread == 0 {
			paint = m.th.caution.Render
		}
	}
	if verdict.Level == health.Watch && twin { // said with its reasons beside
		words = append(words, "! "+verdict.Reasons[0])
		if d.Reach == "" && m.isPlain(d) && o.unread == 0 {
			paint = m.th.caution.Render
		}
	}
	return may, words, paint
}

// unquietWord says of a disk that isn't quiet whether a system sleeps on it.
func unquietWord(d *bench.Disk) string {
	for _, r := range d.Survey.Halted() {
		if r.Asleep() {
			return "sleeps"
		}
	}
	return "not quiet"
}

// isPlain says that a disk was chosen for nothing.
func (m *benchPage) isPlain(d *bench.Disk) bool {
	return (m.target == nil || m.target.Path != d.Path) && (m.source == nil || m.source.Path != d.Path)
}

// may says whether a disk is chosen to be read or written, or may be.
func (m *benchPage) may(d *bench.Disk) (string, func(...string) string) {
	switch {
	case m.runPage.writesTo(d.Path):
		return "BEING WRITTEN: can't be used for anything else", m.th.writes.Render
	case m.target != nil && m.target.Path == d.Path:
		return "◀ WRITES: chosen as target", m.th.writes.Render
	case m.source != nil && m.source.Path == d.Path:
		return "▶ READS: chosen as source", m.th.reads.Render
	case d.Reach != "":
		return "■ out of reach: " + d.Reach, m.th.caution.Render
	case d.Survey == nil:
		return "not looked at yet", m.th.dim.Render
	}
	return mayBeWritten, m.th.dim.Render
}

// mayBeWritten is said of a disk that nothing else is to be said of; its mark alone says it beside other words.
const mayBeWritten = "□ may be written"

// share is how much of the window the list takes, in percent.
func (m *benchPage) share() int { return 50 }

// beside shows the chosen disk like its sticker, with what it holds.
func (m *benchPage) beside(w int) []string {
	d := m.chosen()
	if d == nil {
		return nil
	}
	id := d.Identity
	serial := "no serial number"
	if id.Serial != "" {
		serial = "serial " + id.Serial
	}
	out := []string{" " + sides(m.th.strong.Render(id.Model), m.th.dim.Render(serial)+" ", w-1),
		" " + sides(units.Exact(id.Size), m.th.dim.Render(m.attachedWords(d))+" ", w-1), ""}
	if m.figures {
		return append(out, healthTable(m, d, w)...)
	}
	out = append(out, verdictLines(m, d, w)...)
	say := func(text string, paint func(...string) string) {
		for _, l := range m.th.wrap(text, w-3) {
			out = append(out, " "+paint(l))
		}
	}
	if o := m.datesPage.owners.of(d); o.machine != "" {
		paint := m.th.good.Render
		if o.elsewhere != nil {
			paint = m.th.caution.Render
		}
		say(o.about(m.shelfName()), paint)
		if m.isChanged(d, o) {
			say("Changed since then.", m.th.caution.Render)
		}
	} else if m.w.Shelf != nil && d.Survey != nil && !d.Survey.Blank() {
		say("No twin of it is on "+m.w.Shelf.Head().Name+".", m.th.dim.Render)
	}
	for _, l := range m.routinesPage.ofDisk(d) {
		if strings.HasPrefix(l, erasedBy) {
			say(l, m.th.writes.Render)
			continue
		}
		say(l, m.th.dim.Render)
	}
	for _, s := range d.Systems {
		for _, l := range s.Words() {
			say(l, m.th.dim.Render)
		}
	}
	may, words, paint := m.howIs(d, false)
	if d.Health.Verdict().Level == health.Failing && len(words) > 0 {
		words = words[1:] // said above with all its reasons
	}
	for _, l := range words {
		say(l, paint)
	}
	if may == mayBeWritten {
		paint = m.th.dim.Render
	}
	say(may, paint)
	if m.runPage.writesTo(d.Path) {
		say("What was on it is being overwritten: step 6 shows how far that is.", m.th.dim.Render)
		return out
	}
	if d.Survey == nil {
		return out
	}
	for _, s := range d.Survey.Warnings() {
		say("! "+s, m.th.caution.Render)
	}
	out = append(out, "")
	r := rail{id: id, parts: partsOf(d)}
	out = append(out, " "+r.bar(m.th, w-2, false), " "+r.labels(m.th, w-2))
	if len(r.parts) == 0 {
		say(d.Words(), m.th.dim.Render)
		return out
	}
	return append(append(out, ""), m.partLines(d, w)...)
}

// attachedWords say how a disk is attached, and how large its sectors are.
func (m *benchPage) attachedWords(d *bench.Disk) string {
	words := d.Identity.Bus
	if d.Rotational {
		words += ", rotating"
	}
	return strings.TrimPrefix(fmt.Sprintf("%s, sectors of %d B", words, max(512, d.Identity.Sector)), ", ")
}

// partLines list the parts of a disk with what is used of each.
func (m *benchPage) partLines(d *bench.Disk, w int) []string {
	title := max(12, min(24, w-44))
	out := []string{" " + m.th.dim.Render(fit("part", title+4)+fit("", 8)+right("size", 9)+right("used", 10)+"  is")}
	for _, a := range d.Survey.Parts() {
		p := m.th.patternOf(a.Role)
		used := right("unknown", 10)
		if a.Content.Maps {
			used = right(m.th.size(a.Content.Used), 10)
		}
		out = append(out, " "+p.style.Render(p.used)+" "+fit(fmt.Sprintf("%d %s", a.Part.Number, a.Title()),
			title+1)+" "+
			fit(a.Holds(), 8)+right(m.th.size(a.Span.Len()), 9)+used+"  "+m.th.dim.Render(string(a.Role)))
		for _, words := range a.InnerWords() {
			for _, l := range m.th.wrap(words, w-6) {
				paint := m.th.dim
				if strings.HasPrefix(words, "locked") {
					paint = m.th.caution
				}
				out = append(out, "     "+paint.Render(l))
			}
		}
	}
	return out
}

// arrange puts the list in the order of the sorts, once all disks were looked at. The cursor stays on its disk.
func (m *benchPage) arrange() {
	at := m.chosen()
	rank := func(d *bench.Disk) int {
		for i, s := range sorts {
			if m.sortOf(d) == s {
				return i
			}
		}
		return len(sorts)
	}
	slices.SortStableFunc(m.disks, func(a, b *bench.Disk) int { return rank(a) - rank(b) })
	if m.touched {
		m.stayOn(at)
	} else {
		m.cursor = 0 // nobody has chosen anything yet
	}
}

// stayOn puts the cursor on a disk, wherever it is in the list now.
func (m *benchPage) stayOn(d *bench.Disk) {
	m.cursor = max(0, min(m.cursor, len(m.disks)-1))
	if d == nil {
		return
	}
	if i := slices.IndexFunc(m.disks, func(o *bench.Disk) bool { return o.Path == d.Path }); i >= 0 {
		m.cursor = i
	}
}

// compare looks in the background whether a disk differs from its newest twin; nil where there is none.
func (m *benchPage) compare(d *bench.Disk) tea.Cmd {
	o := m.datesPage.owners.of(d)
	if o.twin == nil || d.Survey == nil || m.w.Shelf == nil || m.facts[d.Path].compared == o.twin.ID {
		return nil
	}
	f := m.facts[d.Path]
	f.compared = o.twin.ID
	m.facts[d.Path] = f
	w, ctx := m.w, m.ctx
	return func() tea.Msg {
		if yes, err := w.ChangedSince(ctx, d, o.twin, o.disk); err != nil || !yes {
			return nil // nothing is said
		}
		return changed{d.Path, o.twin.ID}
	}
}

// isChanged says whether a disk is known to differ from its newest twin.
func (m *benchPage) isChanged(d *bench.Disk, o owner) bool {
	return o.twin != nil && m.facts[d.Path].changed == o.twin.ID
}

// shelfName is the name of the open shelf.
func (m *benchPage) shelfName() string {
	if m.w.Shelf == nil {
		return ""
	}
	return m.w.Shelf.Head().Name
}

func (m *benchPage) onChanged(c changed) {
	f := m.facts[c.path]
	f.changed = c.twin
	m.facts[c.path] = f
}
