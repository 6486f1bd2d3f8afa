package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
)

func (m *datesPage) nextDisk() {
	t := m.twin()
	if t == nil || len(t.Disks) < 2 {
		m.say("The machine has one disk.")
		return
	}
	m.twinDisk = (m.twinDisk + 1) % len(t.Disks)
}

func (m *datesPage) jumpTo(text string) {
	text = strings.TrimSpace(text)
	b := &m.boards[m.board]
	for i := len(b.twins) - 1; i >= 0; i-- {
		if text != "" && strings.Contains(b.twins[i].Taken.Format("2006-01-02 15:04"), text) {
			b.at = i
			return
		}
	}
	m.fail("No twin of " + b.machine + " has the date " + text + ".")
}

func (m *datesPage) prove() tea.Cmd {
	if m.runPage.running() {
		m.fail("A run is under way already: see step 6.")
		return nil
	}
	t := m.twin()
	r, result := m.w.StartProofTwin(m.ctx, t)
	w := work{run: r, stopped: "Cancelling changes nothing.", after: func(run.Snapshot) tea.Cmd {
		m.proofPage.take(result(), nil)
		return nil
	}}
	for i := range t.Disks {
		w.lanes = append(w.lanes, lanes{up: reading(m.th, "").ofTwin(t, i),
			down: nothing(writing(m.th, ""), "nothing but the proof, which is kept with the twin")})
	}
	w.on = byRails(1)
	return m.runPage.start(w)
}

// byRails says which disk a run is at that goes over each so many times, one disk after the other.
func byRails(times int) func(run.Snapshot) int {
	return func(s run.Snapshot) int { return (s.RailNo - 1) / times }
}

// show makes it the proof that is shown, with the paths of the targets that it is of.
func (m *proofPage) show(p *shelf.Proof, targets []string) {
	m.proof, m.written, m.several, m.diff = p, "", len(targets) > 1, nil
	if len(targets) > 0 {
		m.written = targets[len(targets)-1]
	}
}

// take keeps the proof that a run came to, and announces it; it opens by its number.
func (m *proofPage) take(p *shelf.Proof, targets []string) {
	if p == nil {
		return
	}
	m.show(p, targets)
	text := m.runPage.snap.Title + ": done, " + p.Words() + ". Press 7 for the proof."
	if !p.Holds() {
		m.fail(text)
		return
	}
	m.say("%s", text)
}

func (m *runPage) leavingBindings() []binding { // Enter is pressed too easily
	return []binding{
		{"y", "y", "cancel the run and leave", "", leads(func() tea.Cmd {
			m.run.Cancel()
			return tea.Quit
		})},
		{"n esc q", "n", "stay", "", acts(func() { m.leaving = false })},
	}
}

func (m *runPage) endingBindings() []binding {
	return []binding{
		{"y", "y", "cancel the run", "", acts(func() {
			m.ending = false
			m.run.Cancel()
			m.say("Cancelling: the run stops at the next block.")
		})},
		{"n esc c", "n", "let it go on", "", acts(func() { m.ending = false })},
	}
}

// savedCapture is offered after a capture.
func savedCapture(m *model) []binding {
	if len(chosenDisks(m)) == 0 || m.capturePage.machine == "" {
		return nil
	}
	return []binding{{"N", "N", "as routine", "save the capture as a routine that happens by itself",
		leads(func() tea.Cmd { return saveCapture(m.routinesPage) })}}
}

func (m *runPage) bindings() []binding {
	if !m.running() {
		return append(savedCapture(m.model), m.scrolled())
	}
	return m.onBindings()
}

// onBindings are for a run that is on.
func (m *runPage) onBindings() []binding {
	return []binding{
		{"space", "Space", "pause", "pause, or go on", acts(func() {
			m.run.TogglePause()
			m.snap = m.run.Snapshot()
		})},
		{"c", "c", "cancel", "cancel the run", acts(func() { m.ending = true })},
	}
}

func (m *proofPage) bindings() []binding {
	if m.written == "" {
		return append(savedCapture(m.model), m.scrolled())
	}
	why := ""
	if m.diff == nil || !m.diff.done || m.diff.err != nil {
		why = "Nothing is compared yet. Any two dates are compared by c while one is looked into (4, then i)."
	}
	return []binding{m.unless(why, binding{"c", "c", "what came back", "list what came back and what is gone, " +
		"against the newest date of the machine", leads(m.diffPane.showComparison)}), m.scrolled()}
}

func (m *runPage) opened() {
	m.unseen = false
	m.menus.askWaiting()
}
