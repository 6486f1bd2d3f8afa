package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/bench"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// mask stands for the characters of a serial number that are to be read from the drive.
const mask = "••••"

// open shows what is about to be done and waits for the confirmation.
func (m *lastPage) open(s workshop.Summary, goAhead func() tea.Cmd) {
	m.summary, m.goAhead, m.outcome, m.confirm, m.scroll, m.note = nil, nil, nil, nil, 0, ""
	m.each = each{}
	if d := m.disk(); d != nil {
		if o := workshop.Alike(d, m.disks); o != nil {
			m.fail("Nothing on the sticker tells " + d.Path + " from " + o.Path + ": unplug the one that must not be " +
				"written, press a on the Bench, and come back.")
			return
		}
		m.scene = m.page().lanes()
	}
	if words := m.w.PowerWarning(); words != "" {
		s.Doubts = append(slices.Clone(s.Doubts), words)
	}
	m.summary, m.goAhead, m.confirm = &s, goAhead, newInput(24)
}

// disk is what is about to be written; nil when it is no disk.
func (m *lastPage) disk() *bench.Disk {
	if m.step == stepDates || m.step == stepRoutines {
		return nil
	}
	return m.target
}

// bindings: the text must be typed right before Enter does anything.
func (m *lastPage) bindings() []binding {
	does := "write"
	if m.step == stepRoutines {
		does = "agree to it"
	}
	return []binding{
		{"enter", "Enter", does, "only when the text is right", leads(m.agree)},
		{"esc", "Esc", "back, nothing is written", "", acts(func() {
			m.confirm, m.summary = nil, nil
			m.say("Nothing was written.")
		})},
		{"up pgup down pgdown", "↑↓", "read on", "", func(k string) tea.Cmd {
			m.scroll = max(0, m.scroll+map[string]int{"down": 1, "pgdown": 5, "up": -1, "pgup": -5}[k])
			return nil
		}},
	}
}

// agree goes on when what was typed is what stands on the target.
func (m *lastPage) agree() tea.Cmd {
	if len(m.each.targets) > 0 {
		return m.agreeToEach()
	}
	if !strings.EqualFold(strings.TrimSpace(m.confirm.Value()), m.summary.Confirm) {
		m.fail("That is not " + m.summary.What + ". Nothing was written.")
		return nil
	}
	m.confirm, m.summary = nil, nil
	return m.goAhead()
}

func (m *lastPage) typeOn(msg tea.Msg) tea.Cmd {
	t, cmd := m.confirm.Update(msg)
	*m.confirm = t
	return cmd
}

// masked hides the end of the target's serial number wherever it stands in a text.
func (m *lastPage) masked(text string) string {
	if whole := m.summary.Confirm; m.step == stepRoutines && len(whole) > len(mask)/len("•") {
		return strings.ReplaceAll(text, whole, whole[:len(whole)-len(mask)/len("•")]+mask)
	}
	for _, d := range m.written() {
		if whole := d.Identity.Serial; whole != "" {
			text = strings.ReplaceAll(text, whole, strings.TrimSuffix(whole, d.Identity.Tail())+mask)
		}
	}
	return text
}

// written are the disks that are about to be.
func (m *lastPage) written() []*bench.Disk {
	d := m.disk()
	switch {
	case len(m.each.targets) > 0:
		return m.each.targets
	case d == nil:
		return nil
	}
	return []*bench.Disk{d}
}

// head stays in view over the last page, however long that is: what it does, and the sentence that matters most.
func (m *lastPage) head(w int) []string {
	head, paint := " LAST PAGE: "+m.th.sentence(m.masked(m.summary.Head))+" ", m.th.danger
	if m.summary.Mild {
		paint = m.th.here
	} else {
		head = " ‼" + head + "‼ "
	}
	var out []string
	for _, l := range m.th.wrap(head, w-2) {
		out = append(out, " "+paint.Render(fit(l, min(w-2, ansi.StringWidth(head)))))
	}
	if words, danger := m.kept(); words != "" {
		style := m.th.caution
		if danger {
			style = m.th.danger
		}
		for _, l := range m.th.wrap(words, w-3) {
			out = append(out, " "+style.Render(l))
		}
	}
	if w < twoPanes && m.high < 30 {
		return out
	}
	return append(out, "")
}

// kept says whether what will be lost is on the shelf.
func (m *lastPage) kept() (words string, danger bool) {
	if len(m.each.targets) == 0 {
		return m.keptOf(m.disk(), m.summary.Lost)
	}
	var all []string
	for _, d := range m.each.targets {
		of, bad := m.keptOf(d, d.Loses())
		if danger = danger || bad; of != "" {
			all = append(all, workshop.At(d)+of)
		}
	}
	return strings.Join(all, " "), danger
}

func (m *lastPage) keptOf(d *bench.Disk, lost []string) (words string, danger bool) {
	switch {
	case d == nil || m.summary.Mild || len(lost) == 0:
		return "", false
	case m.datesPage.owners.of(d).elsewhere != nil:
		o := m.datesPage.owners.of(d)
		return fmt.Sprintf(" ‼ WHAT IS LOST IS NOT ON THE OPEN SHELF ‼ %s had a twin of it, %s, when it was open last "+
			"on %s", o.elsewhere.Name, age(o.newest), o.elsewhere.Seen.Format("2 Jan")), true
	case m.w.Shelf == nil:
		return " ‼ No shelf is open: whether what is lost is kept anywhere isn't known ‼ ", true
	}
	o := m.datesPage.owners.of(d)
	if o.twin == nil {
		return " ‼ WHAT IS LOST IS NOT ON ANY SHELF IN REACH ‼ ", true
	}
	text := fmt.Sprintf("on the shelf %s: its newest twin is %s (%s)", m.w.Shelf.Head().Name, age(o.newest),
		short(o.newest))
	if missing := notInTwin(o.twin, o.disk); missing != "" {
		return " ‼ NOT ALL OF IT IS KEPT: " + missing + ". The rest is " + text + " ‼ ", true
	}
	if m.benchPage.isChanged(d, o) {
		return "What was on it is " + text + ". It CHANGED SINCE, and that is on no shelf.", false
	}
	return "What was on it is " + text + ". Whether it changed since isn't known.", false
}

// notInTwin says what of a disk its twin doesn't hold.
func notInTwin(t *shelf.Twin, i int) string {
	d := &t.Disks[i]
	for _, r := range d.Parts() {
		if !r.Captured {
			return fmt.Sprintf("part %d (%s) was left out of its newest twin", r.Part, r.Title())
		}
	}
	if n := d.Missing.Total(); n > 0 {
		return units.Bytes(n) + " of it couldn't be read"
	}
	return ""
}

// lines are what is there now and what will be, both drawn, and below it everything else that is to know.
func (m *lastPage) lines(w int) []string {
	var out []string
	several := len(m.each.targets) > 0
	switch {
	case several:
		out = append(m.then(w), "")
	case m.disk() != nil:
		out = m.nowAndThen(w)
	}
	s := m.summary
	add := func(title string, lines []string, paint func(...string) string) {
		for i, l := range lines {
			if i > 0 {
				title = ""
			}
			for j, part := range m.th.wrap(m.masked(l), w-16) {
				if j > 0 {
					title = ""
				}
				out = append(out, " "+fit(title, 12)+paint(part))
			}
		}
	}
	add("Reads", s.From, m.th.reads.Render)
	to := slices.Clone(s.To)
	for i := range m.each.targets {
		to[i] = m.eachLine(i, to[i])
	}
	add("Writes to", to, m.th.writes.Render)
	if len(s.Lost) == 0 {
		add("Lost", []string{"nothing"}, m.th.good.Render)
	}
	if several || m.disk() == nil || len(m.scene.up.parts)+len(m.lostParts()) == 0 {
		add("Lost", s.Lost, m.th.bad.Render)
	}
	add("Stays", s.Stays, m.th.good.Render)
	add("Doubtful", s.Doubts, m.th.caution.Render)
	add("Does", s.Steps, m.th.strong.Render)
	add("Note", s.Notes, m.th.dim.Render)
	return out
}

// lostParts are the parts that are on the target now.
func (m *lastPage) lostParts() []railPart { return partsOf(m.disk()) }

// nowAndThen draws the target as it is now and as it will be, side by side where there is room.
func (m *lastPage) nowAndThen(w int) []string {
	half := (w - 3) / 2
	if w < twoPanes {
		half = w
	}
	now, then := m.now(half), m.then(half)
	if w < twoPanes {
		return append(append(now, then...), "")
	}
	var out []string
	for i := range max(len(now), len(then)) {
		a, b := "", ""
		if i < len(now) {
			a = now[i]
		}
		if i < len(then) {
			b = then[i]
		}
		out = append(out, fit(a, half)+m.th.dim.Render(" │ ")+fit(b, half))
	}
	return append(out, "")
}

// now is the target as it is, with what goes struck out.
func (m *lastPage) now(w int) []string {
	d := m.disk()
	out := []string{" " + m.th.reads.Render("NOW") + "   " + m.th.strong.Render(d.Identity.Model) + ", " +
		m.th.size(d.Identity.Size)}
	r := rail{id: d.Identity, parts: partsOf(d)}
	out = append(out, " "+r.bar(m.th, w-2, true))
	if len(r.parts) == 0 {
		for _, l := range m.th.wrap(d.Words(), w-2) {
			out = append(out, " "+m.th.dim.Render(l))
		}
		return out
	}
	stays := func(p railPart) bool { return m.scene.fates != nil && m.outcome == nil && !m.scene.fates[p.number] }
	for i, a := range d.Survey.Parts() {
		used := "use unknown"
		if a.Content.Maps {
			used = m.th.size(a.Content.Used) + " used"
		}
		text := fmt.Sprintf("%-24s %-6s %9s   %s", fit(fmt.Sprintf("%d %s", a.Part.Number, a.Title()), 24),
			fit(a.Holds(), 6), m.th.size(a.Span.Len()), used)
		if stays(r.parts[i]) {
			out = append(out, " "+m.th.good.Render("▾ ")+text)
			continue
		}
		out = append(out, " "+m.th.bad.Render("✗ ")+m.th.struck.Render(text))
	}
	return out
}

// then is the target as it will be.
func (m *lastPage) then(w int) []string {
	l := m.scene.down
	state := l.stateWords(m.th)
	if m.outcome != nil {
		state, l.parts = m.outcome.state, nil
	}
	out := []string{" " + m.th.writes.Render("THEN")}
	if d := m.disk(); len(m.each.targets) > 0 {
		out[0] += "   " + m.th.strong.Render(d.Identity.Model) + ", " + m.th.size(d.Identity.Size)
	}
	if len(l.parts) == 0 {
		return append(out, " "+m.th.dim.Render(strings.Repeat(gapGlyph, max(0, w-2))), " "+state)
	}
	out = append(out, " "+l.bar(m.th, w-2, true))
	happens := m.happens()
	for _, p := range l.parts {
		out = append(out, fmt.Sprintf("   %s %9s   %s", fit(fmt.Sprintf("%d %s", p.number, p.title), 24),
			m.th.size(p.span.Len()), happens[p.number]))
	}
	return out
}

// happens says of each part of a plan what becomes of it.
func (m *lastPage) happens() map[int]string {
	out := map[int]string{}
	if m.step != stepFit || m.fitPage.pair == nil {
		return out
	}
	for _, x := range m.fitPage.pair.Plan.Layout.Parts {
		var what []string
		switch {
		case x.Grown() > 0:
			what = append(what, m.th.good.Render("▲ grows by "+m.th.size(x.Grown())))
		case x.Shrunk() > 0:
			what = append(what, m.th.caution.Render("▼ shrinks by "+m.th.size(x.Shrunk())))
		}
		if x.Moved() {
			what = append(what, m.th.reads.Render("→ moves"))
		}
		out[x.Part.Number] = strings.Join(what, ", ")
	}
	return out
}

// foot is where the confirmation is typed; it stays in view too.
func (m *lastPage) foot(w int) []string {
	look := m.summary.Look
	if look == "" {
		look = "Look at the sticker"
	}
	ask, typed := look+" and type "+m.th.strong.Render(m.summary.What)+":", "  "+m.confirm.View()
	if len(m.each.targets) > 0 {
		ask = m.askEach()
	}
	if words := keyboardWords(m.model); words != "" {
		typed += m.th.dim.Render("   keyboard: " + words)
	}
	if ansi.StringWidth(ask)+ansi.StringWidth(typed)+8 <= w {
		return []string{"", " " + ask + typed}
	}
	var out []string
	for _, l := range m.th.wrap(ask, w-2) {
		out = append(out, " "+l)
	}
	return append(out, " ▸"+typed)
}
