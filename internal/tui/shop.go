package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/job"
	"twinshelf/internal/settings"
	"twinshelf/internal/sheet"
	"twinshelf/internal/workshop"
)

// shopField is something that the shop says of itself on papers.
type shopField struct {
	name string
	get  func(*settings.Shop) string
	set  func(*settings.Shop, string) error
	// among are what it may be; nil where anything may be typed.
	among []string
	path  bool
	// unset says what counts while nothing is chosen; nil where that is nothing.
	unset func(*settings.Shop) string
}

// usual is what is shown of a field that is empty.
func (f *shopField) usual(s *settings.Shop) string {
	if f.unset == nil {
		return "–"
	}
	return f.unset(s) + " (nothing is chosen)"
}

func textField(name string, at func(*settings.Shop) *string) shopField {
	return shopField{name: name, get: func(s *settings.Shop) string { return *at(s) },
		set: func(s *settings.Shop, text string) error {
			*at(s) = strings.TrimSpace(text)
			return nil
		}}
}

func shopFields() []shopField {
	chosen := func(f shopField, among []string, unset func(*settings.Shop) string) shopField {
		f.among, f.unset = among, unset
		return f
	}
	always := func(text string) func(*settings.Shop) string { return func(*settings.Shop) string { return text } }
	logo := textField("logo, a PNG or SVG file", func(s *settings.Shop) *string { return &s.Logo })
	logo.path = true
	address := shopField{name: "address, lines divided by |",
		get: func(s *settings.Shop) string { return strings.Join(s.Address, " | ") },
		set: func(s *settings.Shop, text string) error {
			s.Address = nil
			for _, l := range strings.Split(text, "|") {
				if l = strings.TrimSpace(l); l != "" {
					s.Address = append(s.Address, l)
				}
			}
			return nil
		}}
	offset := shopField{name: "labels moved by, in mm: right, down",
		get: func(s *settings.Shop) string { return fmt.Sprintf("%g, %g", s.LabelsRight, s.LabelsBelow) },
		set: func(s *settings.Shop, text string) (err error) {
			s.LabelsRight, s.LabelsBelow, err = sheet.Offset(text)
			return err
		}}
	numbers := textField("numbers of cases, such as YYYY-NNN", func(s *settings.Shop) *string { return &s.Numbers })
	numbers.unset = always(job.UsualNumbers)
	return []shopField{
		textField("name of the shop", func(s *settings.Shop) *string { return &s.Name }), address, logo,
		textField("technician", func(s *settings.Shop) *string { return &s.Technician }),
		numbers,
		chosen(textField("paper", func(s *settings.Shop) *string { return &s.Paper }), sheet.Papers,
			always(sheet.Papers[0])),
		chosen(textField("dates", func(s *settings.Shop) *string { return &s.Dates }),
			append([]string{asSystem}, sheet.DateForms...), always(asSystem)),
		chosen(textField("sheets of labels", func(s *settings.Shop) *string { return &s.Labels }), sheet.GridNames(),
			func(s *settings.Shop) string { return sheet.UsualGrid(s.Paper) }),
		offset,
	}
}

// asSystem is the choice of dates as the system's locale has them.
const asSystem = "as the system writes them"

// offerShop lets what stands at the top of papers be edited.
func (m *sheetPage) offerShop() {
	shop := m.w.Shop()
	fields := shopFields()
	n := menu{title: "What is printed at the top of papers?"}
	for _, f := range fields {
		says := f.get(&shop)
		if says == "" {
			says = f.usual(&shop)
		}
		n.choices = append(n.choices, choice{name: fit(f.name, 38) + says})
	}
	n.then = func(chosen []int) tea.Cmd {
		f := fields[chosen[0]]
		take := func(text string) { m.setShop(f, text) }
		label := strings.ToUpper(f.name[:1]) + f.name[1:] + ": "
		switch {
		case f.among != nil:
			m.offerAmong(f, take)
		case f.path:
			m.prompt.askPath(label, f.get(&shop), take)
		default:
			m.prompt.ask(label, f.get(&shop), take)
		}
		return nil
	}
	m.menus.offer(n)
}

// offerAmong lets one of a few be chosen.
func (m *sheetPage) offerAmong(f shopField, take func(string)) {
	shop := m.w.Shop()
	n := menu{title: strings.ToUpper(f.name[:1]) + f.name[1:] + "?"}
	for i, s := range f.among {
		n.choices = append(n.choices, choice{name: s})
		if s == f.get(&shop) {
			n.at = i
		}
	}
	n.then = func(chosen []int) tea.Cmd {
		text := f.among[chosen[0]]
		if text == asSystem {
			text = ""
		}
		take(text)
		return nil
	}
	m.menus.offer(n)
}

// setShop takes a field over, where all of it can be printed then.
func (m *sheetPage) setShop(f shopField, text string) {
	shop := m.w.Shop()
	err := f.set(&shop, text)
	if err == nil {
		err = workshop.CheckShop(&shop, f.path)
	}
	if err == nil {
		err = m.w.SetShop(shop)
	}
	if err != nil {
		m.fail(sentence(err))
		return
	}
	m.say("Papers show it from now on.")
}
