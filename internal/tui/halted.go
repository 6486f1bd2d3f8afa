package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/fsys"
	"twinshelf/internal/survey"
)

// haltedPart is a part that its system didn't shut down.
type haltedPart struct {
	disk *bench.Disk
	area survey.Area
	rest fsys.Rest
}

// halted are the parts of chosen disks that sleep or were cut off and that aren't left out.
func halted(m *capturePage) []haltedPart {
	var out []haltedPart
	for _, d := range chosenDisks(m.model) {
		rests := d.Survey.Halted()
		for _, a := range d.Survey.Parts() {
			if r, ok := rests[a.Part.Number]; ok && !m.leaveOut[d.Path][a.Part.Number] {
				out = append(out, haltedPart{d, a, r})
			}
		}
	}
	return out
}

// undecided is the first of them of which nobody said how it is captured; nil when there is none.
func undecided(m *capturePage) *haltedPart {
	for _, p := range halted(m) {
		if !m.asCut[p.disk.Path][p.area.Part.Number] && !m.unquiet {
			return &p
		}
	}
	return nil
}

// haltedHere is the halted part of the present row, or else the first one that isn't decided, or the first one at all;
// nil where there is none.
func haltedHere(m *capturePage, rows []captureRow) *haltedPart {
	all := halted(m)
	for _, p := range all {
		if m.row < len(rows) && p.disk == rows[m.row].disk && p.area.Part.Number == rows[m.row].part {
			return &p
		}
	}
	if p := undecided(m); p != nil || len(all) == 0 {
		return p
	}
	return &all[0]
}

// chooseHalted asks how a part is captured that sleeps or was cut off.
func chooseHalted(m *capturePage, p *haltedPart) {
	cut, keep := "as if the power had been cut", "as it is"
	if p.rest.Asleep() {
		cut, keep = cut+" (for another machine or drive)", "keep the sleeping session (for this very machine)"
	}
	n := menu{title: "How is it captured?", choices: []choice{
		{name: cut, about: p.rest.Cutting() + "."},
		{name: keep, about: p.rest.Keeping() + ".", warns: p.rest.Asleep()},
	}}
	head := fmt.Sprintf("Part %d (%s) isn't at rest: %s.", p.area.Part.Number, p.area.Title(), p.rest.Words())
	for _, l := range m.th.wrap(head, m.wide-2) {
		n.above = append(n.above, " "+m.th.caution.Render(l))
	}
	n.above = append(n.above, "")
	for _, e := range p.rest.Evidence {
		for _, l := range m.th.wrap("· "+e, m.wide-4) {
			n.above = append(n.above, "   "+m.th.dim.Render(l))
		}
	}
	n.above = append(n.above, "")
	path, number := p.disk.Path, p.area.Part.Number
	if !m.asCut[path][number] && m.unquiet {
		n.at = 1
	}
	n.then = func(chosen []int) tea.Cmd {
		if m.asCut[path] == nil {
			m.asCut[path] = map[int]bool{}
		}
		if m.asCut[path][number] = chosen[0] == 0; chosen[0] == 1 {
			m.unquiet = true
		}
		return nil
	}
	m.menus.offer(n)
}

// haltedState says in a few words how the part of a row is captured that wasn't shut down; empty for others.
func haltedState(m *capturePage, d *bench.Disk, a survey.Area) string {
	r, ok := d.Survey.Halted()[a.Part.Number]
	switch {
	case !ok:
		return ""
	case m.asCut[d.Path][a.Part.Number]:
		return "after a power cut, " + m.th.size(a.ToRead)
	case r.Asleep():
		return "ASLEEP: s chooses"
	}
	return "CUT OFF: s chooses"
}

// undecidedHere says whether a part waits for somebody to say how it is captured.
func undecidedHere(m *capturePage, d *bench.Disk, a survey.Area) bool {
	_, ok := d.Survey.Halted()[a.Part.Number]
	return ok && !m.asCut[d.Path][a.Part.Number] && !m.unquiet && !m.leaveOut[d.Path][a.Part.Number]
}

// asPlanned is a part of a disk as the plan has it, where there is one.
func asPlanned(m *capturePage, d *bench.Disk, a survey.Area) survey.Area {
	if m.plan == nil {
		return a
	}
	for _, s := range m.plan.Sources {
		if s.Path != d.Path {
			continue
		}
		for _, x := range s.Survey.Parts() {
			if x.Part.Number == a.Part.Number {
				return x
			}
		}
	}
	return a
}

// notQuietLines say which parts aren't quiet, and of those that sleep or were cut off that there is a choice.
func notQuietLines(m *capturePage, w int) []string {
	var out []string
	for _, s := range m.plan.Sources {
		rests := s.Survey.Halted()
		for _, a := range s.Survey.Parts() {
			if a.Content.Info.Unclean == "" || a.Content.Cut() != nil || s.LeaveOut[a.Part.Number] {
				continue
			}
			label, words := "Not quiet", fmt.Sprintf("part %d (%s): %s; all of it is read", a.Part.Number, a.Title(),
				a.Content.Info.Unclean)
			if r, ok := rests[a.Part.Number]; ok {
				if r.Asleep() {
					label = "Asleep"
				}
				words = fmt.Sprintf("part %d (%s): %s. As it is all of it is read; s chooses", a.Part.Number, a.Title(),
					r.Words())
			}
			out = append(out, m.th.labelled(label, words, w, m.th.caution.Render)...)
		}
	}
	return out
}

// cutLines say of the parts that are captured as if the power had been cut what follows.
func cutLines(m *capturePage, w int) []string {
	var out []string
	for _, s := range m.plan.Sources {
		for _, a := range s.Survey.Parts() {
			r, ok := a.Content.Rest()
			if !ok || a.Content.Cut() == nil || s.LeaveOut[a.Part.Number] {
				continue
			}
			words := fmt.Sprintf("part %d (%s), %s to read: %s", a.Part.Number, a.Title(),
				m.th.size(a.ToRead), r.Cutting())
			out = append(out, m.th.labelled("Power cut", words, w, m.th.caution.Render)...)
		}
	}
	return out
}
