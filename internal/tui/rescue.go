package tui

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/capture"
	"twinshelf/internal/disk"
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
				offerRescue(m, rescueOf{disks: all, machine: named})
				return nil
			}
			m.prompt.ask("Name of the machine: ", "", func(s string) {
				if s = strings.TrimSpace(s); s != "" {
					offerRescue(m, rescueOf{disks: all, machine: s})
				}
			})
		}
		return nil
	})}
}

// rescueOf is the sitting that is being asked for.
type rescueOf struct {
	disks   []*bench.Disk
	machine string
	first   []string      // what comes first; see rescue.Plan
	from    []*bench.Disk // drives that may have what these don't give
}

// plan opens the drives.
func (s rescueOf) plan(m *model) (*workshop.Rescue, error) {
	leave := workshop.Parts{}
	for _, d := range s.disks {
		leave[d] = m.capturePage.leaveOut[d.Path]
	}
	p, err := m.w.PlanRescue(s.machine, s.disks, leave)
	if err != nil {
		return nil, err
	}
	p.First = s.first
	for _, d := range s.from {
		if err == nil {
			err = p.FillFromDisk(d)
		}
	}
	if err == nil {
		err = p.Check(m.ctx)
	}
	if err != nil {
		p.Close()
	}
	return p, err
}

// offerRescue asks how far the sitting goes.
func offerRescue(m *model, s rescueOf) {
	p, err := s.plan(m)
	if err != nil {
		m.fail(sentence(err))
		return
	}
	n := menu{title: "Rescue of " + s.machine + ": how far shall this sitting go?", at: 2, left: p.Close}
	for _, w := range p.Words(m.ctx) {
		for _, l := range m.th.wrap("· "+capital(w)+".", m.wide-2) {
			n.above = append(n.above, " "+l)
		}
	}
	for _, d := range capture.DoubtsOf(m.ctx, p.Shelf, s.machine, p.Identities()) {
		for _, l := range m.th.wrap("! "+capital(d.Says)+".", m.wide-2) {
			n.above = append(n.above, " "+m.th.caution.Render(l))
		}
	}
	n.above = append(n.above, "")
	for _, w := range ways {
		n.choices = append(n.choices, choice{name: w.name, about: w.about})
	}
	n.choices = append(n.choices, s.moreChoices()...)
	n.then = func(chosen []int) tea.Cmd {
		if i := chosen[0] - len(ways); i >= 0 {
			p.Close() // it is planned anew with what is said now
			s.askMore(m, i)
			return nil
		}
		w := ways[chosen[0]]
		p.Until, p.Tries, p.Unused = w.until, w.tries, w.unused
		return startRescue(m, p, s.disks)
	}
	m.menus.offer(n)
}

// moreChoices are what can be said of a sitting before it begins.
func (s rescueOf) moreChoices() []choice {
	first, from := "nothing is named", "no drive is named"
	if len(s.first) > 0 {
		first = strings.Join(s.first, ", ")
	}
	if len(s.from) > 0 {
		from = disk.Sticker(s.from[0].Identity)
	}
	return []choice{
		{name: "… first say which files matter most", about: first + "; they come before the rest of what is in use"},
		{name: "… first name a drive that may fill gaps", about: from +
			"; it is only read, and only for files that its " +
			"records prove to be the same"},
	}
}

// askMore asks for the files that come first, or for a drive that fills gaps, and offers the sitting again.
func (s rescueOf) askMore(m *model, which int) {
	if which == 0 {
		m.prompt.ask("Files and folders that come first, such as 3:Users/Maud, *.ods (commas between them): ",
			strings.Join(s.first, ", "), func(text string) {
				s.first = nil
				for name := range strings.SplitSeq(text, ",") {
					if name = strings.TrimSpace(name); name != "" {
						s.first = append(s.first, name)
					}
				}
				offerRescue(m, s)
			})
		return
	}
	n := menu{title: "Which drive may have what can't be read, such as the other one of a mirror?",
		choices: []choice{{name: "none"}}}
	others := []*bench.Disk{nil}
	for _, d := range m.disks {
		if !slices.Contains(s.disks, d) && d.Problem == "" {
			others = append(others, d)
			n.choices = append(n.choices, choice{name: disk.Sticker(d.Identity), about: d.Words()})
		}
	}
	n.then = func(chosen []int) tea.Cmd {
		if s.from = nil; chosen[0] > 0 {
			s.from = []*bench.Disk{others[chosen[0]]}
		}
		offerRescue(m, s)
		return nil
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
