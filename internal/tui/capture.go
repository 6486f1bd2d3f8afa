package tui

import (
	"context"
	"errors"
	"maps"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/capture"
	"twinshelf/internal/run"
	"twinshelf/internal/workshop"
)

func (m *capturePage) bindings() []binding {
	rows := m.captureRows()
	name := func() {
		m.prompt.ask("Name of the machine: ", m.machine, func(s string) { m.machine = strings.TrimSpace(s) })
	}
	return []binding{
		move(listKeys, "row", "choose a disk or a part", &m.row, len(rows)),
		{"space", "Space", "in or out", "capture this disk or part, or leave it out", leads(func() tea.Cmd {
			return m.inOrOut(rows)
		})},
		{"n", "n", "name", "name the machine", acts(name)},
		{"s", "s", "sleeping",
			"how a part is captured that sleeps or was cut off: its session kept, or as if the power " +
				"had been cut", acts(func() {
				p := haltedHere(m, rows)
				if p == nil {
					m.fail("Nothing here sleeps or was cut off: that is known of NTFS and HFS+.")
					return
				}
				chooseHalted(m, p)
			})},
		{"o", "o", "trust", "what isn't read again: what the records of ext and APFS prove unchanged, nothing, or " +
			"also what those of NTFS and HFS+ say",
			leads(func() tea.Cmd {
				m.trust = m.trust.Next()
				return m.replan()
			})},
		{"p", "p", "packing", "how closely it is packed: as there is time for, close, the usual way, or swift",
			acts(func() { m.packing = m.packing.Next() })},
		m.unless(keysUnkept(m), binding{"U", "U", "keep keys",
			"keep the keys of unlocked volumes with the twin, on a " +
				"sealed shelf: looking inside then needs none", acts(func() { m.keepKeys = !m.keepKeys })}),
		{"u", "u", "not quiet", "capture although a part is in use or wasn't shut down cleanly",
			acts(func() { m.unquiet = !m.unquiet })},
		{"N", "N", "as routine", "save this capture as a routine that happens by itself", leads(func() tea.Cmd {
			return saveCapture(m.routinesPage)
		})},
		rescueBinding(m.model, func() []*bench.Disk { return chosenDisks(m.model) },
			func() string { return m.machine }),
		{"enter", "Enter", strings.TrimSpace("capture " + m.machine), "start the capture", leads(m.startCapture)},
	}
}

// inOrOut takes the disk or part of the present row into the capture, or leaves it out.
func (m *capturePage) inOrOut(rows []captureRow) tea.Cmd {
	if len(rows) == 0 {
		return nil
	}
	r := rows[m.row]
	switch {
	case m.runPage.writesTo(r.disk.Path):
		m.fail(r.disk.Identity.Model + " is being written: until that is done it can't be captured.")
		return nil
	case r.part == 0:
		m.chosen[r.disk.Path] = !m.chosen[r.disk.Path]
	case m.leaveOut[r.disk.Path] == nil:
		m.leaveOut[r.disk.Path] = map[int]bool{r.part: true}
	default:
		m.leaveOut[r.disk.Path][r.part] = !m.leaveOut[r.disk.Path][r.part]
	}
	return m.replan()
}

func (m *capturePage) startCapture() tea.Cmd {
	switch {
	case m.runPage.running():
		m.fail("A run is under way already: see step 6.")
	case m.w.Shelf == nil:
		m.fail(workshop.ErrNoShelf.Error())
	case m.plan == nil && (m.looking > 0 || m.busy != nil):
		m.say("It is still being worked out what there is to capture: press Enter again in a moment.")
	case m.plan == nil:
		m.fail("There is nothing to capture yet: choose a disk on the Bench.")
	case m.machine == "":
		m.prompt.ask("Name of the machine: ", "", func(s string) { m.machine = strings.TrimSpace(s) })
	case len(m.plan.Warnings()) > 0 && undecided(m) != nil:
		chooseHalted(m, undecided(m))
	case len(m.plan.Warnings()) > 0 && !m.unquiet:
		m.fail("Not everything is quiet: read the warnings, then press u to capture it as it is.")
	default:
		p := m.plan
		p.Machine, p.KeepUnlocking = m.machine, m.keepKeys && keysUnkept(m) == ""
		p.Packing = m.packing
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
func (m *capturePage) offerDoubts(doubts []capture.Doubt) {
	n := menu{title: "Capture all the same?", choices: []choice{
		{name: "no", about: "look at the disks and the name again"},
		{name: "yes", about: "capture these disks under this name"}}}
	for _, d := range doubts {
		for _, l := range m.th.wrap("! "+d.Says, m.wide-2) {
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
	m.menus.offer(n)
}

// capture begins the capture that was planned.
func (m *capturePage) capture() tea.Cmd {
	p := m.plan
	r, result := m.w.StartCapture(m.ctx, p, m.outgoing)
	job := work{run: r, stopped: "Cancelling leaves the shelf as it was.", on: byRails(1),
		after: func(s run.Snapshot) tea.Cmd {
			if t := result(); s.State == run.Done && t != nil {
				m.datesPage.fresh = t.ID
				m.say("The twin of %s is on the shelf. Press 4 to see it there.", t.Machine)
			}
			return nil
		}}
	shelf := shelfLane(m.datesPage, writing(m.th, written), m.estimate.Likely)
	for _, s := range p.Sources {
		for _, d := range m.disks {
			if d.Path == s.Path {
				job.lanes = append(job.lanes, lanes{up: reading(m.th, isNow).ofDisk(d), down: shelf})
			}
		}
	}
	return m.runPage.start(job)
}

// lanes are the disk that is read, and the shelf with what it will probably take.
func (m *capturePage) lanes() lanes {
	ls := lanes{up: nothing(reading(m.th, ""), "no disk is chosen"), down: shelfLane(m.datesPage, writing(m.th,
		willBe), 0)}
	if m.plan != nil {
		ls.down = shelfLane(m.datesPage, writing(m.th, willBe), m.estimate.Likely)
	}
	if rows := m.captureRows(); m.row < len(rows) && m.chosen[rows[m.row].disk.Path] {
		ls.up = reading(m.th, isNow).ofDisk(rows[m.row].disk)
	} else if all := chosenDisks(m.model); len(all) > 0 {
		ls.up = reading(m.th, isNow).ofDisk(all[0])
	}
	return ls
}

func (m *capturePage) opened() { m.chooseMachine() }

// work estimates what the capture needs.
func (m *capturePage) work(ctx context.Context, number int, doing func(string)) tea.Cmd {
	m.plan = nil
	disks := chosenDisks(m.model)
	if len(disks) == 0 || m.w.Shelf == nil || m.looking > 0 {
		return nil
	}
	leave, asCut := workshop.Parts{}, workshop.Parts{}
	for _, d := range disks {
		leave[d], asCut[d] = maps.Clone(m.leaveOut[d.Path]), map[int]bool{}
		for n := range d.Survey.Halted() {
			asCut[d][n] = m.asCut[d.Path][n] && !leave[d][n]
		}
	}
	w, machine, trust := m.w, m.machine, m.trust
	return func() tea.Msg {
		p, err := w.PlanCapture(ctx, machine, disks, leave, asCut)
		if err != nil {
			return estimated{number: number, err: err}
		}
		p.Trust = trust
		doing("packing samples of what is used")
		if err := p.Sample(ctx); err != nil {
			return estimated{number: number, err: err}
		}
		doing("looking which blocks the shelf has")
		e, err := p.Estimate(ctx)
		outgoing, problem := w.Outgoing(ctx, machine)
		return estimated{number, p, e, p.Trusts(ctx), outgoing, errors.Join(err, problem)}
	}
}
