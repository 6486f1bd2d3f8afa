package tui

import (
	"context"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/job"
)

func (m *sheetPage) bindings() []binding {
	fresh := binding{"a", "a", "new case", "open a case before anything is done, and choose it", acts(m.open)}
	labels := binding{"l", "l", "labels", "save labels for drives and sticks", acts(m.offerLabels)}
	shop := binding{"h", "h", "head", "the shop's name, address, logo and what else is printed at the top",
		acts(m.offerShop)}
	j := m.here()
	if j == nil {
		return []binding{fresh, m.scrolled(), labels, shop}
	}
	why := ""
	if !j.Open() {
		why = "Case " + j.Number + " is closed: x opens it again."
	}
	closing := binding{"x", "x", "close it", "close the case, or open it again", leads(m.toggle)}
	if !j.Open() {
		closing.does = "open again"
	}
	return []binding{
		{"enter", "Enter", "save the paper", "save the paper that is shown as PDF, or the sheet's drawing as SVG",
			acts(func() { m.save(j) })},
		move(listKeys, "case", "choose which case is shown", &m.row, len(m.jobs)),
		m.unless(why, binding{"space", "Space", "choose it", "what is done from now on belongs to this case",
			leads(func() tea.Cmd { return m.choose(j) })}),
		{"n", "n", "note", "add a note to the case", acts(func() { m.note(j) })},
		{"e", "e", "edit", "number, customer, machine and what else the sheet says of the case",
			acts(func() { m.offerFields(j) })},
		{"/", "/", "find", "go to the next case that has a text in it", acts(func() {
			m.prompt.ask("Number, name, serial number or a piece of a note: ", "", m.find)
		})},
		fresh, closing,
		{"p", "p", "papers", "choose the paper: the sheet or some of its pages, the certificate, the shelf's list",
			acts(func() { m.offerPapers(j) })},
		labels, shop,
		{"c", "c", "certificate", "save the certificate of what was erased in the case", acts(func() { m.certify(j) })},
	}
}

// enters does something to the record, and reads it again.
func (m *sheetPage) enters(do func(context.Context) error, says string) tea.Cmd {
	if err := do(m.ctx); err != nil {
		m.fail(sentence(err))
		return nil
	}
	m.say("%s", says)
	return m.readJobs()
}

func (m *sheetPage) choose(j *job.Job) tea.Cmd {
	return m.enters(func(ctx context.Context) error { return m.w.UseOpenJob(ctx, j) },
		"Case "+j.Number+" is chosen: what is done now belongs to it.")
}

func (m *sheetPage) toggle() tea.Cmd {
	j := m.here()
	if j.Open() {
		return m.enters(func(ctx context.Context) error { return m.w.CloseJob(ctx, j) }, "Case "+j.Number+" is closed.")
	}
	return m.enters(func(ctx context.Context) error { return m.w.ReopenJob(ctx, j) },
		"Case "+j.Number+" is open again, and chosen.")
}

func (m *sheetPage) note(j *job.Job) {
	m.prompt.ask("Note: ", "", func(text string) {
		if text = strings.TrimSpace(text); text != "" {
			m.prompt.pending = m.enters(func(ctx context.Context) error { return m.w.NoteJob(ctx, j, text) }, "Noted.")
		}
	})
}

// open asks for the customer, and opens a case.
func (m *sheetPage) open() {
	m.prompt.ask("Whose machine is it? (may stay empty): ", "", func(customer string) {
		m.prompt.pending = m.enters(func(ctx context.Context) error {
			j, err := m.w.NewJob(ctx, job.Case{Customer: strings.TrimSpace(customer)})
			if err == nil {
				m.jobs = append([]*job.Job{j}, m.jobs...)
				m.row = 0
			}
			return err
		}, "The case is open, and chosen.")
	})
}

// offerFields lets what the case is about be edited.
func (m *sheetPage) offerFields(j *job.Job) {
	about := j.Case
	fields := []struct {
		name string
		at   *string
	}{{"number", &about.Number}, {"customer", &about.Customer}, {"contact", &about.Contact},
		{"machine on the shelf", &about.Machine}, {"maker of the machine", &about.Maker}, {"its model", &about.Model},
		{"its serial number", &about.Serial}, {"asked for", &about.Asked}, {"technician", &about.Technician}}
	n := menu{title: "What of case " + j.Number + " is to be edited?"}
	for _, f := range fields {
		n.choices = append(n.choices, choice{name: fit(f.name, 22) + *f.at})
	}
	c := m.w.Computer()
	if c.Name() != "" && !m.w.Demo {
		n.choices = append(n.choices, choice{name: fit("it is this computer", 22) +
			strings.TrimSpace(c.Maker+" "+c.Model+" "+c.Serial)})
	}
	n.then = func(chosen []int) tea.Cmd {
		if chosen[0] == len(fields) {
			about.Maker, about.Model, about.Serial = c.Maker, c.Model, c.Serial
			return m.enters(func(ctx context.Context) error { return m.w.ChangeJob(ctx, j, about) },
				"The case is changed.")
		}
		f := fields[chosen[0]]
		m.prompt.ask(strings.ToUpper(f.name[:1])+f.name[1:]+": ", *f.at, func(text string) {
			*f.at = strings.TrimSpace(text)
			m.prompt.pending = m.enters(func(ctx context.Context) error { return m.w.ChangeJob(ctx, j, about) },
				"The case is changed.")
		})
		return nil
	}
	m.menus.offer(n)
}

// find goes to the next case that has a text in it.
func (m *sheetPage) find(text string) {
	if text = strings.TrimSpace(text); text == "" {
		return
	}
	for i := range m.jobs {
		if at := (m.row + 1 + i) % len(m.jobs); m.jobs[at].Has(text) {
			m.row = at
			return
		}
	}
	m.fail("No case has " + text + " in it.")
}

// offerCases lets the case be chosen that work belongs to.
func (m *sheetPage) offerCases() {
	open := slices.DeleteFunc(slices.Clone(m.jobs), func(j *job.Job) bool { return !j.Open() })
	n := menu{title: "Which case does the work belong to?"}
	for i, j := range open {
		n.choices = append(n.choices, choice{name: fit(j.Number, 12) + "  " + j.Machine, about: j.Customer})
		if j.ID == m.chosen {
			n.at = i
		}
	}
	n.choices = append(n.choices, choice{name: "a new case …"})
	n.then = func(chosen []int) tea.Cmd {
		if chosen[0] == len(open) {
			m.open()
			return nil
		}
		return m.choose(open[chosen[0]])
	}
	m.menus.offer(n)
}
