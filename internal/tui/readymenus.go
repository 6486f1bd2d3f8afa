package tui

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/ready"
	"twinshelf/internal/shelf"
	"twinshelf/internal/sizes"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// offerKinds lets a new file system be chosen for a part, or none.
func (m *readyPage) offerKinds(i int) {
	p := &m.ready.draft.Parts[i]
	sector := m.ready.draft.Identity.Sector
	fits := func(k fsys.Maker) bool { return p.Span.Len() >= k.Min(sector) && p.Span.Len() <= k.Max(sector) }
	makers := families.Makers()
	slices.SortStableFunc(makers, func(a, b fsys.Maker) int { // what can't be comes last
		if fits(a) == fits(b) {
			return 0
		}
		if fits(a) {
			return -1
		}
		return 1
	})
	n := menu{title: fmt.Sprintf("File system of part %d, %s", p.Number, sizes.Words(p.Span.Len()))}
	if p.Old != nil {
		n.title += fmt.Sprintf(". What is on it now (%s) will be gone", p.Old.Title())
	}
	for _, k := range makers {
		about := k.About + "; " + ready.FileLimit(k)
		if !fits(k) {
			about = fmt.Sprintf("not for this part: it takes %s to %s", m.th.size(k.Min(sector)),
				m.th.size(k.Max(sector)))
		}
		n.choices = append(n.choices, choice{name: k.Kind, about: about})
	}
	none := choice{name: "none", about: "the part stays empty, for instance for a swap area or for a restore"}
	if p.Old != nil {
		none = choice{name: "as it is", about: "what is on the part stays"}
	}
	n.choices = append(n.choices, none)
	n.at = slices.IndexFunc(makers, func(k fsys.Maker) bool { return k.Kind == ready.UsualHere() })
	if p.Form != nil {
		n.at = slices.IndexFunc(makers, func(k fsys.Maker) bool { return k.Kind == p.Form.Kind })
	}
	n.then = func(chosen []int) tea.Cmd {
		kind := ""
		if chosen[0] < len(makers) {
			kind = makers[chosen[0]].Kind
		}
		if m.edit(func(d *ready.Draft) error { return d.SetForm(i, kind, "", 0) }) && kind != "" {
			m.askLabel(i, kind)
		}
		return nil
	}
	m.menus.offer(n)
}

func (m *readyPage) askLabel(i int, kind string) {
	maker, err := families.MakerOf(kind)
	if err != nil {
		m.fail(sentence(err))
		return
	}
	d := m.ready.draft
	label, unit := d.Parts[i].Form.Label, d.Parts[i].Form.Unit
	m.prompt.ask(fmt.Sprintf("Label of the %s on part %d (may stay empty): ", kind, d.Parts[i].Number), label,
		func(text string) {
			m.edit(func(d *ready.Draft) error {
				text = strings.TrimSpace(text)
				if err := d.SetForm(i, kind, text, unit); err != nil {
					return err
				}
				if p := &d.Parts[i]; p.Old == nil && d.Kind == table.GPT && p.Name == "" {
					p.Name = text
				}
				return nil
			})
		})
	m.prompt.live = func(text string) {
		if m.prompt.says, m.prompt.wrong = "", false; maker.Label(strings.TrimSpace(text)) != nil {
			m.prompt.says, m.prompt.wrong = maker.Label(strings.TrimSpace(text)).Error(), true
		}
	}
}

func (m *readyPage) offerUnits(i int) {
	d := m.ready.draft
	p := &d.Parts[i]
	if p.Form == nil {
		m.say("An allocation unit comes with a new file system: press f first.")
		return
	}
	maker, err := families.MakerOf(p.Form.Kind)
	if err != nil {
		m.fail(sentence(err))
		return
	}
	all, usual := maker.Units(p.Span.Len(), d.Identity.Sector)
	n := menu{title: fmt.Sprintf("Allocation unit of the %s on part %d: larger ones suit large files, smaller ones "+
		"waste less", p.Form.Kind, p.Number)}
	for j, u := range all {
		c := choice{name: units.Binary(u)}
		if u == usual {
			c.about, n.at = "the usual one for a part of this size", j
		}
		n.choices = append(n.choices, c)
	}
	kind, label := p.Form.Kind, p.Form.Label
	n.then = func(chosen []int) tea.Cmd {
		m.edit(func(d *ready.Draft) error { return d.SetForm(i, kind, label, all[chosen[0]]) })
		return nil
	}
	m.menus.offer(n)
}

func (m *readyPage) offerTypes(i int) {
	d := m.ready.draft
	types := table.Types(d.Kind)
	n := menu{title: fmt.Sprintf("What part %d is for, as the table says it", d.Parts[i].Number)}
	for j, t := range types {
		n.choices = append(n.choices, choice{name: fmt.Sprintf("%-24s %s", t.Name, t.Type)})
		if t.Type == d.Parts[i].Type {
			n.at = j
		}
	}
	n.then = func(chosen []int) tea.Cmd {
		m.edit(func(d *ready.Draft) error { return d.SetType(i, types[chosen[0]].Type) })
		return nil
	}
	m.menus.offer(n)
}

// offerPurposes lets a purpose fill the plan.
func (m *readyPage) offerPurposes() {
	n := menu{title: "What is this disk for? The plan is filled, and can be edited afterwards"}
	for _, p := range ready.Purposes {
		n.choices = append(n.choices, choice{name: p.Title(), about: p.About()})
	}
	n.choices = append(n.choices, stickPurpose)
	n.then = func(chosen []int) tea.Cmd {
		if chosen[0] == len(ready.Purposes) {
			offerStick(m)
			return nil
		}
		switch ready.Purposes[chosen[0]] {
		case ready.ForStorage:
			m.offerMachines()
		case ready.ForSharing:
			m.offerSystems()
		case ready.ForSystem:
			m.offerShapes()
		case ready.ForKinds:
			m.offerSplit()
		}
		return nil
	}
	m.menus.offer(n)
}

// fill does what a purpose wants, on an empty layout when the disk is laid out anew.
func (m *readyPage) fill(do func(*ready.Draft) error) {
	if m.edit(func(d *ready.Draft) error {
		if d.New {
			d.Parts, d.Notes = nil, nil
		}
		return do(d)
	}) {
		m.ready.row = 0
	}
}

func (m *readyPage) offerMachines() {
	twins := m.datesPage.twins()
	names := workshop.Machines(twins)
	if len(names) == 0 {
		m.fill(func(d *ready.Draft) error { return d.Storage(0, "shelf") })
		m.say("Nothing is on a shelf yet, so the part takes all the room.")
		return
	}
	n := menu{title: "Which machines will the shelf on it hold?", several: true}
	for _, name := range names {
		used, _ := workshop.UsedOn(twins, name)
		n.choices = append(n.choices, choice{name: name, about: m.th.size(used) + " used in the newest twin",
			on: true})
	}
	n.then = func(chosen []int) tea.Cmd {
		var machines []string
		for _, i := range chosen {
			machines = append(machines, names[i])
		}
		need := func(text string) (workshop.Need, error) {
			dates, err := strconv.Atoi(strings.TrimSpace(text))
			if err != nil {
				return workshop.Need{}, fmt.Errorf("%q is no number of dates", text)
			}
			return workshop.ShelfNeed(twins, machines, dates)
		}
		m.prompt.ask("Room for how many dates of each? ", "12", func(text string) {
			m.fill(func(d *ready.Draft) error {
				n, err := need(text)
				if err != nil {
					return err
				}
				d.Notes = append(d.Notes, n.Words...)
				return d.Storage(n.Bytes, "shelf")
			})
		})
		m.prompt.live = func(text string) {
			n, err := need(text)
			if m.prompt.wrong = err != nil; m.prompt.wrong {
				m.prompt.says = err.Error()
				return
			}
			m.prompt.says = "needs " + sizes.Words(n.Bytes)
		}
		m.prompt.live("12")
		return nil
	}
	m.menus.offer(n)
}

func (m *readyPage) offerSystems() {
	names := ready.Systems()
	n := menu{title: "Which systems must be able to read and write it?", several: true}
	for _, s := range names {
		n.choices = append(n.choices, choice{name: s})
	}
	n.then = func(chosen []int) tea.Cmd {
		var systems []string
		for _, i := range chosen {
			systems = append(systems, names[i])
		}
		m.fill(func(d *ready.Draft) error { return d.Shared(systems, "") })
		return nil
	}
	m.menus.offer(n)
}

func (m *readyPage) offerShapes() {
	type shape struct {
		twin *shelf.Twin
		disk int
	}
	var shapes []shape
	n := menu{title: "Which machine's disk is the layout taken from? Parts like its own are made, empty; nothing on " +
		"this disk " +
		"stays"}
	for i := range m.datesPage.boards {
		b := &m.datesPage.boards[i]
		t := b.twins[b.at]
		for j, d := range t.Disks {
			if len(d.Parts()) > 0 && d.Table.Kind != table.None {
				shapes = append(shapes, shape{t, j})
				n.choices = append(n.choices,
					choice{name: fmt.Sprintf("%s, %s", t.Machine, d.Identity.Model),
						about: fmt.Sprintf("%s, %s, %s used on %s", m.th.size(d.Identity.Size),
							units.Plural(len(d.Parts()), "part"), m.th.size(d.Used), units.Moment(t.Taken))})
			}
		}
	}
	if len(shapes) == 0 {
		m.fail("There is no twin whose shape could be taken: capture a machine first.")
		return
	}
	n.then = func(chosen []int) tea.Cmd {
		s := shapes[chosen[0]]
		empty, err := workshop.DraftAnew(m.target, s.twin.Disks[s.disk].Table.Kind)
		if err != nil {
			m.fail(sentence(err))
			return nil
		}
		m.edit(func(d *ready.Draft) error {
			*d = *empty
			return d.System(workshop.ShapeOf(s.twin, s.disk))
		})
		return nil
	}
	m.menus.offer(n)
}

func (m *readyPage) offerSplit() {
	makers := families.Makers()
	n := menu{title: "A part for each of which file systems? All of the same size", several: true}
	for _, k := range makers {
		n.choices = append(n.choices, choice{name: k.Kind, about: k.About + "; " + ready.FileLimit(k)})
	}
	n.then = func(chosen []int) tea.Cmd {
		var kinds []string
		for _, i := range chosen {
			kinds = append(kinds, makers[i].Kind)
		}
		m.fill(func(d *ready.Draft) error { return d.Split(kinds) })
		return nil
	}
	m.menus.offer(n)
}

// offerErasing lets a way of erasing be chosen, with what each means for this disk.
func (m *readyPage) offerErasing() {
	d := m.target
	medium := workshop.MediumOf(d)
	ways := ready.Ways(medium)
	erases := &outcome{state: "blank: erases nothing"}
	if !d.Survey.Blank() {
		erases = &outcome{"ERASES EVERYTHING", true}
	}
	n := menu{title: "Erase " + d.Identity.Model + ": where does the drive go next?", outcome: erases}
	for _, way := range ways {
		n.choices = append(n.choices, choice{name: way.Title(), about: way.About(medium)})
	}
	n.then = func(chosen []int) tea.Cmd {
		w, ctx, way := m.w, m.ctx, ways[chosen[0]]
		return func() tea.Msg {
			e, err := w.PlanErase(ctx, d, way)
			if err != nil {
				return asked{err: err}
			}
			return asked{summary: workshop.SummarizeErase(e, d), outcome: erases, goAhead: func() tea.Cmd {
				return m.startAlone(w.StartErase(ctx, e), e.CancelWords(), erases)
			}}
		}
	}
	m.menus.offer(n)
}
