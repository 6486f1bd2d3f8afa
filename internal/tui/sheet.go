package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/job"
	"twinshelf/internal/scene"
	"twinshelf/internal/sheet"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// sheetPage is step 8: the cases, and the sheet of the one that is pointed at.
type sheetPage struct {
	*model
	jobs     []*job.Job
	problems []error
	read     bool             // the record was read
	row      int              // of the list
	chosen   string           // ID of the case that is chosen; empty for none
	paper    paper            // which one is shown
	list     *sheet.ShelfList // of the open shelf, when that is the paper
}

// enterLook enters into the chosen case what a disk is like that was just chosen to be read or written. A disk that is
// another machine's than the case's is none of it.
func enterLook(m *model, was, now *bench.Disk) tea.Cmd {
	j := m.sheetPage.current()
	if now == nil || now == was || now.Survey == nil || j == nil {
		return nil
	}
	owner := m.datesPage.owners.of(now).machine
	if owner != "" && j.Machine != "" && !strings.EqualFold(owner, j.Machine) {
		return nil
	}
	w, ctx := m.w, m.ctx
	return func() tea.Msg {
		if _, err := w.LookJob(ctx, j, now); err != nil {
			return problems{"What " + now.Identity.Model + " is like isn't on record: " + err.Error()}
		}
		return nil
	}
}

// jobsRead are the cases on record.
type jobsRead struct {
	jobs     []*job.Job
	problems []error
	chosen   string
}

// readJobs reads the record in the background.
func (m *sheetPage) readJobs() tea.Cmd {
	w, ctx := m.w, m.ctx
	return func() tea.Msg {
		msg := jobsRead{}
		msg.jobs, msg.problems = w.Jobs(ctx)
		if j := w.Job(); j != nil {
			msg.chosen = j.ID
		}
		return msg
	}
}

// onJobs takes the record; the cursor stays on its case, and goes to the chosen one when that is another.
func (m *sheetPage) onJobs(msg jobsRead) {
	at := msg.chosen
	if j := m.here(); j != nil && m.chosen == msg.chosen {
		at = j.ID
	}
	m.jobs, m.problems, m.chosen, m.read = msg.jobs, msg.problems, msg.chosen, true
	m.row = min(m.row, max(0, len(m.jobs)-1))
	for i, j := range m.jobs {
		if j.ID == at {
			m.row = i
		}
	}
}

// here is the case that is pointed at; nil when there is none.
func (m *sheetPage) here() *job.Job {
	if m.row < 0 || m.row >= len(m.jobs) {
		return nil
	}
	return m.jobs[m.row]
}

// current is the case that is chosen; nil when none is.
func (m *sheetPage) current() *job.Job {
	for _, j := range m.jobs {
		if j.ID == m.chosen {
			return j
		}
	}
	return nil
}

// lanes say that a sheet reads and writes no disk.
func (m *sheetPage) lanes() lanes {
	return lanes{up: nothing(reading(m.th, ""), "nothing but the record"),
		down: nothing(writing(m.th, ""), "nothing; Enter saves the paper as a file")}
}

// share is how much of the window the list of cases takes, in percent.
func (m *sheetPage) share() int { return 42 }

func (m *sheetPage) body(w int) ([]string, int) {
	if len(m.jobs) == 0 {
		says := "No case is on record yet. It opens by itself with the first capture, restore or copy, or with a."
		if !m.read {
			says = "Reading the record …"
		}
		return append(m.plain(w, "Sheet", "is the page for the customer and for the file: what was done to which "+
			"disk, from which twin, with which proof.", says), m.problemLines(w)...), -1
	}
	out := []string{" " + m.th.strong.Render("Cases") + m.th.dim.Render("   ◆ is chosen: work goes into it"), ""}
	keep := 0
	for i, j := range m.jobs {
		if i == m.row {
			keep = len(out) + 1
		}
		out = append(out, m.jobRows(j, i == m.row, w)...)
	}
	return append(out, m.problemLines(w)...), keep
}

func (m *sheetPage) problemLines(w int) []string {
	var out []string
	for _, p := range m.problems {
		for _, l := range m.th.wrap("✗ "+p.Error(), w-3) {
			out = append(out, " "+m.th.bad.Render(l))
		}
	}
	return out
}

// jobRows are the two lines of a case in the list.
func (m *sheetPage) jobRows(j *job.Job, here bool, w int) []string {
	mark := "   "
	if here {
		mark = " ▶ "
	}
	sign := "  "
	if j.ID == m.chosen {
		sign = m.th.good.Render("◆ ")
	}
	number := fit(j.Number, 12)
	if here {
		number = m.th.here.Render(number)
	} else {
		number = m.th.strong.Render(number)
	}
	state := units.Plural(len(j.Works()), "work")
	if !j.Open() {
		state += ", closed " + j.Closed.Local().Format("2 Jan")
	}
	about := j.Machine
	if j.Customer != "" {
		about = strings.TrimPrefix(about+", "+j.Customer, ", ")
	}
	return []string{fit(mark+sign+number+"  "+about, w-1),
		"       " + m.th.dim.Render(fit("since "+j.Opened.Local().Format("2 Jan 2006")+", "+state, w-8))}
}

// beside is the sheet as it will be printed, in text.
func (m *sheetPage) beside(w int) []string {
	j := m.here()
	if j == nil {
		return nil
	}
	title, blocks, why := m.shown(j)
	out := []string{" " + sides(m.th.strong.Render(title), m.th.dim.Render(m.w.Shop().Name)+" ", w-1), ""}
	if why != nil {
		return append(out, m.th.wrap(" "+sentence(why), w-2)...)
	}
	for _, b := range blocks {
		out = append(out, blockLines(m.th, b, w)...)
	}
	return out
}

// blockLines are a block of a paper on the screen.
func blockLines(th theme, b sheet.Block, w int) []string {
	var out []string
	say := func(text string, paint func(...string) string) {
		for _, l := range th.wrap(text, w-3) {
			out = append(out, " "+paint(l))
		}
	}
	switch {
	case b.Page:
		out = append(out, " "+th.dim.Render(strings.Repeat("┈", max(0, w-2))))
	case b.Heading != "":
		out = append(out, "")
		say(b.Heading, th.strong.Render)
	case b.Alarm != "":
		say("‼ "+b.Alarm, th.bad.Render)
	case b.Text != "":
		say(b.Text, asIs)
	case b.Facts != nil:
		out = factLines(th, b.Facts, w)
	case b.Table != nil:
		out = append(out, tableLines(th, b.Table, w)...)
	case b.Drawing != nil:
		out = append(out, stripLines(th, b.Drawing, w)...)
	case b.Code != "":
		say(b.Code+", and as a square to be scanned", th.dim.Render)
	case b.Sign != nil:
		say("Lines for signatures: "+strings.Join(b.Sign, ", "), th.dim.Render)
	}
	return out
}

// asIs paints nothing.
func asIs(text ...string) string { return strings.Join(text, " ") }

// factWide is how many columns what a fact is takes.
const factWide = 12

// factLines are facts, each with what it is before the first of its lines.
func factLines(th theme, facts [][2]string, w int) []string {
	var out []string
	last := ""
	for _, f := range facts {
		label := f[0]
		if label == last {
			label = ""
		}
		last = f[0]
		for _, l := range th.wrap(f[1], w-factWide-2) {
			out = append(out, " "+th.dim.Render(fit(label, factWide))+l)
			label = ""
		}
	}
	return out
}

// tableLines are a table with its columns' shares of the width; a cell takes as many lines as it needs.
func tableLines(th theme, t *sheet.Table, w int) []string {
	var out []string
	wides := columnsWide(t, w)
	for i, r := range append([][]string{t.Head}, t.Rows...) {
		var cells [][]string
		high := 1
		for k, c := range r {
			cells = append(cells, th.wrap(c, wides[k]))
			high = max(high, len(cells[k]))
		}
		for row := range high {
			line := " "
			for k := range r {
				text := ""
				if row < len(cells[k]) {
					text = cells[k][row]
				}
				cell := fit(text, wides[k])
				if t.Right[k] {
					cell = right(text, wides[k])
				}
				line += cell + " "
			}
			if i == 0 {
				line = th.dim.Render(line)
			}
			out = append(out, line)
		}
	}
	return out
}

// columnsWide are how many columns of the screen the columns of a table take: their shares, but numbers are never cut;
// what they need beyond their share the widest one gives.
func columnsWide(t *sheet.Table, w int) []int {
	out := make([]int, len(t.Head))
	over := 0
	for k := range out {
		out[k] = max(3, int(t.Shares[k]*float64(w-2))-1)
		if !t.Right[k] {
			continue
		}
		was := out[k]
		for _, r := range append([][]string{t.Head}, t.Rows...) {
			out[k] = max(out[k], ansi.StringWidth(r[k]))
		}
		over += out[k] - was
	}
	for ; over > 0; over-- {
		widest := 0
		for k := range out {
			if !t.Right[k] && (t.Right[widest] || out[k] > out[widest]) {
				widest = k
			}
		}
		out[widest] = max(3, out[widest]-1)
	}
	return out
}

// stripLines draw disks, to the scale of the largest.
func stripLines(th theme, strips []scene.Strip, w int) []string {
	most := int64(1)
	for _, s := range strips {
		most = max(most, s.Size)
	}
	var out []string
	for _, s := range strips {
		r := rail{id: disk.Identity{Size: s.Size}}
		for _, p := range s.Parts {
			r.parts = append(r.parts, railPart{span.At(p.Start, p.Size), p.Number, p.Title, p.Role, max(0, p.Used),
				p.Used >= 0})
		}
		n := r.width(most, w-2)
		out = append(out, " "+fit(th.sentence(s.Title), w-2), " "+r.bar(th, n, true))
		if len(r.parts) == 0 {
			out = append(out, " "+th.dim.Render(fit(s.Words, w-2)))
		}
	}
	return out
}
