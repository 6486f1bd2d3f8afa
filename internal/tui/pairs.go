package tui

import (
	"errors"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/plan"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/table"
	"twinshelf/internal/workshop"
)

// pairing is which disk of a machine goes onto which target.
type pairing struct {
	of     string         // the twin
	target map[int]string // paths of targets, by the disk of the twin; "" leaves it out
	wish   map[string]plan.Wish
}

// paired are the plans for all disks that have a target.
type paired struct {
	pairs []*workshop.Pair
	err   error
}

// twin is the twin that is restored: the one that was chosen in Dates, or else the one they are at.
func (m *fitPage) twin() *shelf.Twin {
	for _, t := range m.datesPage.twins() {
		if t.ID == m.of {
			return t
		}
	}
	return m.datesPage.twin()
}

// origin is what the Fit step is about; false when there is nothing.
func (m *fitPage) origin() (workshop.Origin, bool) {
	if m.copies != "" {
		d := m.again(&bench.Disk{Path: m.copies})
		return workshop.Origin{Bench: d}, d != nil && d.Survey != nil
	}
	t := m.twin()
	if t == nil {
		return workshop.Origin{}, false
	}
	return workshop.Origin{Twin: t, Disk: min(m.disk, len(t.Disks)-1)}, true
}

func originKey(o workshop.Origin) string {
	if o.Bench != nil {
		return o.Bench.Path
	}
	return fmt.Sprint(o.Twin.ID, " ", o.Disk)
}

func (m *fitPage) setWish(w plan.Wish) {
	m.fit.past = append(m.fit.past[max(0, len(m.fit.past)-mostPast):], m.fit.wish)
	m.fit.toggled = ""
	if m.fit.wish = w; m.pairing.wish == nil {
		m.pairing.wish = map[string]plan.Wish{}
	}
	m.pairing.wish[m.fit.of] = w
}

// several says that the twin has more than one disk, so that each gets a target of its own.
func (m *fitPage) several() (*shelf.Twin, bool) {
	t := m.twin()
	if m.copies != "" || t == nil || len(t.Disks) < 2 {
		return t, false
	}
	if m.pairing.of != t.ID {
		m.pairing = pairing{of: t.ID, target: map[int]string{}, wish: map[string]plan.Wish{}}
	}
	return t, true
}

// proposeTarget puts on the lower rail what was chosen for the present disk of the machine, or what fits it.
func (m *fitPage) proposeTarget() {
	t, several := m.several()
	if m.target != nil && m.target.Path == m.copies {
		m.target = nil
	}
	if !several || m.looking > 0 {
		return
	}
	if len(m.pairing.target) == 0 {
		if m.target != nil { // chosen on the Bench before
			m.pairing.target[m.disk] = m.target.Path
		}
		for i, d := range bench.Propose(t, m.disks) {
			if _, chosen := m.pairing.target[i]; !chosen && d != nil && !m.taken(i, d) {
				m.pairing.target[i] = d.Path
			}
		}
	}
	m.target = m.targetOf(m.disk)
}

// taken says whether another disk of the machine goes onto d.
func (m *fitPage) taken(disk int, d *bench.Disk) bool {
	for i, path := range m.pairing.target {
		if i != disk && path == d.Path {
			return true
		}
	}
	return false
}

func (m *fitPage) targetOf(disk int) *bench.Disk {
	for _, d := range m.disks {
		if d.Path == m.pairing.target[disk] && d.Reach == "" {
			return d
		}
	}
	return nil
}

// chooseTarget keeps the target for the present disk of a machine with several; nil leaves the disk out.
func (m *fitPage) chooseTarget(d *bench.Disk) {
	if _, several := m.several(); !several {
		return
	}
	m.pairing.target[m.disk] = ""
	if d != nil {
		m.pairing.target[m.disk] = d.Path
	}
}

// pairLines say for a machine with several disks what goes where.
func (m *fitPage) pairLines(w int) []string {
	t, several := m.several()
	if !several {
		return moreLines(m, w)
	}
	var out []string
	for i := range t.Disks {
		var to string
		switch d, itself := m.targetOf(i), bench.Attached(t.Disks[i].Identity, m.disks); {
		case d != nil:
			to = m.th.writes.Render(sticker(d.Identity, w))
		case itself != nil && w < wideFit:
			to = "none: it stays as it is"
		case itself != nil:
			to = "no target: it is attached, and stays as it is now" + m.th.dim.Render(" (d, then t for a target)")
		case w < wideFit:
			to = m.th.caution.Render("none: it will be missing")
		default:
			to = m.th.caution.Render("no target: what is on it will be missing (d, then t)")
		}
		mark := "   "
		if i == m.disk {
			mark = " ▸ "
		}
		out = append(out,
			fit(mark+fmt.Sprintf("disk %d  ", i+1)+m.th.reads.Render(sticker(t.Disks[i].Identity, w))+"  →  "+to, w))
	}
	return append(out, "")
}

// sticker names a disk, on a narrow screen by its model and the end of its serial number.
func sticker(id disk.Identity, w int) string {
	if w >= wideFit || id.Serial == "" {
		return disk.Sticker(id)
	}
	return id.Model + " …" + id.Tail()
}

// fitLastPage plans all disks that have a target, and then opens the last pages, one for each target.
func (m *fitPage) fitLastPage() tea.Cmd {
	switch {
	case m.runPage.running():
		m.fail("A run is under way already: see step 6.")
		return nil
	}
	t, several := m.several()
	switch {
	case m.busy != nil && m.target != nil:
		m.say("The plan is still being worked out: press Enter again once it is there, or Esc to give it up.")
		return nil
	case m.pair == nil && (!several || m.target != nil):
		m.fail("There is no plan that could be carried out.")
		return nil
	case !several && len(moreTargets(m)) > 0:
		return planMore(m, moreTargets(m))
	case !several:
		return m.onPaired(paired{pairs: []*workshop.Pair{m.pair}})
	}
	w, current, first := m.w, m.pair, m.disk
	var targets []*bench.Disk
	var wishes []plan.Wish
	for i := range t.Disks {
		d := m.targetOf(i)
		targets = append(targets, d)
		if d == nil {
			wishes = append(wishes, plan.Wish{})
			continue
		}
		if i != first && m.taken(i, d) {
			m.fail(fmt.Sprintf("%s is the target of two disks: each needs one of its own.", d.Identity.Model))
			return nil
		}
		wishes = append(wishes, m.pairing.wish[originKey(workshop.Origin{Twin: t, Disk: i})+" "+d.Path])
	}
	return func() tea.Msg {
		var pairs []*workshop.Pair
		for i, d := range targets {
			switch {
			case i == first && current != nil:
				pairs = append(pairs, current)
			case d != nil:
				p, err := w.PlanRestore(m.ctx, workshop.Origin{Twin: t, Disk: i}, d, wishes[i], nil)
				if err != nil {
					return paired{err: fmt.Errorf("disk %d: %w", i+1, err)}
				}
				pairs = append(pairs, p)
			}
		}
		if len(pairs) == 0 {
			return paired{err: errors.New("no disk of the machine has a target: press t to choose one")}
		}
		pairs, err := w.Together(m.ctx, pairs)
		return paired{pairs: pairs, err: err}
	}
}

// onPaired opens the last page of the first target; each leads to the next, and the last one to the run.
func (m *fitPage) onPaired(msg paired) tea.Cmd {
	if msg.err != nil {
		m.fail(sentence(msg.err))
		return nil
	}
	pairs, summaries := msg.pairs, workshop.SummarizeRestore(msg.pairs)
	begin := func() tea.Cmd {
		stopped := "Cancelling leaves the target without a table; started again, it goes on from the last flush."
		if workshop.OneSource(pairs) {
			stopped = "Cancelling leaves targets that aren't written to their end without a table; started again, " +
				"they go on from the last flush."
		}
		return m.startRestore(pairs, stopped, "Cancelling leaves the target written, and not proven.")
	}
	if workshop.OneSource(pairs) {
		m.lastPage.openEach(pairs, begin)
		return nil
	}
	var page func(i int) tea.Cmd
	page = func(i int) tea.Cmd {
		if i == len(pairs) {
			return begin()
		}
		s := summaries[i]
		if len(pairs) > 1 {
			s.Head = fmt.Sprintf("target %d of %d: ", i+1, len(pairs)) + s.Head
			m.disk, m.target, m.pair = pairs[i].Disk, pairs[i].Target, pairs[i]
		}
		m.lastPage.open(s, func() tea.Cmd { return page(i + 1) })
		return nil
	}
	return page(0)
}

// askExport asks for a file to write the planned disk into.
func (m *fitPage) askExport() {
	o, ok := m.origin()
	if !ok || m.pair == nil {
		return
	}
	if m.runPage.running() {
		m.fail("A run is under way already: see step 6.")
		return
	}
	size, wish := m.pair.Plan.Layout.Size, m.fitWish()
	m.prompt.askPath("New image file for the rehearsal: ", "", func(path string) {
		if path = strings.TrimSpace(path); path == "" {
			return
		}
		w, ctx := m.w, m.ctx
		m.prompt.pending = func() tea.Msg {
			p, err := w.PlanExport(ctx, o, path, size, wish, nil)
			if err != nil {
				return told{err: err}
			}
			return startRun{func() tea.Cmd {
				return m.startRestore([]*workshop.Pair{p}, "Cancelling leaves an image file that is written in "+
					"part.", "Cancelling leaves the image file written, and not proven.")
			}}
		}
	})
}

// startRestore writes the targets of some pairs and proves them.
func (m *fitPage) startRestore(pairs []*workshop.Pair, stopped, proving string) tea.Cmd {
	r, proof := m.w.StartRestore(m.ctx, pairs)
	w := work{run: r, stopped: stopped, proving: proving, on: byRails(2), after: func(s run.Snapshot) tea.Cmd {
		var targets []string
		for _, p := range pairs {
			targets = append(targets, p.Target.Path)
		}
		m.proofPage.take(proof(), targets)
		return m.welcomePage.offerEntry(s, targets)
	}}
	for _, p := range pairs {
		w.lanes = append(w.lanes, lanesOf(m.th, p).nowWriting())
		w.targets = append(w.targets, p.Target.Path)
	}
	return m.runPage.start(w)
}

// lanes are what is read and what becomes of the target, with what will be lost on it.
func (m *fitPage) lanes() lanes {
	o, ok := m.origin()
	switch {
	case !ok:
		return lanes{up: nothing(reading(m.th, ""), "nothing is chosen"), down: nothing(writing(m.th, ""), "nothing")}
	case m.target != nil && m.runPage.writesTo(m.target.Path):
		return lanes{up: readsOf(m.th, o), down: underWay(m.model, m.target)}
	case m.pair != nil && m.restoreErr == nil:
		return lanesOf(m.th, m.pair)
	}
	ls := lanes{up: readsOf(m.th, o), down: nothing(writing(m.th, ""), "nothing yet: t chooses the disk that "+
		"would be written")}
	if m.target != nil {
		ls.down = writing(m.th, isNow).ofDisk(m.target).overwriting(m.target)
	}
	return ls
}

// readsOf is the lane of what is read.
func readsOf(th theme, o workshop.Origin) lane {
	if o.Bench != nil {
		return reading(th, isNow).ofDisk(o.Bench)
	}
	return reading(th, "").ofTwin(o.Twin, o.Disk)
}

// lanesOf are the lanes of a plan.
func lanesOf(th theme, p *workshop.Pair) lanes {
	down := plannedLane(writing(th, willBe), p).overwriting(p.Target)
	return lanes{up: readsOf(th, p.Origin), down: down, lost: lostOn(p.Target), joined: true}
}

// plannedLane puts the disk as it is planned onto a lane: the parts where the plan puts them.
func plannedLane(l lane, p *workshop.Pair) lane {
	l.id, l.where, l.tense = p.Target.Identity, shortPath(p.Target.Path), willBe
	for _, q := range twinParts(p.Describe()) {
		for _, x := range p.Plan.Layout.Parts {
			if x.Part.Number == q.number {
				q.span = x.To
			}
		}
		if !q.span.Empty() {
			l.parts = append(l.parts, q)
		}
	}
	if a := p.Plan.Added; a != nil {
		l.parts = append(l.parts, railPart{a.Part.Span, a.Part.Number, a.Label + " (new)", table.RoleData, 0, true})
	}
	return l
}
