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
	"twinshelf/internal/workshop"
)

// pairing is which disk of a machine goes onto which target.
type pairing struct {
	of     string         // the twin
	target map[int]string // paths of targets, by the disk of the twin; "" leaves it out
	wish   map[string]plan.Wish
	run    []*workshop.Pair // what the run writes, when there are several
}

// paired are the plans for all disks that have a target.
type paired struct {
	pairs []*workshop.Pair
	err   error
}

// origin is what the Fit step is about; false when there is nothing.
func (m *fitPage) origin() (workshop.Origin, bool) {
	if m.copying {
		return workshop.Origin{Bench: m.source}, m.source != nil && m.source.Survey != nil
	}
	t := m.datesPage.twin()
	if t == nil {
		return workshop.Origin{}, false
	}
	return workshop.Origin{Twin: t, Disk: min(m.datesPage.twinDisk, len(t.Disks)-1)}, true
}

func originKey(o workshop.Origin) string {
	if o.Bench != nil {
		return o.Bench.Path
	}
	return fmt.Sprint(o.Twin.ID, " ", o.Disk)
}

func (m *fitPage) setWish(w plan.Wish) {
	if m.fit.wish = w; m.pairing.wish == nil {
		m.pairing.wish = map[string]plan.Wish{}
	}
	m.pairing.wish[m.fit.of] = w
}

// several says that the twin has more than one disk, so that each gets a target of its own.
func (m *fitPage) several() (*shelf.Twin, bool) {
	t := m.datesPage.twin()
	if m.copying || t == nil || len(t.Disks) < 2 {
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
	if m.copying && m.target != nil && m.source != nil && m.target.Path == m.source.Path {
		m.target = nil
	}
	if !several || m.looking > 0 {
		return
	}
	if len(m.pairing.target) == 0 {
		if m.target != nil { // chosen on the Bench before
			m.pairing.target[m.datesPage.twinDisk] = m.target.Path
		}
		for i, d := range bench.Propose(t, m.disks) {
			if _, chosen := m.pairing.target[i]; !chosen && d != nil && !m.taken(i, d) {
				m.pairing.target[i] = d.Path
			}
		}
	}
	m.target = m.targetOf(m.datesPage.twinDisk)
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
	m.pairing.target[m.datesPage.twinDisk] = ""
	if d != nil {
		m.pairing.target[m.datesPage.twinDisk] = d.Path
	}
}

// pairLines say for a machine with several disks what goes where.
func (m *fitPage) pairLines(w int) []string {
	t, several := m.several()
	if !several {
		return nil
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
		if i == m.datesPage.twinDisk {
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
		m.fail("A run is on already: see step 6.")
		return nil
	}
	t, several := m.several()
	switch {
	case m.pair == nil && m.target != nil && m.restoreErr == nil:
		m.fit.goOn = true
		m.say("Working out what goes where; the last page opens when that is done.")
		return nil
	case m.pair == nil && (!several || m.target != nil):
		m.fail("There is no plan that could be carried out.")
		return nil
	case !several:
		return m.onPaired(paired{pairs: []*workshop.Pair{m.pair}})
	}
	w, current, first := m.w, m.pair, m.datesPage.twinDisk
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
	var page func(i int) tea.Cmd
	page = func(i int) tea.Cmd {
		if i == len(pairs) {
			r, proof := m.w.StartRestore(m.ctx, pairs)
			cmd := m.runPage.start(r, "While it is written, cancelling leaves the target without a table, and "+
				"started again it goes on; while it is read back, nothing is lost.", func(s run.Snapshot) tea.Cmd {
				return m.proofPage.showProof(s, proof())
			})
			if len(pairs) > 1 {
				m.pairing.run = pairs
				m.followPairs()
			}
			return cmd
		}
		s := summaries[i]
		if len(pairs) > 1 {
			s.Head = fmt.Sprintf("target %d of %d: ", i+1, len(pairs)) + s.Head
			show(m.model, pairs[i])
		}
		m.lastPage.lastPage(s, func() tea.Cmd { return page(i + 1) })
		return nil
	}
	return page(0)
}

// lastPage shows what is about to be done and waits for the confirmation.
func (m *lastPage) lastPage(s workshop.Summary, goAhead func() tea.Cmd) {
	m.summary, m.goAhead, m.outcome, m.confirm, m.scroll = &s, goAhead, nil, newInput("", 24), 0
	m.note = ""
}

// askExport asks for a file to write the planned disk into.
func (m *fitPage) askExport() {
	o, ok := m.origin()
	if !ok || m.pair == nil {
		return
	}
	if m.runPage.running() {
		m.fail("A run is on already: see step 6.")
		return
	}
	size, wish := m.pair.Plan.Layout.Size, m.fitWish()
	m.prompt.ask("New image file for the rehearsal: ", "", func(path string) {
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
				r, proof := w.StartRestore(ctx, []*workshop.Pair{p})
				return m.runPage.start(r, "Cancelling leaves an image file that is written in part.",
					func(s run.Snapshot) tea.Cmd {
						return m.proofPage.showProof(s, proof())
					})
			}}
		}
	})
}

// show puts a pair onto the rails.
func show(m *model, p *workshop.Pair) {
	m.datesPage.twinDisk, m.target, m.fitPage.pair, m.proofPage.written = p.Disk, p.Target, p, p.Target.Path
}

// followPairs keeps on the rails what a run over several disks is at.
func (m *fitPage) followPairs() {
	n := len(m.pairing.run)
	if n < 2 || m.runPage.snap.PhaseNo == 0 {
		return
	}
	each := len(m.runPage.snap.Phases) / n
	p := m.pairing.run[min(n-1, (m.runPage.snap.PhaseNo-1)/each)]
	if !strings.HasPrefix(m.runPage.snap.Phase, fmt.Sprintf("disk %d", p.Disk+1)) || m.step != stepRun {
		return
	}
	show(m.model, p)
}
