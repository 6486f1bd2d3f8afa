package tui

import (
	"errors"
	"fmt"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// offerShelves lets another shelf be chosen, known or by its folder; then gets it opened.
func (m *model) offerShelves(title string, then func(*shelf.Shelf) tea.Cmd) {
	n := menu{title: title}
	var folders []string
	for _, k := range m.known {
		if k.Here && !k.Open {
			folders = append(folders, k.Path)
			about := k.Words()
			if k.Sealed {
				about += "; sealed, its passphrase is asked for"
			}
			n.choices = append(n.choices, choice{name: k.Name, about: about})
		}
	}
	n.choices = append(n.choices, choice{name: "another folder …", about: "of a shelf that exists; new ones are made by the command: twinshelf shelf new"})
	n.then = func(chosen []int) tea.Cmd {
		if chosen[0] < len(folders) {
			return m.openThen(folders[chosen[0]], nil, then)
		}
		m.ask("Folder of the other shelf: ", "", func(dir string) { m.pending = m.openThen(dir, nil, then) })
		return nil
	}
	m.offer(n)
}

// locked is a sealed shelf that waits for its passphrase.
type locked struct {
	dir  string
	then func(*shelf.Shelf) tea.Cmd
}

// openThen opens a shelf in the background (a passphrase takes about a second) and goes on with it.
func (m *model) openThen(dir string, passphrase []byte, then func(*shelf.Shelf) tea.Cmd) tea.Cmd {
	w := m.w
	if passphrase != nil {
		m.say("The shelf is being opened …")
	}
	return func() tea.Msg {
		s, err := w.OpenOtherBy(dir, passphrase)
		switch {
		case errors.Is(err, shelf.ErrSealed) && passphrase == nil:
			return locked{dir, then}
		case err != nil:
			return told{err: err}
		case w.Shelf != nil && w.Shelf.Head().ID == s.Head().ID:
			s.Close()
			return told{text: "That is the shelf that is open."}
		}
		return startRun{func() tea.Cmd { return then(s) }}
	}
}

func (m *model) onLocked(l locked) {
	m.ask("Passphrase of the shelf in "+l.dir+": ", "", func(text string) { m.pending = m.openThen(l.dir, []byte(text), l.then) })
	m.typing.EchoMode = textinput.EchoPassword
	m.typing.EchoCharacter = '•'
}

// use makes an opened shelf the one that dates come from and captures go to.
func (m *model) use(s *shelf.Shelf) tea.Cmd {
	m.w.Use(s)
	m.planning++ // what is being worked out with the old one is of no use
	m.plan, m.pair, m.thin, m.goes, m.wished, m.boards, m.board = nil, nil, nil, nil, nil, nil, 0
	m.say("%s in %s is open: captures go to it.", s.Head().Name, s.Place())
	return tea.Batch(m.look(), m.readShelf())
}

// carryTo copies all twins to an opened shelf.
func (m *model) carryTo(to *shelf.Shelf) tea.Cmd {
	w := m.w
	r, moved := w.StartCarry(m.ctx, to, nil)
	return m.start(r, "Cancelling keeps what has arrived: the next time goes on there.", func(run.Snapshot) tea.Cmd {
		m.result = movedLines(moved(), w.Shelf.Head().Name, to.Head().Name)
		to.Close()
		return nil
	})
}

// datesInRow is of how many dates of a machine, the newest, a comparison shows the marks.
const datesInRow = 48

// movedLines puts two shelves one over the other, machine by machine.
func movedLines(mv *workshop.Moved, here, there string) []string {
	out := []string{fmt.Sprintf("%s carried, %s there already, %s stored anew", units.Plural(mv.Twins, "twin"), units.Plural(mv.Already, "twin"), units.Bytes(mv.Bytes)), ""}
	for i := 0; i < len(mv.Compared); {
		j := i
		a, b, same := "", "", 0
		for ; j < len(mv.Compared) && mv.Compared[j].Machine == mv.Compared[i].Machine; j++ {
			s := mv.Compared[j]
			mark := map[bool]string{true: "■", false: "·"}
			x, y := mark[s.Here], mark[s.There]
			if s.Differ {
				y = bad.Render("≠")
			} else if s.Here && s.There {
				same++
			}
			if j-i < datesInRow || s.Here != s.There || s.Differ { // a difference is never left out
				a, b = x+a, y+b // oldest left
			}
		}
		if j-i > datesInRow {
			a, b = "… "+a, "… "+b
		}
		out = append(out, fit(mv.Compared[i].Machine, 20)+fit(here, 10)+a, fit("", 20)+fit(there, 10)+b+dim.Render(fmt.Sprintf("   %d of %d the same", same, j-i)))
		i = j
	}
	return out
}
