package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/bench"
	"twinshelf/internal/capture"
	"twinshelf/internal/units"
)

// body lists the disks, two lines each.
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
	keep := 0
	strip := max(0, min(36, w-84))
	for i, d := range m.disks {
		mark := "  "
		if i == m.cursor {
			mark, keep = "▶ ", len(out)+1
		}
		id := d.Identity
		serial := id.Serial
		if serial == "" {
			serial = "no serial"
		}
		name := fit(mark+id.Model, 24)
		if i == m.cursor {
			name = m.th.here.Render(name)
		} else {
			name = m.th.strong.Render(name)
		}
		line := name + right(units.Bytes(id.Size), 9) + "  " + fit(serial, 16) + " " + fit(id.Bus, 7) + " " +
			m.standing(d, 19)
		if strip > 0 {
			r := rail{id: id}
			if d.Survey != nil {
				r.parts = partsOf(d)
			}
			line += "  " + r.bar(m.th, strip)
		}
		out = append(out, line)
		words := d.Words()
		style := m.th.dim
		switch {
		case d.Problem != "":
			style = m.th.bad
		case d.Survey != nil && len(d.Survey.Warnings()) > 0:
			style = m.th.caution
			words += "; not quiet"
		}
		if mounted := d.MountWords(); mounted != "" {
			words += " · " + mounted
		}
		detail := words
		if d.Reach != "" {
			detail = "out of reach: " + d.Reach + " · " + words
		}
		out = append(out, "    "+style.Render(fit(detail, w-5)))
		if m.high >= 34 {
			out = append(out, "")
		}
	}
	return out, keep
}

// standing says whether a disk is read, written, or may be.
func (m *benchPage) standing(d *bench.Disk, w int) string {
	switch {
	case m.target != nil && m.target.Path == d.Path:
		return m.th.writes.Render(fit("◀ WRITES", w))
	case m.source != nil && !m.fromTwin && m.source.Path == d.Path:
		return m.th.reads.Render(fit("▶ READS", w))
	case d.Problem != "":
		return m.th.bad.Render(fit("can't be read", w))
	case d.Reach != "":
		return m.th.caution.Render(fit("■ out of reach", w))
	case d.Survey == nil:
		return m.th.dim.Render(fit("looking …", w))
	}
	return fit("□ may be written", w)
}

// captureRow is a line of the Capture step: a disk (part 0) or one of its parts.
type captureRow struct {
	disk *bench.Disk
	part int
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
		return m.plain(w, "Capture", "needs a shelf.", "Open Dates (4) and press o: it opens one, or makes a new "+
			"one on a mounted storage drive."), -1
	}
	machine := m.machine
	if machine == "" {
		machine = m.th.caution.Render("no name yet: press n")
	} else {
		machine = m.th.strong.Render(machine)
	}
	out := []string{" Machine  " + machine}
	out = append(out, m.estimateLines(w)...)
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
		out = append(append(out, line), innerLines(m.th, r, w)...)
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
		text := fit(r.disk.Identity.Model, 22) + right(units.Bytes(r.disk.Identity.Size), 9) + "  " +
			fit(r.disk.Identity.Serial, 16)
		if m.chosen[r.disk.Path] {
			text = m.th.strong.Render(text)
		}
		return box(m.chosen[r.disk.Path]) + " " + text
	}
	for _, a := range r.disk.Survey.Parts() {
		if a.Part.Number != r.part {
			continue
		}
		in := !m.leaveOut[r.disk.Path][r.part]
		state := units.Bytes(a.ToRead) + " to read"
		if !a.Content.Maps && a.Content.Why != "" {
			state = "all of it is read: " + a.Content.Why
		}
		for _, o := range a.Content.Omit {
			state += ", without " + o.What
		}
		if !in {
			state = m.th.caution.Render("left out of the twin")
		}
		p := patternOf(a.Role)
		return "    " + box(in) + " " + p.style.Render(p.used) + " " +
			fit(fmt.Sprintf("%d %s", r.part, a.Title()), 22) + fit(string(a.Role), 10) + fit(a.Holds(), 10) +
			right(units.Bytes(a.Span.Len()), 9) + "   " + fit(state, w-64)
	}
	return ""
}

// innerLines are what lies in a container on a part, a line for each device.
func innerLines(th theme, r captureRow, w int) (out []string) {
	if r.part == 0 {
		return nil
	}
	for _, a := range r.disk.Survey.Parts() {
		if a.Part.Number != r.part {
			continue
		}
		for _, words := range a.InnerWords() {
			out = append(out, th.dim.Render(fit("             "+words, w)))
		}
	}
	return out
}

// mostGoing is how many lines say what goes after a capture.
const mostGoing = 9

func (m *capturePage) estimateLines(w int) []string {
	if m.plan == nil {
		if len(chosenDisks(m.model)) == 0 {
			return []string{m.th.caution.Render(" No disk is chosen: press Space on the disks of this machine.")}
		}
		return []string{m.th.dim.Render(" Working out what is needed …")}
	}
	e := m.estimate
	before := "the first capture of this machine"
	if e.Before > 0 {
		before = fmt.Sprintf("%s of it on the shelf already", units.Plural(e.Before, "twin"))
	}
	out := []string{
		fmt.Sprintf(" Reads    %s in about %s; %s", m.th.strong.Render(units.Bytes(e.Read)),
			m.th.strong.Render(units.Duration(e.Time)), before),
		fmt.Sprintf(" Shelf    probably %s more, at the most %s", m.th.strong.Render(units.Bytes(e.Likely)),
			units.Bytes(e.Most)),
	}
	verdict := " Room     " + e.Words()
	switch {
	case e.Likely > e.Free:
		verdict = m.th.bad.Render(verdict)
	case e.Most > e.Free:
		verdict = m.th.caution.Render(verdict)
	default:
		verdict = m.th.good.Render(verdict)
	}
	out = append(out, verdict)
	switch {
	case m.trust == capture.TrustNone:
		out = append(out, " Unread   nothing: everything is read, whatever the file systems' records say")
	case m.trust == capture.TrustMost && len(m.trusts) == 0:
		out = append(out, " Unread   nothing: no file system here has records to trust, or it wasn't captured before")
	}
	for _, s := range m.trusts {
		for i, l := range wrap(s, w-12) {
			label := " Unread   "
			if i > 0 {
				label = "          "
			}
			out = append(out, label+m.th.dim.Render(l))
		}
	}
	if m.plan != nil {
		for _, s := range m.plan.Wholes() {
			for i, l := range wrap(s, w-12) {
				label := " Whole    "
				if i > 0 {
					label = "          "
				}
				out = append(out, label+m.th.caution.Render(l))
			}
		}
	}
	goes := m.outgoing.Words()
	if more := len(goes) - mostGoing; more > 0 {
		goes = append(slices.Clone(goes[:mostGoing]),
			fmt.Sprintf("and %d older ones: t in Dates shows what each rule means", more))
	}
	for i, s := range goes {
		label, paint := " Goes     ", m.th.caution
		if i > 0 {
			label, paint = "          ✗ ", m.th.dim
		}
		for _, l := range wrap(s, w-12) {
			out = append(out, label+paint.Render(l))
			label = strings.Repeat(" ", ansi.StringWidth(label))
		}
	}
	for _, s := range m.plan.Warnings() {
		for _, l := range wrap(" Not quiet: "+s, w-2) {
			out = append(out, m.th.caution.Render(l))
		}
	}
	if m.unquiet && len(m.plan.Warnings()) > 0 {
		out = append(out, " It will be captured as it is, and the twin says so for ever.")
	}
	return out
}

func (m *benchPage) bindings() []binding {
	again := binding{"a", "a", "look again", "look at all disks again", leads(func() tea.Cmd {
		m.say("Looking again.")
		return m.look()
	})}
	if len(m.disks) == 0 {
		return []binding{again}
	}
	m.cursor = max(0, min(m.cursor, len(m.disks)-1))
	d := m.disks[m.cursor]
	return []binding{
		move(listKeys, "disk", "choose a disk", &m.cursor, len(m.disks)),
		{"enter", "Enter", "capture", "capture the machine of this disk", leads(func() tea.Cmd {
			return m.read(d, false, stepCapture)
		})},
		{"r", "r", "reads", "put this disk on the READS rail", leads(func() tea.Cmd {
			return m.read(d, false, stepBench)
		})},
		{"c", "c", "copy", "copy this disk onto another one directly", leads(func() tea.Cmd {
			return m.read(d, true, stepFit)
		})},
		{"w", "w", "writes", "put this disk on the WRITES rail; nothing is written yet", acts(func() { m.aim(d) })},
		{"e", "e", "ready", "make this disk ready: lay it out, format, erase", leads(func() tea.Cmd {
			if m.aim(d); m.target == d {
				return m.goTo(stepReady)
			}
			return nil
		})},
		{"p", "p", "padlock", "put this disk out of reach, or back; remembered", leads(func() tea.Cmd {
			return m.padlock(d)
		})},
		{"i", "i", "inside", "look inside: folders and files of this disk", leads(m.insidePage.insideFrom)},
		{"m", "m", "mount", "mount a part of this disk read-only, or unmount it (as root)", leads(func() tea.Cmd {
			return m.mountDisk(d)
		})},
		again,
	}
}

// read puts a disk on the upper rail and goes to a step.
func (m *benchPage) read(d *bench.Disk, copying bool, to step) tea.Cmd {
	if d.Survey == nil {
		m.fail(d.Identity.Model + ": " + d.Words())
		return nil
	}
	if m.target != nil && m.target.Path == d.Path {
		m.target = nil
	}
	m.source, m.fromTwin, m.fitPage.copying = d, false, copying
	if to == stepBench {
		m.say("%s is read.", d.Identity.Model)
	}
	return m.goTo(to)
}

// padlock puts a disk out of reach, or back.
func (m *benchPage) padlock(d *bench.Disk) tea.Cmd {
	if err := m.w.ToggleReach(d.Identity); err != nil {
		m.fail(err.Error())
		return nil
	}
	if m.target != nil && m.target.Path == d.Path {
		m.target = nil
	}
	return m.look()
}
