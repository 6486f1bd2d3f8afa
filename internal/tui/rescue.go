package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/capture"
	"twinshelf/internal/rescue"
	"twinshelf/internal/run"
	"twinshelf/internal/workshop"
)

// ways are how far a sitting goes.
var ways = []struct {
	name, about string
	until       rescue.Pass
	tries       int
	unused      bool
}{
	{"what can be got without lingering", "what is in use, jumping on from bad places; leave these for later",
		rescue.Stride, 1, false},
	{"closing in on bad places too", "also from both sides to the first bad sector of each place", rescue.Narrow, 1,
		false},
	{"every sector once", "also what is left, sector by sector, once each", rescue.Single, 1, false},
	{"every sector up to five times", "as before; for a night or a day", rescue.Single, 5, false},
	{"every sector once, unused ones too", "also what nobody uses: deleted things may be in it", rescue.Single, 1,
		true},
}

// rescueBinding gets what can be got from drives that are failing.
func rescueBinding(m *model, disks func() []*bench.Disk, machine func() string) binding {
	return binding{"R", "R", "rescue", "the drive is failing: get what can be got, the most precious first, in " +
		"as many " +
		"sittings as it takes", leads(func() tea.Cmd {
		switch all := disks(); {
		case m.runPage.running():
			m.fail("A run is under way already: see step 6.")
		case m.w.Shelf == nil:
			m.fail(workshop.ErrNoShelf.Error())
		case len(all) == 0:
			m.fail("No disk is chosen.")
		default:
			named := strings.TrimSpace(machine())
			if named != "" {
				offerRescue(m, all, named)
				return nil
			}
			m.prompt.ask("Name of the machine: ", "", func(s string) {
				if s = strings.TrimSpace(s); s != "" {
					offerRescue(m, all, s)
				}
			})
		}
		return nil
	})}
}

// offerRescue asks how far the sitting goes.
func offerRescue(m *model, disks []*bench.Disk, machine string) {
	leave := workshop.Parts{}
	for _, d := range disks {
		leave[d] = m.capturePage.leaveOut[d.Path]
	}
	p, err := m.w.PlanRescue(machine, disks, leave)
	if err == nil {
		if err = p.Check(m.ctx); err != nil {
			p.Close()
		}
	}
	if err != nil {
		m.fail(sentence(err))
		return
	}
	n := menu{title: "Rescue of " + machine + ": how far shall this sitting go?", at: 2, left: p.Close}
	for _, s := range p.Words(m.ctx) {
		for _, l := range m.th.wrap("· "+capital(s)+".", m.wide-2) {
			n.above = append(n.above, " "+l)
		}
	}
	for _, d := range capture.DoubtsOf(m.ctx, p.Shelf, machine, p.Identities()) {
		for _, l := range m.th.wrap("! "+capital(d.Says)+".", m.wide-2) {
			n.above = append(n.above, " "+m.th.caution.Render(l))
		}
	}
	n.above = append(n.above, "")
	for _, w := range ways {
		n.choices = append(n.choices, choice{name: w.name, about: w.about})
	}
	n.then = func(chosen []int) tea.Cmd {
		w := ways[chosen[0]]
		p.Until, p.Tries, p.Unused = w.until, w.tries, w.unused
		return startRescue(m, p, disks)
	}
	m.menus.offer(n)
}

// startRescue begins a sitting.
func startRescue(m *model, p *workshop.Rescue, disks []*bench.Disk) tea.Cmd {
	r, result := m.w.StartRescue(m.ctx, p)
	job := work{run: r, stopped: workshop.RescueStopped, on: byRails(1), after: func(s run.Snapshot) tea.Cmd {
		if t := result(); t != nil {
			m.datesPage.fresh = t.ID
			m.runPage.result = append(m.runPage.result, capital(t.RescueWords())+".")
			m.say("The twin of %s is on the shelf: %s. Press 4 to see it there.", t.Machine, t.RescueWords())
		}
		return nil
	}}
	down := shelfLane(m.datesPage, writing(m.th, written), 0)
	for _, d := range disks {
		job.lanes = append(job.lanes, lanes{up: reading(m.th, isNow).ofDisk(d), down: down})
	}
	return m.runPage.start(job)
}
