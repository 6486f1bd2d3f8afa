package tui

import (
	"context"
	"path/filepath"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/job"
	"twinshelf/internal/sheet"
	"twinshelf/internal/shelf"
	"twinshelf/internal/workshop"
)

// paper is what is printed of a case, or of the shelf.
type paper int

const (
	wholeSheet paper = iota
	customersPages
	engineersPages
	certificate
	checkReport
	shelfList
	stickCard
)

var paperNames = [...]string{"job sheet", "job sheet, the customer's pages", "job sheet, the engineers' pages",
	"certificate of erasure", "report of drive checks", "list of what is on the shelf", "card of a starting stick"}

// pagesOf are the pages of the sheet that a paper has.
var pagesOf = map[paper]sheet.Pages{customersPages: sheet.ForCustomer, engineersPages: sheet.ForEngineers}

// shown is the paper that is chosen, as it will be printed; why says that it can't be.
func (m *sheetPage) shown(j *job.Job) (title string, blocks []sheet.Block, why error) {
	s := sheet.Sheet{Head: m.w.PlainHead(), Job: j, Only: pagesOf[m.paper]}
	switch m.paper {
	case certificate:
		blocks, why = s.Certified()
		return "Certificate of erasure " + j.Number, blocks, why
	case checkReport:
		blocks, why = s.Reported()
		return "Drive checks " + j.Number, blocks, why
	case shelfList:
		if m.list == nil {
			return "Shelf list", []sheet.Block{{Text: "Reading the shelf …"}}, nil
		}
		return "Shelf list " + m.list.Shelf, m.list.Blocks(), nil
	case stickCard:
		c, _ := m.w.StickCard()
		return "Starting stick", c.Blocks(), nil
	}
	return "Job sheet " + j.Number, s.Blocks(), nil
}

// offerPapers lets a paper be chosen; it is shown then, and Enter saves it.
func (m *sheetPage) offerPapers(j *job.Job) {
	n := menu{title: "Which paper?", at: int(m.paper)}
	for _, name := range paperNames {
		n.choices = append(n.choices, choice{name: name})
	}
	if _, err := (sheet.Sheet{Job: j}).Certified(); err != nil {
		n.choices[certificate].no = err.Error()
	}
	if _, err := (sheet.Sheet{Job: j}).Reported(); err != nil {
		n.choices[checkReport].no = err.Error()
	}
	if m.w.Shelf == nil {
		n.choices[shelfList].no = "no shelf is open"
	}
	n.then = func(chosen []int) tea.Cmd {
		m.paper, m.list = paper(chosen[0]), nil
		m.scrollBeside = 0
		if m.paper == shelfList {
			return m.readList()
		}
		return nil
	}
	m.menus.offer(n)
}

// listRead is what is on the shelf.
type listRead struct {
	list sheet.ShelfList
	err  error
}

func (m *sheetPage) readList() tea.Cmd {
	w, ctx := m.w, m.ctx
	return func() tea.Msg {
		l, _, err := w.ShelfList(ctx) // without a logo it is shown all the same
		return listRead{l, err}
	}
}

func onListRead(m *sheetPage, msg listRead) {
	if msg.err != nil {
		m.paper = wholeSheet
		m.fail(sentence(msg.err))
		return
	}
	if m.paper == shelfList {
		m.list = &msg.list
	}
}

// save asks for a file, and writes the paper that is shown; of a sheet, .svg is its drawing.
func (m *sheetPage) save(j *job.Job) {
	w := m.w
	switch m.paper {
	case certificate:
		m.certify(j)
		return
	case checkReport:
		m.saveAs("File for the report of drive checks, .pdf: ", fileName("checked", j.Number),
			func(context.Context, string) ([]byte, error, error) {
				s, noLogo := w.SheetOf(j, "")
				b, err := s.Report()
				return b, noLogo, err
			})
		return
	case shelfList:
		m.saveAs("File for the list, .pdf: ", fileName("shelf", w.Shelf.Head().Name), func(ctx context.Context,
			file string) ([]byte, error, error) {
			l, noLogo, err := w.ShelfList(ctx)
			if err != nil {
				return nil, noLogo, err
			}
			b, err := l.PDF()
			return b, noLogo, err
		})
		return
	}
	if m.paper == stickCard {
		m.saveAs("File for the card, .pdf: ", "starting-stick", func(context.Context, string) ([]byte, error, error) {
			c, noLogo := w.StickCard()
			b, err := c.PDF()
			return b, noLogo, err
		})
		return
	}
	only := pagesOf[m.paper]
	m.saveAs("File for the sheet, .pdf, or .svg for its drawing: ", fileName("sheet", j.Number),
		func(_ context.Context, file string) ([]byte, error, error) {
			s, noLogo := w.SheetOf(j, only)
			b, err := s.As(filepath.Ext(file))
			return b, noLogo, err
		})
}

// certify asks for a file, and writes the certificate of what was erased in the case.
func (m *sheetPage) certify(j *job.Job) {
	w := m.w
	if _, err := (sheet.Sheet{Job: j}).Certified(); err != nil {
		m.say("%s", sentence(err))
		return
	}
	m.saveAs("File for the certificate of erasure, .pdf: ", fileName("erased", j.Number),
		func(context.Context, string) ([]byte, error, error) {
			s, noLogo := w.SheetOf(j, "")
			b, err := s.Certificate()
			return b, noLogo, err
		})
}

// paperSaved is a paper that was made; noLogo says why it has no logo.
type paperSaved struct {
	file        string
	noLogo, err error
}

func onPaperSaved(m *model, msg paperSaved) {
	switch {
	case msg.err != nil:
		m.fail(sentence(msg.err))
	case msg.noLogo != nil:
		m.fail("It is in " + msg.file + ", without the logo: " + msg.noLogo.Error())
	default:
		m.say("It is in %s.", msg.file)
	}
}

// saveAs asks for a file with a usual name, and makes a paper into it.
func (m *sheetPage) saveAs(label, name string, made func(ctx context.Context, file string) (b []byte, noLogo,
	err error)) {
	m.prompt.askPath(label, savedIn(m.model, name+".pdf"), func(file string) {
		file = strings.TrimSpace(file)
		ctx := m.ctx
		m.prompt.pending = func() tea.Msg {
			b, noLogo, err := made(ctx, file)
			if err == nil {
				err = workshop.WriteNew(file, b)
			}
			return paperSaved{file, noLogo, err}
		}
	})
}

// offerLabels lets what gets a label be chosen, and saves the labels.
func (m *sheetPage) offerLabels() {
	w := m.w
	n := menu{title: "What are the labels for?", several: true}
	var each []func(context.Context) []sheet.Label
	add := func(name, about string, l func(context.Context) []sheet.Label) {
		n.choices = append(n.choices, choice{name: strings.TrimRight(fit(name, 34)+about, " ")})
		each = append(each, l)
	}
	for _, d := range m.disks {
		add(stickerEnd(d.Identity), m.datesPage.owners.of(d).machine, labelOf(w, d))
	}
	for i := range m.datesPage.boards {
		if t := newestOf(m.datesPage.boards[i].twins); t != nil && len(t.Disks) > 0 {
			add("the disks of "+t.Machine, "by its newest twin", func(context.Context) []sheet.Label {
				return w.TwinLabels(t)
			})
		}
	}
	if w.Shelf != nil {
		add("the drive of the shelf "+w.Shelf.Head().Name, "", func(context.Context) []sheet.Label {
			l, err := w.ShelfLabel()
			if err != nil {
				return nil
			}
			return []sheet.Label{l}
		})
	}
	add("a stick that starts PCs", "", func(context.Context) []sheet.Label { return []sheet.Label{w.StickLabel()} })
	n.then = func(chosen []int) tea.Cmd {
		m.askSkip(func(ctx context.Context) (all []sheet.Label) {
			for _, i := range chosen {
				all = append(all, each[i](ctx)...)
			}
			return all
		})
		return nil
	}
	m.menus.offer(n)
}

func labelOf(w *workshop.Workshop, d *bench.Disk) func(context.Context) []sheet.Label {
	return func(ctx context.Context) []sheet.Label { return []sheet.Label{w.DiskLabel(ctx, d)} }
}

// newestOf is the newest twin; nil without any.
func newestOf(twins []*shelf.Twin) (newest *shelf.Twin) {
	for _, t := range twins {
		if newest == nil || t.Taken.After(newest.Taken) {
			newest = t
		}
	}
	return newest
}

// askSkip asks how much of the first sheet of labels is used up, and saves them.
func (m *sheetPage) askSkip(labels func(context.Context) []sheet.Label) {
	w := m.w
	m.prompt.ask("How many labels on the first sheet are already used? ", "0", func(text string) {
		skip, err := strconv.Atoi(strings.TrimSpace(text))
		if err != nil {
			m.fail("That is no number.")
			return
		}
		m.saveAs("File for the labels, .pdf, to be printed at 100 %: ", "labels",
			func(ctx context.Context, _ string) ([]byte, error, error) {
				l, err := w.Labels(labels(ctx))
				if err != nil {
					return nil, nil, err
				}
				l.Skip = skip
				b, err := l.PDF()
				return b, nil, err
			})
	})
}
