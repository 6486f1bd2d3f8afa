package tui

import (
	"context"
	"fmt"
	"strconv"
	"time"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/keeping"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// work finds out what would go by the rule, in the background. While a rule is typed only the last one is
// worked out to the end.
func (m *datesPage) work(_ context.Context, number int, _ func(string)) tea.Cmd {
	if m.unthin != nil {
		m.unthin()
		m.unthin = nil
	}
	if m.thin == nil || m.w.Shelf == nil {
		return nil
	}
	s, rules := m.w.Shelf, m.wished
	ctx, cancel := context.WithCancel(m.ctx)
	m.unthin = cancel
	return func() tea.Msg {
		var p *keeping.Preview
		var err error
		if rules != nil {
			p, err = keeping.PreviewRules(ctx, s, *rules, "", time.Now())
		} else {
			p, err = keeping.PreviewThinning(ctx, s, "", time.Now())
		}
		return thinned{number, p, err}
	}
}

func (m *datesPage) onThinned(p *keeping.Preview, err error) {
	if err != nil {
		m.thin, m.goes = nil, nil
		m.fail(sentence(err))
		return
	}
	m.thin, m.goes = p, map[string]string{}
	for _, mp := range p.Machines {
		for _, f := range mp.Fates {
			if f.Goes {
				m.goes[f.ID] = f.Why
			}
		}
	}
}

// askRule lets the rule of the usual machines be typed; what is typed is shown on the boards at once.
func (m *datesPage) askRule(machine string) tea.Cmd {
	rules, err := keeping.ReadRules(m.ctx, m.w.Shelf)
	if err != nil {
		m.fail(sentence(err))
		return nil
	}
	n := menu{title: "Which machines is the rule for?", choices: []choice{
		{name: "all machines without a rule of their own", about: "now: " + rules.Usual.Words()},
		{name: "only " + machine, about: "now: " + rules.For(machine).Words()}}}
	n.then = func(chosen []int) tea.Cmd {
		who, now := "", rules.Usual
		if chosen[0] == 1 {
			who, now = machine, rules.For(machine)
		}
		m.askRuleOf(who, rules, now)
		return nil
	}
	m.menus.offer(n)
	return nil
}

// askRuleOf asks for the words of a rule; who is empty for the usual one.
func (m *datesPage) askRuleOf(who string, rules keeping.Rules, now keeping.Rule) {
	with := func(r keeping.Rule) keeping.Rules {
		out := keeping.Rules{Usual: rules.Usual, Machines: map[string]keeping.Rule{}}
		for k, v := range rules.Machines {
			out.Machines[k] = v
		}
		if who == "" {
			out.Usual = r
		} else {
			out.Machines[who] = r
		}
		return out
	}
	m.thin, m.goes = &keeping.Preview{}, map[string]string{}
	m.prompt.ask("Rule: ", now.Words(), func(text string) {
		r, err := keeping.ReadRule(text)
		if err != nil {
			m.fail(sentence(err))
			return
		}
		if err := keeping.SetRule(m.ctx, m.w.Shelf, who, r); err != nil {
			m.fail(sentence(err))
			return
		}
		m.wished = nil
		m.thin, m.goes = &keeping.Preview{}, map[string]string{}
		m.say("The rule is set: %s. Nothing was dropped.", r.Words())
	})
	m.prompt.live = func(text string) {
		r, err := keeping.ReadRule(text)
		if m.prompt.says, m.prompt.wrong = "", err != nil; err != nil {
			m.prompt.says = err.Error()
			return
		}
		m.prompt.says = r.Words()
		w := with(r)
		m.wished = &w
	}
}

// dropThinned leads to the last page before twins go.
func (m *datesPage) dropThinned() tea.Cmd {
	p, w := m.thin, m.w
	if m.wished != nil {
		m.fail("This rule isn't set: press r and then Enter to set it.")
		return nil
	}
	if len(p.Machines) == 0 {
		m.say("What would go is still being worked out: press Enter again once it is shown.")
		return nil
	}
	if p.Goes == 0 {
		m.say("By the rule nothing goes.")
		return nil
	}
	s := workshop.Summary{Head: fmt.Sprintf("%s go by the rule.", units.Plural(p.Goes, "twin")),
		To:      []string{w.Shelf.Head().Name + " in " + w.Shelf.Place()},
		Confirm: strconv.Itoa(p.Goes), What: "how many twins go", Look: "Look at the dates"}
	for _, mp := range p.Machines {
		gone := 0
		for _, f := range mp.Fates {
			if f.Goes {
				gone++
				s.Lost = append(s.Lost, fmt.Sprintf("%s  %s  %s", mp.Machine, units.Moment(f.Twin.Taken), f.Why))
			}
		}
		if gone > 0 {
			s.Stays = append(s.Stays,
				fmt.Sprintf("%s: %s, back to %s", mp.Machine, units.Plural(len(mp.Fates)-gone, "twin"),
					units.Moment(mp.Reach)))
		}
	}
	s.Notes = []string{"up to " + m.th.size(p.Back) + " come back when space is given back (s)",
		"each one is written into the journal of the shelf"}
	m.lastPage.open(s, func() tea.Cmd {
		m.thin, m.goes = nil, nil
		return func() tea.Msg {
			n, err := keeping.Apply(m.ctx, w.Shelf, p)
			return told{fmt.Sprintf("%s dropped. Press s to give back their room.", units.Plural(n, "twin")), err}
		}
	})
	return nil
}

func (m *datesPage) askDiscard(t *shelf.Twin) tea.Cmd {
	w, ctx := m.w, m.ctx
	if mark, kept := m.pins[t.ID]; kept {
		m.fail("This twin is kept for ever (" + mark.Note + "): press f to take that back first.")
		return nil
	}
	return func() tea.Msg {
		room, err := keeping.RoomOf(ctx, w.Shelf, []*shelf.Twin{t})
		if err != nil {
			return asked{err: err}
		}
		s := workshop.Summary{Head: fmt.Sprintf("the twin of %s of %s is discarded.", t.Machine, units.Moment(t.Taken)),
			To:      []string{w.Shelf.Head().Name + " in " + w.Shelf.Place()},
			Confirm: t.Machine, What: "the name of the machine", Look: "Look at the date",
			Lost:  []string{fmt.Sprintf("%s, %s used, %s", t.Machine, m.th.size(t.Used), units.Moment(t.Taken))},
			Notes: []string{"up to " + m.th.size(room) + " come back when space is given back (s)"}}
		return asked{summary: s, goAhead: func() tea.Cmd {
			return func() tea.Msg {
				return told{"The twin is discarded. Press s to give back its room.",
					w.Shelf.Discard(ctx, t, "discarded by hand")}
			}
		}}
	}
}

func (m *datesPage) askRoom() tea.Cmd {
	w, ctx := m.w, m.ctx
	return func() tea.Msg {
		f, err := keeping.Foreknow(ctx, w.Shelf)
		if err != nil {
			return told{err: err}
		}
		if f.Removed+f.Rewritten == 0 {
			return told{text: "There is no room to give back: everything worth it is needed."}
		}
		return startRun{func() tea.Cmd {
			r, freed := w.StartGiveBack(ctx)
			return m.runPage.start(onShelf(m, r, "Cancelling loses nothing; it can be done again.",
				func(s run.Snapshot) tea.Cmd {
					if s.State == run.Done {
						m.runPage.result = []string{freed().Words()}
					}
					return nil
				}))
		}}
	}
}

// startRun begins a run from the background.
type startRun struct{ begin func() tea.Cmd }

func (m *datesPage) offerChecks() {
	kinds := []keeping.CheckKind{{}, {Share: 0.1, Mend: true}, {Share: 1, Mend: true}}
	n := menu{title: "Check the shelf: is everything as it was written?", choices: []choice{
		{name: "quick", about: "checks that every block is there; reads only a little"},
		{name: "a tenth", about: "reads a tenth of the packs, the ones that weren't read for longest, and mends " +
			"what parity reaches"},
		{name: "everything", about: "reads every byte, and mends what parity reaches; stopped, it goes on where it " +
			"was"}}}
	n.then = func(chosen []int) tea.Cmd {
		r, report := m.w.StartCheck(m.ctx, kinds[chosen[0]])
		return m.runPage.start(onShelf(m, r, "Cancelling keeps what was read: the next check goes on there.",
			func(s run.Snapshot) tea.Cmd {
				if rep := report(); rep != nil && s.State == run.Done {
					m.showReport(rep)
				}
				return nil
			}))
	}
	m.menus.offer(n)
}

// mostSums is of how many twins a question tells what they miss.
const mostSums = 6

// showReport shows what a check found; where blocks are missing it asks from where they should come.
func (m *datesPage) showReport(rep *keeping.Report) {
	m.runPage.result = reportLines(m.th, rep)
	if len(rep.Damage) == 0 {
		return
	}
	n := menu{title: "Where should what is missing come from?", choices: []choice{
		{name: "another shelf …", about: "with the same twins; what comes is right by its name, and everything is " +
			"looked at again then"},
		{name: "the next capture", about: "of the machine: blocks that are still on its disk are stored again"},
		{name: "nothing now", about: "all that isn't missing can be restored, and files are named when they miss " +
			"something"}}}
	say := func(text string) {
		for _, l := range m.th.wrap(text, m.wide-2) {
			n.above = append(n.above, " "+m.th.bad.Render(l))
		}
	}
	sums := rep.ByTwin()
	for _, l := range sums[:min(len(sums), mostSums)] {
		say("✗ " + l)
	}
	if more := len(sums) - mostSums; more > 0 {
		say("✗ … and " + units.Plural(more, "twin") + " more")
	}
	n.above = append(n.above,
		m.th.dim.Render(" Every place and the files in it are listed when this question is answered."), "")
	n.then = func(chosen []int) tea.Cmd {
		switch chosen[0] {
		case 0:
			m.shelfDesk.offerShelves("Take what is missing from which shelf?", func(other *shelf.Shelf) tea.Cmd {
				return m.refill(other, rep)
			})
		case 1:
			if err := keeping.ForgetHurt(m.ctx, m.w.Shelf, rep); err != nil {
				m.fail(sentence(err))
				return nil
			}
			m.say("What is missing is stored again by the next capture that finds it.")
		}
		return nil
	}
	m.menus.offerAfterRun(n, "The check found damage. Step 6 shows it, and asks where to get what is "+
		"missing.")
}

func (m *datesPage) refill(other *shelf.Shelf, rep *keeping.Report) tea.Cmd {
	r, report := m.w.StartRefill(m.ctx, other, rep)
	return m.runPage.start(onShelf(m, r, "Cancelling keeps what has come.", func(s run.Snapshot) tea.Cmd {
		other.Close()
		if s.State == run.Done {
			m.showReport(report())
		}
		return nil
	}))
}

// onShelf is a run that reads the shelf and writes nothing else.
func onShelf(m *datesPage, r *run.Run, stopped string, after func(run.Snapshot) tea.Cmd) work {
	up := shelfLane(m, reading(m.th, isNow), 0)
	up.fold = true
	return work{run: r, stopped: stopped, after: after,
		lanes: []lanes{{up: up, down: shelfLane(m, writing(m.th, isNow), 0)}}}
}

func reportLines(th theme, rep *keeping.Report) []string {
	out := []string{fmt.Sprintf("%s read in %s, %s known", th.size(rep.Bytes), units.Plural(rep.Packs, "pack"),
		units.Plural(rep.Blocks, "block"))}
	if v := rep.Verdict(); v != "" {
		out = append(out, th.good.Render("✓ "+v))
	}
	for _, s := range rep.Mended {
		out = append(out, th.good.Render("mended: "+s))
	}
	for _, s := range rep.Idle {
		out = append(out, th.caution.Render("of no use: "+s))
	}
	for _, s := range rep.Hurt {
		out = append(out, th.bad.Render("✗ hurt: "+s))
	}
	for i, d := range rep.Damage {
		if i == 20 {
			out = append(out, th.bad.Render(fmt.Sprintf("✗ … and %d more stretches", len(rep.Damage)-i)))
			break
		}
		out = append(out, th.bad.Render("✗ missing: "+d.String()))
	}
	for _, s := range rep.Files {
		out = append(out, th.bad.Render("files: "+s))
	}
	return out
}
