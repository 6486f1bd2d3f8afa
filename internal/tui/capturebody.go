package tui

import (
	"fmt"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/bench"
	"twinshelf/internal/capture"
	"twinshelf/internal/units"
)

// captureRow is a line of the Capture step: a disk (part 0) or one of its parts.
type captureRow struct {
	disk *bench.Disk
	part int
}

// stayOnRow keeps the cursor on its disk or part when disks come, go or change places. After a key it is where that
// put it.
func stayOnRow(m *capturePage, pressed bool) {
	rows := m.captureRows()
	if pressed {
		m.here = captureRow{}
		if m.row < len(rows) {
			m.here = rows[m.row]
		}
		return
	}
	for i, r := range rows {
		if m.here.disk != nil && r.disk.Path == m.here.disk.Path && r.part == m.here.part {
			m.row = i
		}
	}
}

func (m *capturePage) captureRows() []captureRow {
	var rows []captureRow
	for _, d := range m.disks {
		if d.Survey == nil || d.Problem != "" {
			continue
		}
		rows = append(rows, captureRow{d, 0})
		if m.chosen[d.Path] {
			for _, a := range d.Survey.Parts() {
				rows = append(rows, captureRow{d, a.Part.Number})
			}
		}
	}
	return rows
}

func (m *capturePage) body(w int) ([]string, int) {
	if m.w.Shelf == nil {
		return m.plain(w, "Capture", "needs a shelf.", "Open Dates (4) and press o: it opens one, or makes a new one "+
			"on a mounted storage drive."), -1
	}
	machine := m.machine
	if machine == "" {
		machine = m.th.caution.Render("no name yet: press n")
	} else {
		machine = m.th.strong.Render(machine)
	}
	out := []string{" Machine  " + machine}
	if words := m.w.PowerWarning(); words != "" {
		for _, l := range m.th.wrap("! "+capital(words)+".", w-2) {
			out = append(out, " "+m.th.caution.Render(l))
		}
	}
	if w < twoPanes*m.share()/100-1 { // the other pane isn't beside it
		out = append(out, m.inShort()...)
	}
	out = append(out, "")
	keep := -1
	for i, r := range m.captureRows() {
		line := m.captureLine(r, w-4)
		if i == m.row {
			line = "▶ " + line
			keep = len(out)
		} else {
			line = "  " + line
		}
		out = append(append(out, line), innerLines(m, r, w)...)
	}
	if len(m.captureRows()) == 0 {
		out = append(out, " No disk can be captured. Go to the Bench (1) to see why.")
	}
	return out, keep
}

func (m *capturePage) captureLine(r captureRow, w int) string {
	box := func(in bool) string {
		if in {
			return m.th.good.Render("[■]")
		}
		return m.th.dim.Render("[ ]")
	}
	if r.part == 0 {
		text := fit(r.disk.Identity.Model, 22) + right(m.th.size(r.disk.Identity.Size), 9) + "  " +
			fit(r.disk.Identity.Serial, 16)
		if m.chosen[r.disk.Path] {
			text = m.th.strong.Render(text)
		}
		if m.runPage.writesTo(r.disk.Path) {
			text += m.th.writes.Render("  being written")
		}
		return box(m.chosen[r.disk.Path]) + " " + text
	}
	for _, a := range r.disk.Survey.Parts() {
		if a.Part.Number != r.part {
			continue
		}
		a = asPlanned(m, r.disk, a)
		in := !m.leaveOut[r.disk.Path][r.part]
		state := m.th.size(a.ToRead) + " to read"
		if !a.Content.Maps && a.Content.Why != "" {
			state = "all of it is read: " + a.Content.Why
		}
		if words := haltedState(m, r.disk, a); words != "" {
			state = words
		}
		for _, o := range a.Content.Omit {
			state += ", without " + o.What
		}
		if !in {
			state = m.th.caution.Render("left out of the twin")
		}
		p := m.th.patternOf(a.Role)
		line := "    " + box(in) + " " + p.style.Render(p.used) + " " +
			fit(fmt.Sprintf("%d %s", r.part, a.Title()), min(22, max(14, w-50)))
		if w >= 90 {
			line += fit(string(a.Role), 10)
		}
		line += fit(a.Holds(), 8) + right(m.th.size(a.Span.Len()), 9) + "   "
		state = fit(state, w-ansi.StringWidth(line))
		if undecidedHere(m, r.disk, a) {
			state = m.th.caution.Render(state)
		}
		return line + state
	}
	return ""
}

// innerLines are what lies in a container on a part, a line for each device.
func innerLines(m *capturePage, r captureRow, w int) (out []string) {
	if r.part == 0 {
		return nil
	}
	for _, a := range r.disk.Survey.Parts() {
		if a.Part.Number != r.part {
			continue
		}
		a = asPlanned(m, r.disk, a)
		for _, words := range a.InnerWords() {
			out = append(out, m.th.dim.Render(fit("             "+words, w)))
		}
	}
	return out
}

// share is how much of the window what is captured takes, in percent.
func (m *capturePage) share() int { return 58 }

// beside says what the capture costs, and what is left out and why.
func (m *capturePage) beside(w int) []string {
	if m.w.Shelf == nil {
		return nil
	}
	return append([]string{" " + m.th.strong.Render("What it costs"), ""}, m.estimateLines(w)...)
}

// inShort is what it costs in a line, where the other pane isn't in view.
func (m *capturePage) inShort() []string {
	if m.plan == nil || len(m.plan.Warnings()) > 0 {
		return m.estimateLines(m.wide)[:1]
	}
	return []string{" Costs    probably " + m.th.strong.Render(m.th.size(m.estimate.Likely)) + " of the shelf, about " +
		m.th.strong.Render(units.Duration(m.estimate.Time)) + "; " + m.estimate.Words()}
}

// mostGoing is how many lines say what goes after a capture.
const mostGoing = 9

func (m *capturePage) estimateLines(w int) []string {
	if m.plan == nil {
		if len(chosenDisks(m.model)) == 0 {
			return []string{m.th.caution.Render(" No disk is chosen: press Space on the disks of this machine.")}
		}
		return []string{m.th.dim.Render(" Working out what is needed …"), m.th.dim.Render("   " + m.busy.words())}
	}
	e := m.estimate
	before := "the first capture of this machine"
	if e.Before > 0 {
		before = fmt.Sprintf("%s of it on the shelf already", units.Plural(e.Before, "twin"))
	}
	plain := func(s ...string) string { return strings.Join(s, "") }
	out := m.th.labelled("Reads", fmt.Sprintf("%s in about %s; %s", m.th.strong.Render(m.th.size(e.Read)),
		m.th.strong.Render(units.Duration(e.Time)), before), w, plain)
	out = append(out, m.th.labelled("Shelf", fmt.Sprintf("probably %s more, at the most %s",
		m.th.strong.Render(m.th.size(e.Likely)), m.th.size(e.Most)), w, plain)...)
	paint := m.th.good.Render
	switch {
	case e.TooLittle():
		paint = m.th.bad.Render
	case e.Tight():
		paint = m.th.caution.Render
	case !e.Free.Known():
		paint = plain
	}
	out = append(out, m.th.labelled("Room", e.Words(), w, paint)...)
	if words := m.datesPage.far.Warns(e.Likely); words != "" {
		out = append(out, m.th.labelled("Line", words, w, m.th.caution.Render)...)
	}
	for _, s := range m.plan.Health() {
		out = append(out, m.th.labelled("Health", s, w, m.th.bad.Render)...)
	}
	if m.plan.Failing() {
		out = append(out, m.th.labelled("", "R gets what can be got, and spares the drive.", w, m.th.bad.Render)...)
	}
	if words := m.packing.Words(); words != "" {
		out = append(out, m.th.labelled("Packs", words, w, m.th.dim.Render)...)
	}
	out = append(out, m.unreadLines(w)...)
	for _, s := range m.plan.Wholes() {
		out = append(out, m.th.labelled("Whole", s, w, m.th.caution.Render)...)
	}
	if m.keepKeys && keysUnkept(m) == "" {
		words := "of unlocked volumes are kept with the twin: whoever has the shelf's passphrase looks inside " +
			"without them"
		out = append(out, m.th.labelled("Keys", words, w, m.th.caution.Render)...)
	}
	out = append(out, cutLines(m, w)...)
	out = append(out, m.goingLines(w)...)
	out = append(out, notQuietLines(m, w)...)
	if m.unquiet && len(m.plan.Warnings()) > 0 {
		words := "It will be captured as it is, and the twin says so for ever."
		out = append(out, m.th.labelled("", words, w, plain)...)
	}
	return out
}

// labelWide is the width of the labels before what a capture costs.
const labelWide = 10

// labelled is a text with a label before it, over as many lines as it takes.
func (th theme) labelled(label, text string, w int, paint func(...string) string) []string {
	var out []string
	for i, l := range th.wrap(text, w-labelWide-2) {
		if i > 0 {
			label = ""
		}
		out = append(out, " "+fit(label, labelWide)+paint(l))
	}
	return out
}

// unreadLines say what isn't read again, and why not.
func (m *capturePage) unreadLines(w int) []string {
	says := m.trusts
	switch {
	case m.trust == capture.TrustNone:
		says = []string{"nothing: everything is read, whatever the file systems' records say"}
	case m.trust == capture.TrustMost && len(m.trusts) == 0:
		says = []string{"nothing: no file system here has records to trust, or it wasn't captured before"}
	}
	var out []string
	for _, s := range says {
		out = append(out, m.th.labelled("Unread", s, w, m.th.dim.Render)...)
	}
	return out
}

// goingLines say which twins go after the capture.
func (m *capturePage) goingLines(w int) []string {
	goes := m.outgoing.Words()
	if more := len(goes) - mostGoing; more > 0 {
		goes = append(slices.Clone(goes[:mostGoing]),
			fmt.Sprintf("and %d older ones: t in Dates shows what each rule means", more))
	}
	var out []string
	for i, s := range goes {
		if i == 0 {
			out = m.th.labelled("Goes", s, w, m.th.caution.Render)
			continue
		}
		for j, l := range m.th.wrap(s, w-labelWide-4) {
			mark := "✗ "
			if j > 0 {
				mark = "  "
			}
			out = append(out, strings.Repeat(" ", labelWide+1)+mark+m.th.dim.Render(l))
		}
	}
	return out
}
