package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// more are the other targets that get the same disk of a twin at the same time.
type more struct {
	of    string // what they belong to: the twin, its disk and the first target
	paths []string
	fresh map[string]bool // by path: identities of their own
}

// moreTargets are those, as long as each can be written.
func moreTargets(m *fitPage) (out []*bench.Disk) {
	o, ok := m.origin()
	if !ok || m.target == nil || m.more.of != originKey(o)+" "+m.target.Path {
		return nil
	}
	for _, d := range m.disks {
		if slices.Contains(m.more.paths, d.Path) && m.chooser.cantWrite(d) == "" {
			out = append(out, d)
		}
	}
	return out
}

// offerMore lets other targets be chosen beside the first one.
func offerMore(m *fitPage) {
	o, _ := m.origin()
	if _, several := m.several(); several || o.Twin == nil {
		m.fail("Several targets at once are for a twin of one disk: of a machine with several each disk has one here.")
		return
	}
	var all []candidate
	n := menu{title: "Which other disks get the same, at the same time? Each is confirmed by what stands on it.",
		several: true, none: true}
	chosen := moreTargets(m)
	for _, d := range m.disks {
		c := m.chooser.asTarget(d)
		if d.Path == m.target.Path || c.place == placeNever || d.Identity.Size < smallest(m.pair.Plan.Layout) {
			continue
		}
		all = append(all, c)
	}
	slices.SortStableFunc(all, func(a, b candidate) int { return int(a.place - b.place) })
	for _, c := range all {
		id := c.disk.Identity
		n.choices = append(n.choices, choice{name: fit(id.Model, 18) + right(m.th.size(id.Size), 9) + "  " + id.Serial,
			about: m.chooser.costs(c), warns: c.place == placeMachine, on: slices.Contains(chosen, c.disk)})
	}
	if len(all) == 0 {
		m.fail("There is no other disk that is large enough and could be written: attach one, and press a on the " +
			"Bench.")
		return
	}
	n.then = func(at []int) tea.Cmd {
		m.more = more{of: originKey(o) + " " + m.target.Path, fresh: map[string]bool{}}
		for _, i := range at {
			m.more.paths = append(m.more.paths, all[i].disk.Path)
		}
		if len(at) > 0 {
			offerFresh(m)
		}
		return nil
	}
	m.menus.offer(n)
}

// offerFresh asks which of the other targets get identities of their own; key y says so of the first one.
func offerFresh(m *fitPage) {
	others := moreTargets(m)
	n := menu{title: "Which of these get identities of their own, for a machine that has more than one of them?",
		several: true, none: true}
	for _, d := range others {
		n.choices = append(n.choices, choice{name: fit(d.Identity.Model, 18) + "  " + d.Identity.Serial,
			on: m.fitWish().Fresh})
	}
	n.then = func(at []int) tea.Cmd {
		for _, i := range at {
			m.more.fresh[others[i].Path] = true
		}
		m.say("%d more: Enter leads to one last page for all of them.", len(others))
		return nil
	}
	m.menus.offer(n)
}

// moreLines say which other targets there are.
func moreLines(m *fitPage, w int) (out []string) {
	for _, d := range moreTargets(m) {
		line := "   the same  →  " + m.th.writes.Render(sticker(d.Identity, w))
		if m.more.fresh[d.Path] {
			line += m.th.dim.Render("  identities of its own")
		}
		out = append(out, fit(line, w))
	}
	if len(out) > 0 {
		out = append(out, "")
	}
	return out
}

// planMore plans the same onto the other targets.
func planMore(m *fitPage, others []*bench.Disk) tea.Cmd {
	o, _ := m.origin()
	w, first, wish, fresh := m.w, m.pair, m.fitWish(), m.more.fresh
	return func() tea.Msg {
		pairs := []*workshop.Pair{first}
		for _, d := range others {
			own := wish
			own.Fresh = fresh[d.Path]
			p, err := w.PlanBeside(m.ctx, pairs, o, d, own, nil)
			if err != nil {
				return paired{err: fmt.Errorf("%s: %w", stickerEnd(d.Identity), err)}
			}
			pairs = append(pairs, p)
		}
		pairs, err := w.Together(m.ctx, pairs)
		return paired{pairs: pairs, err: err}
	}
}

// each is what a last page has of several targets of one disk: what stands on each is typed.
type each struct {
	targets []*bench.Disk
	typed   []bool
}

// left are those for which it wasn't typed yet.
func (e each) left() (out []*bench.Disk) {
	for i, d := range e.targets {
		if !e.typed[i] {
			out = append(out, d)
		}
	}
	return out
}

// openEach is open for several targets on one page.
func (m *lastPage) openEach(pairs []*workshop.Pair, goAhead func() tea.Cmd) {
	m.open(workshop.SummarizeMany(pairs), goAhead)
	if m.summary == nil {
		return
	}
	for _, p := range pairs {
		m.each.targets = append(m.each.targets, p.Target)
		if o := workshop.Alike(p.Target, m.disks); o != nil {
			m.confirm, m.summary = nil, nil
			m.fail("Nothing on the sticker tells " + p.Target.Path + " from " + o.Path + ": unplug the one that must " +
				"not be written, press a on the Bench, and come back.")
			return
		}
	}
	m.each.typed = make([]bool, len(pairs))
}

// agreeToEach takes what was typed for one of the targets, and goes on when none is left.
func (m *lastPage) agreeToEach() tea.Cmd {
	typed := strings.TrimSpace(m.confirm.Value())
	found := false
	for i, d := range m.each.targets {
		if text, _ := workshop.Confirm(d.Identity); !m.each.typed[i] && strings.EqualFold(typed, text) {
			m.each.typed[i], found = true, true
			break
		}
	}
	if !found {
		m.fail("That stands on none of the targets that are left. Nothing was written.")
		return nil
	}
	m.confirm.Reset()
	if n := len(m.each.left()); n > 0 {
		m.say("%s left. Nothing is written before that.", units.Plural(n, "target"))
		return nil
	}
	m.confirm, m.summary = nil, nil
	return m.goAhead()
}

// askEach is what is to be typed for several targets.
func (m *lastPage) askEach() string {
	var whats []string
	left := m.each.left()
	for _, d := range left {
		if _, what := workshop.Confirm(d.Identity); !slices.Contains(whats, what) {
			whats = append(whats, what)
		}
	}
	return "Look at each sticker and type " + m.th.strong.Render(strings.Join(whats, "; ")) +
		fmt.Sprintf(", one after another (%d of %d left):", len(left), len(m.each.targets))
}

// eachLine is one of several targets: whether what stands on it was typed.
func (m *lastPage) eachLine(i int, line string) string {
	if m.each.typed[i] {
		return "✓ " + line
	}
	return "○ " + line
}
