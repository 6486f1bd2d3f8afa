package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
)

// Disks that are attached or taken away while the program runs. Run asks for a look every few seconds; listing reads
// nothing from any disk.
type (
	// lookForNew asks what is attached now.
	lookForNew struct{}
	// seenNow is the answer.
	seenNow struct{ disks []*bench.Disk }
)

// onNews takes what was found out about disks beside what is on them.
func (m *benchPage) onNews(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case lookForNew:
		m.welcomePage.news()
		return tea.Batch(m.lookAround(), m.routinesPage.lookAround(), m.welcomePage.net.lookNet())
	case seenNow:
		return m.onSeen(msg.disks)
	case changed:
		m.onChanged(msg)
	}
	return nil
}

// lookAround lists the bench in the background, unless it is being looked at anyway.
func (m *benchPage) lookAround() tea.Cmd {
	if m.looking > 0 {
		return nil
	}
	b := m.w.Bench
	return func() tea.Msg { return seenNow{b.List()} }
}

// onSeen takes in what came and lets go of what went; what stayed isn't looked at again.
func (m *benchPage) onSeen(now []*bench.Disk) tea.Cmd {
	if m.looking > 0 {
		return nil
	}
	was := map[string]*bench.Disk{}
	for _, d := range m.disks {
		was[d.Path] = d
	}
	at := m.chosen()
	var disks []*bench.Disk
	var cmds []tea.Cmd
	for _, d := range now {
		old := was[d.Path]
		if old != nil && old.Identity.Size == d.Identity.Size && stickerKey(old.Identity) == stickerKey(d.Identity) {
			disks = append(disks, old)
			delete(was, d.Path)
			continue
		}
		disks = append(disks, d)
		m.came = append(m.came, d.Path)
		cmds = append(cmds, m.probe(d))
	}
	if len(cmds) == 0 && len(was) == 0 {
		return nil
	}
	var gone []string
	for _, d := range was {
		gone = append(gone, stickerEnd(d.Identity))
		delete(m.facts, d.Path)
		delete(m.probed, d.Path)
	}
	m.disks = disks
	m.source, m.target = m.again(m.source), m.again(m.target)
	m.stayOn(at)
	m.arrange()
	if len(gone) > 0 {
		m.say("Taken away: %s.", strings.Join(gone, ", "))
		cmds = append(cmds, m.welcomePage.letGo())
	}
	return tea.Batch(cmds...)
}

// lookAtAll lists the bench and probes all disks, changed or not.
func (m *benchPage) lookAtAll() tea.Cmd {
	clear(m.probed)
	return m.look()
}

// learn keeps what is known of a disk beside what is on it: what was compared counts on where nothing was written.
func (m *benchPage) learn(msg probed) {
	f, old := msg.facts, m.facts[msg.disk.Path]
	if was := m.probed[msg.disk.Path]; was != nil && was.Survey == msg.disk.Survey {
		f.compared, f.changed = old.compared, old.changed
	}
	m.facts[msg.disk.Path] = f
}

// announce says what a disk that was just attached could be, once it was looked at.
func (m *benchPage) announce(d *bench.Disk) {
	for i, path := range m.came {
		if path != d.Path {
			continue
		}
		m.came = append(m.came[:i:i], m.came[i+1:]...)
		m.newest = d.Path
		m.say("Attached: %s, %s. On the Bench n goes to it: %s.", stickerEnd(d.Identity), m.isNew(d), m.couldBe(d))
		return
	}
}

// isNew says what the disk is.
func (m *benchPage) isNew(d *bench.Disk) string {
	if o := m.datesPage.owners.of(d); o.machine != "" {
		return o.words()
	}
	return d.Words()
}

// couldBe says what is usually done with such a disk, by its keys.
func (m *benchPage) couldBe(d *bench.Disk) string {
	switch o := m.datesPage.owners.of(d); {
	case d.Survey == nil, d.Reach != "":
		return "there it says why it can't be used"
	case o.machine != "":
		return "Enter captures it, i looks inside"
	case d.Survey.Blank():
		return "w takes it as target, e makes it ready as a storage drive"
	}
	return "Enter captures it, i looks inside, w takes it as target"
}

// newestBinding goes to the disk that was attached last.
func (m *benchPage) newestBinding() binding {
	why := "No disk was attached since the program began."
	at := -1
	for i, d := range m.disks {
		if d.Path == m.newest {
			why, at = "", i
		}
	}
	return m.unless(why, binding{"n", "n", "the new one", "go to the disk that was attached last", acts(func() {
		m.cursor = at
		m.note = fmt.Sprintf("%s: %s.", stickerEnd(m.disks[at].Identity), m.couldBe(m.disks[at]))
	})})
}
