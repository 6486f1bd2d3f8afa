package tui

import (
	"context"
	"fmt"
	"path"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/inside"
	"twinshelf/internal/names"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// finding is a search over all dates, and what it found.
type finding struct {
	text    string
	res     *inside.Searched
	err     error
	at      int
	listing string // what is listed first
	cancel  context.CancelFunc
}

type (
	searched struct {
		f   *finding
		res *inside.Searched
		err error
	}
	listingNames struct {
		f    *finding
		text string
	}
)

// searchLimit is how many items a search on the screen shows.
const searchLimit = 2000

func (m *findPane) askSearch() tea.Cmd {
	if m.w.Shelf == nil {
		m.fail(workshop.ErrNoShelf.Error())
		return nil
	}
	m.prompt.ask("Name, a piece of one, or a pattern as *.ods: ", "", func(text string) {
		if text = strings.TrimSpace(text); text != "" {
			m.prompt.pending = m.search(text)
		}
	})
	return nil
}

func (m *findPane) search(text string) tea.Cmd {
	f := &finding{text: text}
	m.insidePage.inside.finding, m.insidePage.inside.viewing, m.insidePage.inside.diffing = f, nil, nil
	m.scroll = 0
	w, hidden := m.w, m.insidePage.inside.hidden
	ctx, cancel := context.WithCancel(m.ctx)
	f.cancel = cancel
	progress := make(chan string, 1)
	return tea.Batch(func() tea.Msg {
		defer close(progress)
		lib, err := w.Library()
		if err != nil {
			return searched{f, nil, err}
		}
		res, err := lib.Search(ctx, names.Query{Text: text, Hidden: hidden}, "", searchLimit,
			func(t *shelf.Twin, left int) {
				select {
				case progress <- fmt.Sprintf("Listing the names of %s of %s first; %d to go. This is done once.",
					t.Machine, units.Moment(t.Taken), left):
				default:
				}
			})
		return searched{f, res, err}
	}, hear(f, progress))
}

// hear hands on what a search tells while it goes on.
func hear(f *finding, progress chan string) tea.Cmd {
	return func() tea.Msg {
		s, ok := <-progress
		if !ok {
			return nil
		}
		return tea.BatchMsg{func() tea.Msg { return listingNames{f, s} }, hear(f, progress)}
	}
}

func (m *findPane) onSearched(msg searched) {
	if f := m.insidePage.inside.finding; f == msg.f {
		f.res, f.err = msg.res, msg.err
	}
}

// goToFound opens the newest date that has an item, and chooses it.
func (m *findPane) goToFound(f inside.Found) tea.Cmd {
	t := f.At[0].Twin
	m.insidePage.showOnBoard(t)
	kept := m.insidePage.inside.finding
	cmd := m.insidePage.lookInto(workshop.Origin{Twin: t}, fmt.Sprintf("%d.%d:%s", f.Disk, f.Part, f.Path))
	m.insidePage.inside.behind.f = kept
	m.insidePage.inside.hidden = m.insidePage.inside.hidden || strings.HasPrefix(path.Base(f.Path), ".")
	return cmd
}

func (m *findPane) findingBody(w int) []string {
	f := m.insidePage.inside.finding
	head := " " + m.th.strong.Render("Search over all dates") + "  " + m.th.reads.Render(inside.Visible(f.text))
	switch {
	case f.err != nil:
		return []string{head, " " + m.th.bad.Render(fit(f.err.Error(), w-2))}
	case f.res == nil:
		text := f.listing
		if text == "" {
			text = "Searching …"
		}
		return []string{head, m.th.dim.Render("  " + text)}
	}
	count := units.Plural(len(f.res.Found), "item")
	if f.res.More {
		count = fmt.Sprintf("the first %d items", len(f.res.Found))
	}
	out := []string{sides(head, m.th.dim.Render(fmt.Sprintf("%s in %s ", count, units.Plural(f.res.Twins, "twin"))), w)}
	for _, p := range f.res.Problems[:min(2, len(f.res.Problems))] {
		out = append(out, " "+m.th.bad.Render(fit("Not searched: "+p, w-2)))
	}
	if len(f.res.Found) == 0 {
		return append(out, "  Nothing has that name at any date. Hidden and system items are searched too after "+
			"pressing a in a folder.")
	}
	room := m.viewPane.viewRoom() - 1
	top := max(0, min(f.at-room/2, len(f.res.Found)-room))
	where := max(16, w-foundFixed)
	head2 := fit("machine", foundMachine) + fit("where", where) + right("size", 10) + "  " + fit("newest", 12) +
		fit("dates", 9)
	if w < 100 {
		where = w - foundNarrow
		head2 = fit("machine", foundMachine) + fit("where", where) + fit("newest", 12) + "dates"
	}
	out = append(out, m.th.dim.Render("   "+head2))
	for i := top; i < len(f.res.Found) && i < top+room; i++ {
		x := f.res.Found[i]
		place := inside.Visible(x.Label())
		if n := len([]rune(place)); n > where-1 { // the end tells more
			place = "…" + string([]rune(place)[n-where+2:])
		}
		row := fit(x.Machine, foundMachine) + fit(place, where)
		if i == f.at {
			row = " ▶ " + m.th.here.Render(row)
		} else {
			row = "   " + row
		}
		out = append(out, row+foundRest(m.th, x, w))
	}
	return out
}

// Widths of a row of a search's list: the machine's, and everything but the place where the item is.
const (
	foundMachine = 17
	foundFixed   = foundMachine + 10 + 12 + 9 + 20
	foundNarrow  = 3 + foundMachine + 12 + 11
)

func foundRest(th theme, x inside.Found, w int) string {
	newest := fit(x.At[0].Twin.Taken.Format("2006-01-02"), 12)
	if w < 100 {
		s := newest + fit(fmt.Sprintf("%d/%d", len(x.At), x.Of), 6)
		if x.Gone {
			s += th.caution.Render("gone")
		}
		return s
	}
	size := inside.KindWord(x.Kind)
	if x.Kind == names.File {
		size = th.size(x.At[0].Entry.Size)
	}
	s := right(size, 10) + "  " + newest + fit(fmt.Sprintf("%d of %d", len(x.At), x.Of), 9)
	if x.Gone {
		s += th.caution.Render("gone since")
	}
	return s
}
