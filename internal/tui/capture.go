package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/capture"
	"twinshelf/internal/run"
	"twinshelf/internal/workshop"
)

func (m *model) keyCapture(k string) tea.Cmd {
	rows := m.captureRows()
	if len(rows) > 0 {
		m.row = moved(k, m.row, len(rows))
	}
	switch k {
	case "space":
		if len(rows) == 0 {
			return nil
		}
		r := rows[m.row]
		if r.part == 0 {
			m.chosen[r.disk.Path] = !m.chosen[r.disk.Path]
		} else {
			if m.leaveOut[r.disk.Path] == nil {
				m.leaveOut[r.disk.Path] = map[int]bool{}
			}
			m.leaveOut[r.disk.Path][r.part] = !m.leaveOut[r.disk.Path][r.part]
		}
		return m.replan()
	case "n":
		m.ask("Name of the machine: ", m.machine, func(s string) { m.machine = strings.TrimSpace(s) })
	case "o":
		m.trust = m.trust.Next()
		return m.replan()
	case "u":
		m.unquiet = !m.unquiet
	case "enter":
		return m.startCapture()
	}
	return nil
}

func (m *model) startCapture() tea.Cmd {
	switch {
	case m.running():
		m.fail("A run is on already: see step 6.")
	case m.w.Shelf == nil:
		m.fail(workshop.ErrNoShelf.Error())
	case m.plan == nil:
		m.fail("There is nothing to capture yet: choose a disk on the Bench.")
	case m.machine == "":
		m.ask("Name of the machine: ", "", func(s string) { m.machine = strings.TrimSpace(s) })
	case len(m.plan.Warnings()) > 0 && !m.unquiet:
		m.fail("Not everything is quiet: read the warnings, then press u to capture it as it is.")
	default:
		p := m.plan
		p.Machine = m.machine
		if err := p.Check(m.ctx); err != nil {
			m.fail(err.Error())
			return nil
		}
		if doubts := p.Doubts(m.ctx); len(doubts) > 0 {
			m.offerDoubts(doubts)
			return nil
		}
		return m.capture()
	}
	return nil
}

// offerDoubts asks for a yes to what may be a mistake.
func (m *model) offerDoubts(doubts []capture.Doubt) {
	n := menu{title: "Capture all the same?", choices: []choice{
		{name: "no", about: "look at the disks and the name again"},
		{name: "yes", about: "capture these disks under this name"}}}
	for _, d := range doubts {
		for _, l := range wrap("! "+d.Says, m.wide-2) {
			n.above = append(n.above, " "+m.th.caution.Render(l))
		}
	}
	n.above = append(n.above, "")
	n.then = func(chosen []int) tea.Cmd {
		if chosen[0] == 1 {
			return m.capture()
		}
		return nil
	}
	m.offer(n)
}

// capture begins the capture that was planned.
func (m *model) capture() tea.Cmd {
	p := m.plan
	r, result := m.w.StartCapture(m.ctx, p, m.outgoing)
	return m.start(r, "Cancelling leaves the shelf as it was.", func(s run.Snapshot) tea.Cmd {
		if t := result(); s.State == run.Done && t != nil {
			m.fresh = t.ID
			m.say("The twin of %s is on the shelf.", t.Machine)
		}
		return nil
	})
}
