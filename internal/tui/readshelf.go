package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/keeping"
	"twinshelf/internal/shelf"
)

// board is one machine on the shelf, its twins oldest first.
type board struct {
	machine string
	twins   []*shelf.Twin
	proofs  map[string][]*shelf.Proof
	unread  map[string]int // how many proofs of a twin can't be read
	at      int
}

func (m *datesPage) readShelf() tea.Cmd {
	m.reads++
	s, w, number := m.w.Shelf, m.w, m.reads
	if s == nil {
		return func() tea.Msg { return shelved{number: number, known: w.Known(m.ctx)} }
	}
	return func() tea.Msg {
		twins, errs := s.Twins(m.ctx)
		proved := shelf.ProofsOf(m.ctx, s, shelf.IDsOf(twins))
		var boards []board
		for i := len(twins) - 1; i >= 0; i-- { // machines descending, oldest first
			t := twins[i]
			if len(boards) == 0 || boards[len(boards)-1].machine != t.Machine {
				boards = append(boards, board{machine: t.Machine, proofs: map[string][]*shelf.Proof{},
					unread: map[string]int{}})
			}
			b := &boards[len(boards)-1]
			b.twins = append(b.twins, t)
			b.proofs[t.ID], b.unread[t.ID] = proved[i].Proofs, len(proved[i].Problems)
			b.at = len(b.twins) - 1
		}
		for i, j := 0, len(boards)-1; i < j; i, j = i+1, j-1 {
			boards[i], boards[j] = boards[j], boards[i]
		}
		msg := shelved{number: number, boards: boards, known: w.Known(m.ctx),
			concerns: slices.Concat(w.Missing(), s.Concerns(m.ctx), keeping.KnownDamage(m.ctx, s)),
			far:      w.FarFacts(s)}
		var err error
		if msg.pins, err = s.Pins(m.ctx); err != nil {
			errs = append(errs, err)
		}
		if msg.ahead, err = w.Foresee(m.ctx, twins); err != nil {
			errs = append(errs, err)
		}
		if msg.retired, _, err = s.Retired(m.ctx); err != nil {
			errs = append(errs, err)
		}
		if len(errs) > 0 {
			return tea.BatchMsg{
				func() tea.Msg { return msg },
				func() tea.Msg { return problems{errs[0].Error()} },
			}
		}
		return msg
	}
}

// onShelved takes what a reading of the shelf came to, unless it was begun anew since.
func (m *datesPage) onShelved(msg shelved) tea.Cmd {
	if msg.number != 0 && msg.number < m.reads {
		return nil
	}
	boards := msg.boards
	m.pins, m.ahead, m.known, m.retired = msg.pins, msg.ahead, msg.known, msg.retired
	m.concerns, m.far = msg.concerns, msg.far
	for i := range boards { // keep the places
		for _, old := range m.boards {
			if old.machine != boards[i].machine || old.at == len(old.twins)-1 {
				continue // whoever looks at the newest goes on looking at the newest
			}
			for j, t := range boards[i].twins {
				if t.ID == old.twins[old.at].ID {
					boards[i].at = j
				}
			}
		}
	}
	was := ""
	if m.board < len(m.boards) {
		was = m.boards[m.board].machine
	}
	m.boards, m.owners = boards, ownersOf(boards, m.known)
	renewTheme(m.model)
	m.board = min(m.board, max(0, len(boards)-1))
	for i := range boards {
		if boards[i].machine == was { // machines that are new may stand before it
			m.board = i
		}
	}
	m.pointAtFresh()
	m.benchPage.arrange()
	cmds := []tea.Cmd{m.replan(), m.sheetPage.readJobs()}
	for _, d := range m.disks {
		cmds = append(cmds, m.benchPage.compare(d))
	}
	return tea.Batch(cmds...)
}

// pointAtFresh selects the twin that was just captured.
func (m *datesPage) pointAtFresh() {
	for i := range m.boards {
		for j, t := range m.boards[i].twins {
			if t.ID == m.fresh {
				m.board, m.boards[i].at, m.fresh = i, j, ""
			}
		}
	}
}

// twin is the selected twin; nil on an empty shelf.
func (m *datesPage) twin() *shelf.Twin {
	if len(m.boards) == 0 {
		return nil
	}
	b := &m.boards[m.board]
	return b.twins[b.at]
}

func (m *datesPage) twins() []*shelf.Twin {
	var all []*shelf.Twin
	for _, b := range m.boards {
		all = append(all, b.twins...)
	}
	return all
}
