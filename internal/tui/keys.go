package tui

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
)

func (m *prompt) onPaste(msg tea.PasteMsg) tea.Cmd {
	switch {
	case m.lastPage.confirm != nil:
		return nil // the last check is typed, not pasted
	case m.typing != nil:
		return m.typeOn(msg)
	}
	return nil
}

// typeOn gives the line that is being typed a key or a pasted text, and shows what it would come to.
func (m *prompt) typeOn(msg tea.Msg) tea.Cmd {
	t, cmd := m.typing.Update(msg)
	*m.typing = t
	if m.live != nil {
		m.live(m.typing.Value())
		if m.step == stepDates {
			cmd = tea.Batch(cmd, m.replan())
		}
	}
	return cmd
}

// aim puts a disk on the lower rail, if it may be written at all.
func (m *benchPage) aim(d *bench.Disk) {
	switch {
	case d.Survey == nil:
		m.fail(d.Identity.Model + ": " + d.Words())
	case d.Reach != "":
		m.fail(d.Identity.Model + " is out of reach: " + d.Reach + ".")
	case m.source != nil && !m.fromTwin && m.source.Path == d.Path:
		m.fail(d.Identity.Model + " is the disk that is read; choose another target.")
	default:
		m.target = d
		m.say("%s would be written. Nothing is written before you confirm.", d.Identity.Model)
	}
}

// ask lets a line be typed at the bottom.
func (m *prompt) ask(label, now string, then func(string)) {
	m.typing = newInput(label, max(10, m.wide-len(label)-4))
	m.typing.SetValue(now)
	m.typed = then
}

func (m *datesPage) nextDisk() {
	if t := m.twin(); t != nil {
		m.twinDisk = (m.twinDisk + 1) % len(t.Disks)
	}
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
		m.fail("A run is on already: see step 6.")
		return nil
	}
	r, result := m.w.StartProofTwin(m.ctx, m.twin())
	return m.runPage.start(r, "Cancelling changes nothing.", func(s run.Snapshot) tea.Cmd {
		return m.proofPage.showProof(s, result())
	})
}

func (m *proofPage) showProof(s run.Snapshot, p *shelf.Proof) tea.Cmd {
	if s.State == run.Done && p != nil {
		m.proof = p
		return m.goTo(stepProof)
	}
	return nil
}

// nextTarget goes to the next disk that may be written: blank ones come first, and the disk that is read never.
func (m *fitPage) nextTarget() {
	var may []*bench.Disk
	for _, blank := range []bool{true, false} {
		for _, d := range m.disks {
			if _, several := m.several(); d.Reach != "" || d.Survey == nil || m.step == stepFit && several &&
				m.taken(m.datesPage.twinDisk, d) {
				continue
			}
			if reads := m.step == stepFit && m.copying && m.source != nil && m.source.Path == d.Path; !reads &&
				d.Survey.Blank() == blank {
				may = append(may, d)
			}
		}
	}
	if len(may) == 0 {
		return
	}
	at := slices.IndexFunc(may, func(d *bench.Disk) bool { return m.target != nil && d.Path == m.target.Path })
	m.target = may[(at+1)%len(may)]
}

// bindings of the last page: the text must be typed right before Enter does anything.
func (m *lastPage) bindings() []binding {
	return []binding{
		{"enter", "Enter", "write", "only when the text is right", leads(m.agree)},
		{"esc", "Esc", "back, nothing is written", "", acts(func() {
			m.confirm, m.summary = nil, nil
			m.say("Nothing was written.")
		})},
		{"up pgup down pgdown", "↑↓", "read on", "", func(k string) tea.Cmd {
			m.scroll = max(0, m.scroll+map[string]int{"down": 1, "pgdown": 1, "up": -1, "pgup": -1}[k])
			return nil
		}},
	}
}

// agree goes on when what was typed is what stands on the target.
func (m *lastPage) agree() tea.Cmd {
	if !strings.EqualFold(strings.TrimSpace(m.confirm.Value()), m.summary.Confirm) {
		m.fail("That is not " + m.summary.What + ". Nothing was written.")
		return nil
	}
	m.confirm, m.summary = nil, nil
	if m.target != nil && m.step != stepDates {
		m.proofPage.written = m.target.Path
	}
	return m.goAhead()
}

func (m *lastPage) typeOn(msg tea.Msg) tea.Cmd {
	t, cmd := m.confirm.Update(msg)
	*m.confirm = t
	return cmd
}

// bindings while a line is typed.
func (m *prompt) bindings() []binding {
	return []binding{{"enter", "Enter", "take it", "", leads(m.take)}, {"esc", "Esc", "leave it", "", leads(m.leave)}}
}

// take does what the line was typed for.
func (m *prompt) take() tea.Cmd {
	text, then := m.typing.Value(), m.typed
	m.typing, m.live = nil, nil
	m.readyPage.ready.leaveTyping()
	then(text) // may ask for the next thing
	cmd := m.pending
	m.pending = nil
	return tea.Batch(cmd, m.replan())
}

func (m *prompt) leave() tea.Cmd {
	m.typing, m.live, m.datesPage.wished = nil, nil, nil
	m.readyPage.ready.leaveTyping()
	return m.replan()
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

func (m *runPage) bindings() []binding {
	if !m.running() {
		return []binding{m.scrolled()}
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
		return []binding{m.scrolled()}
	}
	return []binding{{"c", "c", "what came back", "compare the newest date of the machine with the disk that was " +
		"restored: what came back, what is gone", leads(m.diffPane.compareProven)}, m.scrolled()}
}

func (m *runPage) opened() { m.menus.askWaiting() }
