package tui

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
)

// binding is one key of the present screen: what the bottom line and the help show.
type binding struct{ key, does, more string }

// bindings are the keys that work now.
func (m *model) bindings() []binding {
	switch {
	case m.leaving:
		return []binding{{"y", "cancel the run and leave", ""}, {"n", "stay", ""}}
	case m.ending:
		return []binding{{"y", "cancel the run", ""}, {"n", "let it go on", ""}}
	case m.confirm != nil:
		return []binding{{"Enter", "write", "only when the text is right"}, {"Esc", "back, nothing is written", ""},
			{"↑↓", "read on", ""}}
	case m.typing != nil:
		return []binding{{"Enter", "take it", ""}, {"Esc", "leave it", ""}}
	case m.menu != nil:
		return m.menu.bindings()
	case m.help:
		return []binding{{"Esc", "close the help", ""}}
	}
	var b []binding
	switch m.step {
	case stepReady:
		b = m.readyBindings()
	case stepBench:
		b = []binding{{"↑↓", "disk", "choose a disk"}, {"Enter", "capture", "capture the machine of this disk"},
			{"r", "reads", "put this disk on the READS rail"},
			{"c", "copy", "copy this disk onto another one directly"},
			{"w", "writes", "put this disk on the WRITES rail; nothing is written yet"},
			{"e", "ready", "make this disk ready: lay it out, format, erase"},
			{"p", "padlock", "put this disk out of reach, or back; remembered"},
			{"i", "inside", "look inside: folders and files of this disk"},
			{"m", "mount", "mount a part of this disk read-only, or unmount it (as root)"},
			{"a", "look again", "look at all disks again"}}
	case stepCapture:
		b = []binding{{"↑↓", "row", "choose a disk or a part"},
			{"Space", "in or out", "capture this disk or part, or leave it out"}, {"n", "name", "name the machine"},
			{"o", "trust", "what isn't read again: what ext's records prove unchanged, nothing, or also what " +
				"NTFS's say"}, {"u", "not quiet", "capture although a part is in use or wasn't shut down cleanly"},
			{"Enter", "start", "start the capture"}}
	case stepDates:
		b = m.datesBindings()
	case stepFit:
		b = m.fitBindings()
	case stepProof:
		if m.written != "" {
			b = []binding{{"c", "what came back", "compare the newest date of the machine with the disk that was " +
				"restored: what came back, what is gone"}}
		}
	case stepInside:
		b = m.insideBindings()
	case stepRun:
		if m.running() {
			b = []binding{{"Space", "pause", "pause, or go on"}, {"c", "cancel", "cancel the run"}}
		}
	}
	b = append(b, binding{"1–8", "steps", "open a step"})
	if l := &m.inside; m.step != stepInside || l.viewing == nil && l.finding == nil && l.diffing == nil {
		b = append(b, binding{"Esc", "back", "to the step before"})
	}
	return append(b, binding{"?", "help", "this page"}, binding{"q", "leave", "asks only while a run is on"})
}

func (m *model) onPaste(msg tea.PasteMsg) tea.Cmd {
	switch {
	case m.confirm != nil:
		return nil // the last check is typed, not pasted
	case m.typing != nil:
		return m.typeOn(msg)
	}
	return nil
}

// typeOn gives the line that is being typed a key or a pasted text, and shows what it would come to.
func (m *model) typeOn(msg tea.Msg) tea.Cmd {
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

func (m *model) onKey(msg tea.KeyPressMsg) tea.Cmd {
	k := msg.String()
	if k == "ctrl+c" {
		return m.quit()
	}
	if cmd, done := m.keyAsked(msg, k); done {
		return cmd
	}
	if m.holds(msg) {
		return nil
	}
	m.ready.goOn, m.fit.goOn = false, false
	if len(k) == 1 && k[0] >= '1' && k[0] <= '8' {
		return m.goTo(step(k[0] - '1'))
	}
	if m.step == stepInside && k != "?" {
		if cmd, done := m.keyInside(k); done {
			return cmd
		}
	}
	if cmd, done := m.keyAnywhere(k); done {
		return cmd
	}
	return m.keyStep(k)
}

// keyAsked takes a key while something is asked, typed or shown over the step.
func (m *model) keyAsked(msg tea.KeyPressMsg, k string) (cmd tea.Cmd, done bool) {
	switch {
	case m.leaving:
		switch k { // Enter is pressed too easily
		case "y":
			m.run.Cancel()
			return tea.Quit, true
		case "n", "esc", "q":
			m.leaving = false
		}
		return nil, true
	case m.ending:
		switch k {
		case "y":
			m.ending = false
			m.run.Cancel()
			m.say("Cancelling: the run stops at the next block.")
		case "n", "esc", "c":
			m.ending = false
		}
		return nil, true
	case m.confirm != nil:
		return m.keyConfirm(msg), true
	case m.typing != nil:
		return m.keyTyping(msg), true
	case m.menu != nil:
		return m.keyMenu(k), true
	case m.help:
		if k == "esc" || k == "?" || k == "q" || k == "enter" {
			m.help = false
		}
		return nil, true
	}
	return nil, false
}

// keyAnywhere takes a key that does the same in every step.
func (m *model) keyAnywhere(k string) (cmd tea.Cmd, done bool) {
	switch k {
	case "?":
		m.help = true
		return nil, true
	case "q":
		return m.quit(), true
	case "esc":
		if m.step == stepDates && m.growing {
			return m.keyGrowth(k), true
		}
		if m.step == stepDates && m.thin != nil {
			m.thin, m.goes, m.wished = nil, nil, nil
			return nil, true
		}
		return m.back(), true
	case "i":
		if m.step == stepBench || m.step == stepDates {
			return m.insideFrom(), true
		}
	case "tab":
		if m.step == stepInside {
			return m.goTo((m.inside.from + 1) % step(len(stepNames))), true
		}
		return m.goTo((m.step + 1) % step(len(stepNames))), true
	case "shift+tab":
		if m.step == stepInside {
			return m.goTo(m.inside.from), true
		}
		return m.goTo((m.step + step(len(stepNames)) - 1) % step(len(stepNames))), true
	case "pgdown":
		m.scroll += 5
		return nil, true
	case "pgup":
		m.scroll = max(0, m.scroll-5)
		return nil, true
	}
	return nil, false
}

func (m *model) keyStep(k string) tea.Cmd {
	switch m.step {
	case stepBench:
		return m.keyBench(k)
	case stepReady:
		return m.keyReady(k)
	case stepCapture:
		return m.keyCapture(k)
	case stepDates:
		return m.keyDates(k)
	case stepFit:
		return m.keyFit(k)
	case stepRun:
		return m.keyRun(k)
	case stepProof:
		if k == "c" {
			return m.compareProven()
		}
		return m.keyScroll(k)
	}
	return nil
}

// back goes to the step before.
func (m *model) back() tea.Cmd {
	n := len(m.before)
	if n == 0 {
		return nil
	}
	s := m.before[n-1]
	m.before = m.before[:n-1]
	return m.enter(s)
}

func (m *model) keyScroll(k string) tea.Cmd {
	switch k {
	case "down", "j":
		m.scroll++
	case "up", "k":
		m.scroll = max(0, m.scroll-1)
	}
	return nil
}

func moved(k string, at, n int) int {
	switch k {
	case "down", "j":
		at++
	case "up", "k":
		at--
	case "home", "g":
		at = 0
	case "end", "G":
		at = n - 1
	}
	return max(0, min(at, n-1))
}

func (m *model) keyBench(k string) tea.Cmd {
	if k == "a" {
		m.say("Looking again.")
		return m.look()
	}
	if len(m.disks) == 0 {
		return nil
	}
	m.cursor = moved(k, m.cursor, len(m.disks))
	d := m.disks[m.cursor]
	switch k {
	case "r", "c", "enter":
		if d.Survey == nil {
			m.fail(d.Identity.Model + ": " + d.Words())
			return nil
		}
		if m.target != nil && m.target.Path == d.Path {
			m.target = nil
		}
		m.source, m.fromTwin, m.copying = d, false, k == "c"
		switch k {
		case "enter":
			return m.goTo(stepCapture)
		case "c":
			return m.goTo(stepFit)
		}
		m.say("%s is read.", d.Identity.Model)
	case "w":
		m.aim(d)
	case "e":
		if m.aim(d); m.target == d {
			return m.goTo(stepReady)
		}
	case "m":
		return m.mountDisk(d)
	case "p":
		if err := m.w.ToggleReach(d.Identity); err != nil {
			m.fail(err.Error())
			return nil
		}
		if m.target != nil && m.target.Path == d.Path {
			m.target = nil
		}
		return m.look()
	}
	return nil
}

// aim puts a disk on the lower rail, if it may be written at all.
func (m *model) aim(d *bench.Disk) {
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
func (m *model) ask(label, now string, then func(string)) {
	m.typing = newInput(label, max(10, m.wide-len(label)-4))
	m.typing.SetValue(now)
	m.typed = then
}

func (m *model) keyTyping(msg tea.KeyPressMsg) tea.Cmd {
	switch msg.String() {
	case "enter":
		text, then := m.typing.Value(), m.typed
		m.typing, m.live = nil, nil
		m.ready.leaveTyping()
		then(text) // may ask for the next thing
		cmd := m.pending
		m.pending = nil
		return tea.Batch(cmd, m.replan())
	case "esc":
		m.typing, m.live, m.wished = nil, nil, nil
		m.ready.leaveTyping()
		return m.replan()
	}
	return m.typeOn(msg)
}

// manyDates is how far a page key goes along the dates.
const manyDates = 20

func (m *model) keyDates(k string) tea.Cmd {
	if k == "o" && m.running() {
		m.fail("A run is on already: see step 6.")
		return nil
	} else if k == "o" {
		m.offerShelves("Open which shelf? Dates come from it and captures go to it", m.use)
		return nil
	}
	if len(m.boards) == 0 {
		return nil
	}
	if m.growing {
		return m.keyGrowth(k)
	}
	b := &m.boards[m.board]
	switch k {
	case "g":
		m.growing, m.scroll = true, 0
	case "up", "k", "down", "j", "home", "end":
		m.board, m.twinDisk = moved(k, m.board, len(m.boards)), 0
	case "left", "h":
		b.at = max(0, b.at-1)
	case "right", "l":
		b.at = min(len(b.twins)-1, b.at+1)
	case "[":
		b.at = max(0, b.at-manyDates)
	case "]":
		b.at = min(len(b.twins)-1, b.at+manyDates)
	case "d":
		m.nextDisk()
	case "/":
		m.ask("Date, such as 2026-10: ", "", m.jumpTo)
	case "enter":
		if m.thin != nil {
			return m.dropThinned()
		}
		m.fromTwin, m.copying = true, false
		return m.goTo(stepFit)
	case "v":
		return m.prove()
	case "t", "r", "f", "x", "s", "c", "m", "p":
		return m.keyKeeping(k)
	case "e":
		t := m.twin()
		if p := b.proofs[t.ID]; len(p) > 0 {
			m.proof = p[0]
			return m.goTo(stepProof)
		}
		if n := b.unread[t.ID]; n > 0 {
			m.say("%s", unreadProofs(n))
			return nil
		}
		m.say("This twin has not been proven yet: press v.")
	}
	return nil
}

func (m *model) nextDisk() {
	if t := m.twin(); t != nil {
		m.twinDisk = (m.twinDisk + 1) % len(t.Disks)
	}
}

func (m *model) jumpTo(text string) {
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

func (m *model) prove() tea.Cmd {
	if m.running() {
		m.fail("A run is on already: see step 6.")
		return nil
	}
	r, result := m.w.StartProofTwin(m.ctx, m.twin())
	return m.start(r, "Cancelling changes nothing.", func(s run.Snapshot) tea.Cmd { return m.showProof(s, result()) })
}

func (m *model) showProof(s run.Snapshot, p *shelf.Proof) tea.Cmd {
	if s.State == run.Done && p != nil {
		m.proof = p
		return m.goTo(stepProof)
	}
	return nil
}

// nextTarget goes to the next disk that may be written: blank ones come first, and the disk that is read never.
func (m *model) nextTarget() {
	var may []*bench.Disk
	for _, blank := range []bool{true, false} {
		for _, d := range m.disks {
			if _, several := m.several(); d.Reach != "" || d.Survey == nil || m.step == stepFit && several &&
				m.taken(m.twinDisk, d) {
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

// keyConfirm is the last page: the text must be typed right before Enter does anything.
func (m *model) keyConfirm(msg tea.KeyPressMsg) tea.Cmd {
	switch msg.String() {
	case "down", "pgdown":
		m.scroll++
		return nil
	case "up", "pgup":
		m.scroll = max(0, m.scroll-1)
		return nil
	case "esc":
		m.confirm, m.summary = nil, nil
		m.say("Nothing was written.")
		return nil
	case "enter":
		if !strings.EqualFold(strings.TrimSpace(m.confirm.Value()), m.summary.Confirm) {
			m.fail("That is not " + m.summary.What + ". Nothing was written.")
			return nil
		}
		m.confirm, m.summary = nil, nil
		if m.target != nil && m.step != stepDates {
			m.written = m.target.Path
		}
		return m.goAhead()
	}
	t, cmd := m.confirm.Update(msg)
	*m.confirm = t
	return cmd
}

func (m *model) keyRun(k string) tea.Cmd {
	if !m.running() {
		return m.keyScroll(k)
	}
	switch k {
	case "space":
		m.run.TogglePause()
		m.snap = m.run.Snapshot()
	case "c":
		m.ending = true
	}
	return nil
}
