package tui

import (
	"errors"
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/store/far"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// offerShelves lets another shelf be chosen, known or by its folder; then gets it opened.
func (m *shelfDesk) offerShelves(title string, then func(*shelf.Shelf) tea.Cmd) {
	n := menu{title: title}
	var folders []string
	for _, k := range m.datesPage.known {
		if (k.Here || k.Far) && !k.Open {
			folders = append(folders, k.Path)
			about := k.Words()
			if k.Sealed {
				about += "; sealed, its passphrase is asked for"
			}
			n.choices = append(n.choices, choice{name: k.Name, about: about})
		}
	}
	n.choices = append(n.choices, choice{name: "a new one …", about: "in a folder of a mounted drive, or far away"},
		choice{name: "another folder or address …", about: "of a shelf that exists"})
	n.then = func(chosen []int) tea.Cmd {
		switch at := chosen[0]; {
		case at < len(folders):
			return m.openThen(folders[at], nil, then)
		case at == len(folders):
			m.makeShelf(then)
			return nil
		}
		m.prompt.askPath("Folder or address (sftp://…, s3://…) of the other shelf: ", "", func(dir string) {
			m.prompt.pending = m.openThen(dir, nil, then)
		})
		return nil
	}
	m.menus.offer(n)
}

// locked is a sealed shelf that waits for its passphrase.
type locked struct {
	dir  string
	then func(*shelf.Shelf) tea.Cmd
}

// openThen opens a shelf in the background (a passphrase takes about a second) and goes on with it.
func (m *shelfDesk) openThen(dir string, passphrase []byte, then func(*shelf.Shelf) tea.Cmd) tea.Cmd {
	w := m.w
	if passphrase != nil || far.Is(dir) {
		m.say("The shelf is being opened …")
	}
	return func() tea.Msg {
		s, err := w.OpenOtherBy(m.ctx, dir, passphrase)
		switch {
		case errors.Is(err, store.ErrSealed) && passphrase == nil:
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

func (m *shelfDesk) onLocked(l locked) {
	m.askHidden("Passphrase of the shelf in "+l.dir+": ", func(text string) {
		m.prompt.pending = m.openThen(l.dir, []byte(text), l.then)
	})
}

// use makes an opened shelf the one that dates come from and captures go to.
func (m *shelfDesk) use(s *shelf.Shelf) tea.Cmd {
	m.w.Use(m.ctx, s)
	cmd := forgetShelf(m.model) // the one before
	m.say("%s in %s is open: captures go to it.", s.Head().Name, s.Place())
	return tea.Batch(m.look(), cmd)
}

// carryTo asks what is carried to an opened shelf, and carries it.
func (m *shelfDesk) carryTo(to *shelf.Shelf) tea.Cmd {
	if len(m.datesPage.boards) == 0 {
		to.Close()
		return nil
	}
	b := &m.datesPage.boards[m.datesPage.board]
	mine, one := slices.Clone(b.twins), m.datesPage.twin()
	slices.Reverse(mine)
	n := menu{title: "What is carried to " + to.Head().Name + "? Nothing is removed from this shelf", left: to.Close,
		choices: []choice{
			{name: "everything", about: units.Plural(len(m.datesPage.twins()), "twin") + " of " +
				units.Plural(len(m.datesPage.boards), "machine")},
			{name: "some machines …", about: "all dates of the machines that you choose"},
			{name: "some dates of " + b.machine + " …", about: units.Plural(len(mine), "twin") + " to choose from"},
			{name: "only " + units.Moment(one.Taken) + " of " + b.machine}}}
	n.then = func(chosen []int) tea.Cmd {
		switch chosen[0] {
		case 1:
			m.carrySome(to, "Which machines?", len(m.datesPage.boards), func(i int) (choice, []*shelf.Twin) {
				b := &m.datesPage.boards[i]
				return choice{name: b.machine, about: units.Plural(len(b.twins), "twin")}, b.twins
			})
		case 2:
			m.carrySome(to, "Which dates of "+b.machine+"?", len(mine), func(i int) (choice, []*shelf.Twin) {
				t := mine[i]
				return choice{name: units.Moment(t.Taken) + "  " + right(m.th.size(t.Added), 9) + " new  " + t.Note,
					on: t == one}, mine[i : i+1]
			})
		case 3:
			return m.carry(to, []*shelf.Twin{one})
		default:
			return m.carry(to, nil)
		}
		return nil
	}
	m.menus.offer(n)
	return nil
}

// carrySome lets several of n things be chosen, each of which stands for some twins.
func (m *shelfDesk) carrySome(to *shelf.Shelf, title string, n int, of func(i int) (choice, []*shelf.Twin)) {
	menu := menu{title: title, several: true, left: to.Close}
	for i := range n {
		c, _ := of(i)
		menu.choices = append(menu.choices, c)
	}
	menu.then = func(chosen []int) tea.Cmd {
		var twins []*shelf.Twin
		for _, i := range chosen {
			_, more := of(i)
			twins = append(twins, more...)
		}
		return m.carry(to, twins)
	}
	m.menus.offer(menu)
}

// carry copies twins to an opened shelf; nil means all. At its end both shelves are put side by side.
func (m *shelfDesk) carry(to *shelf.Shelf, twins []*shelf.Twin) tea.Cmd {
	if m.runPage.running() {
		to.Close()
		m.fail("A run is under way already: see step 6.")
		return nil
	}
	w := m.w
	r, moved := w.StartCarry(m.ctx, to, twins)
	down := writing(m.th, written)
	down.name, down.where, down.fold = "shelf "+to.Head().Name, to.Place(), true
	return m.runPage.start(work{run: r, lanes: []lanes{{up: shelfLane(m.datesPage, reading(m.th, isNow), 0),
		down: down}},
		stopped: "Cancelling keeps what has arrived: the next time goes on there.",
		after: func(s run.Snapshot) tea.Cmd {
			mv := moved()
			m.runPage.result = movedLines(m.th, mv, w.Shelf.Head().Name, to.Head().Name)
			if s.State != run.Done {
				to.Close()
				return nil
			}
			m.settleShelves(to, mv)
			return nil
		}})
}

// settleShelves asks which of two shelves is used from now on.
func (m *shelfDesk) settleShelves(to *shelf.Shelf, mv *workshop.Moved) {
	w := m.w
	here, there := w.Shelf.Head().Name, to.Head().Name
	keep := func() {
		to.Close()
		m.say("Both are in use: captures go on to %s; press o in Dates to open %s.", here, there)
	}
	n := menu{title: "Which shelf is used from now on?", left: keep, choices: []choice{
		{name: "both, captures go on to " + here, about: "when its drive isn't attached, they go to " + there},
		{name: "both, captures go to " + there, about: there + " is opened now"}}}
	for _, l := range m.runPage.result {
		n.above = append(n.above, " "+l)
	}
	n.above = append(n.above, "")
	if alone := mv.Alone(); alone == 0 {
		n.choices = append(n.choices,
			choice{name: there + " replaces " + here,
				about: here + " is marked as retired: all on it stays readable, captures go to " + there})
	} else {
		n.above = append(n.above,
			" "+m.th.caution.Render(fmt.Sprintf("%s has %s that %s doesn't have: it can't be replaced yet.", here,
				units.Plural(alone, "twin"), there)), "")
	}
	n.then = func(chosen []int) tea.Cmd {
		switch chosen[0] {
		case 1:
			return m.use(to)
		case 2:
			m.say("Comparing %s and %s once more …", here, there)
			return m.replace(to)
		}
		keep()
		return nil
	}
	m.menus.offerAfterRun(n, "The twins are carried. Step 6 asks which shelf is used from now on.")
}

// replace retires the open shelf in favour of another one and opens that.
func (m *shelfDesk) replace(to *shelf.Shelf) tea.Cmd {
	w, from := m.w, m.w.Shelf
	return func() tea.Msg {
		err := w.Replace(m.ctx, to)
		return startRun{func() tea.Cmd {
			if err != nil || w.Shelf != from { // or another one was opened meanwhile
				to.Close()
			}
			switch {
			case err != nil:
				m.fail(sentence(err))
				return nil
			case w.Shelf != from:
				m.say("%s is retired.", from.Head().Name)
				return nil
			}
			cmd := m.use(to)
			m.say("%s is retired; %s is open and takes the captures.", from.Head().Name, to.Head().Name)
			return cmd
		}}
	}
}

// datesInRow is of how many dates of a machine, the newest, a comparison shows the marks.
const datesInRow = 48

// movedLines puts two shelves one over the other, machine by machine.
func movedLines(th theme, mv *workshop.Moved, here, there string) []string {
	out := []string{mv.Words(), ""}
	if len(mv.Compared) > 0 {
		out = append(out, th.dim.Render("■ is there   · isn't   ≠ differs"))
	}
	for i := 0; i < len(mv.Compared); {
		j := i
		a, b, same := "", "", 0
		for ; j < len(mv.Compared) && mv.Compared[j].Machine == mv.Compared[i].Machine; j++ {
			s := mv.Compared[j]
			mark := map[bool]string{true: "■", false: "·"}
			x, y := mark[s.Here], mark[s.There]
			if s.Differ {
				y = th.bad.Render("≠")
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
		out = append(out, fit(mv.Compared[i].Machine, 20)+fit(here, 10)+a, fit("", 20)+fit(there, 10)+b+
			th.dim.Render(fmt.Sprintf("   %d of %d the same", same, j-i)))
		i = j
	}
	return out
}
