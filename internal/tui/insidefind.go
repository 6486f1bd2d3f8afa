package tui

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/inside"
	"twinshelf/internal/names"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/takeout"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// finding is a search over all dates, and what it found.
type finding struct {
	text    string
	res     *workshop.Searched
	err     error
	at      int
	listing string // what is listed first
}

type (
	searched struct {
		f   *finding
		res *workshop.Searched
		err error
	}
	listingNames struct {
		f    *finding
		text string
	}
	compared struct {
		d             *diffing
		before, after *workshop.Inside
		all           []workshop.PartDifference
		err           error
	}
)

// searchLimit is how many items a search on the screen shows.
const searchLimit = 2000

func (m *model) askSearch() tea.Cmd {
	if m.w.Shelf == nil {
		m.fail(workshop.ErrNoShelf.Error())
		return nil
	}
	m.ask("Name, a piece of one, or a pattern as *.ods: ", "", func(text string) {
		if text = strings.TrimSpace(text); text != "" {
			m.pending = m.search(text)
		}
	})
	return nil
}

func (m *model) search(text string) tea.Cmd {
	f := &finding{text: text}
	m.inside.finding, m.inside.viewing, m.inside.diffing = f, nil, nil
	m.scroll = 0
	w, ctx, hidden := m.w, m.ctx, m.inside.hidden
	progress := make(chan string, 1)
	return tea.Batch(func() tea.Msg {
		defer close(progress)
		res, err := w.Search(ctx, names.Query{Text: text, Hidden: hidden}, "", searchLimit, func(t *shelf.Twin, left int) {
			select {
			case progress <- fmt.Sprintf("Listing the names of %s of %s first; %d to go. This is done once.", t.Machine, units.Moment(t.Taken), left):
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

func (m *model) onSearched(msg searched) {
	if f := m.inside.finding; f == msg.f {
		f.res, f.err = msg.res, msg.err
	}
}

func (m *model) keyFinding(k string) (tea.Cmd, bool) {
	l := &m.inside
	f := l.finding
	n := 0
	if f.res != nil {
		n = len(f.res.Found)
	}
	page := max(1, m.viewRoom()-1)
	switch k {
	case "esc", "q", "left":
		l.finding = nil
		if l.in == nil {
			return m.back(), true
		}
	case "/":
		return m.askSearch(), true
	case "pgdown":
		f.at = max(0, min(f.at+page, n-1))
	case "pgup":
		f.at = max(0, f.at-page)
	case "enter", "right":
		if f.at < n {
			return m.goToFound(f.res.Found[f.at]), true
		}
	case "up", "k", "down", "j", "home", "end", "g", "G":
		f.at = moved(k, f.at, n)
	default:
		return nil, false
	}
	return nil, true
}

// goToFound opens the newest date that has an item, and chooses it.
func (m *model) goToFound(f workshop.Found) tea.Cmd {
	t := f.At[0].Twin
	m.showOnBoard(t)
	kept := m.inside.finding
	cmd := m.lookInto(workshop.Origin{Twin: t}, fmt.Sprintf("%d.%d:%s", f.Disk, f.Part, f.Path))
	m.inside.behind.f = kept
	m.inside.hidden = m.inside.hidden || strings.HasPrefix(path.Base(f.Path), ".")
	return cmd
}

func (m *model) findingBody(w int) []string {
	f := m.inside.finding
	head := " " + strong.Render("Search over all dates") + "  " + reads.Render(clean(f.text))
	switch {
	case f.err != nil:
		return []string{head, " " + bad.Render(fit(f.err.Error(), w-2))}
	case f.res == nil:
		text := f.listing
		if text == "" {
			text = "Searching …"
		}
		return []string{head, dim.Render("  " + text)}
	}
	count := units.Plural(len(f.res.Found), "item")
	if f.res.More {
		count = fmt.Sprintf("the first %d items", len(f.res.Found))
	}
	out := []string{sides(head, dim.Render(fmt.Sprintf("%s in %s ", count, units.Plural(f.res.Twins, "twin"))), w)}
	for _, p := range f.res.Problems[:min(2, len(f.res.Problems))] {
		out = append(out, " "+bad.Render(fit("Not searched: "+p, w-2)))
	}
	if len(f.res.Found) == 0 {
		return append(out, "  Nothing has that name at any date. Hidden and system items are searched too after pressing . in a folder.")
	}
	room := m.viewRoom() - 1
	top := max(0, min(f.at-room/2, len(f.res.Found)-room))
	where := max(16, w-foundFixed)
	head2 := fit("machine", foundMachine) + fit("where", where) + right("size", 10) + "  " + fit("newest", 12) + fit("dates", 9)
	if w < 100 {
		where = w - foundNarrow
		head2 = fit("machine", foundMachine) + fit("where", where) + fit("newest", 12) + "dates"
	}
	out = append(out, dim.Render("   "+head2))
	for i := top; i < len(f.res.Found) && i < top+room; i++ {
		x := f.res.Found[i]
		place := clean(x.Label())
		if n := len([]rune(place)); n > where-1 { // the end tells more
			place = "…" + string([]rune(place)[n-where+2:])
		}
		row := fit(x.Machine, foundMachine) + fit(place, where)
		if i == f.at {
			row = " ▶ " + here.Render(row)
		} else {
			row = "   " + row
		}
		out = append(out, row+foundRest(x, w))
	}
	return out
}

// Widths of a row of a search's list: the machine's, and everything but the place where the item is.
const (
	foundMachine = 17
	foundFixed   = foundMachine + 10 + 12 + 9 + 20
	foundNarrow  = 3 + foundMachine + 12 + 11
)

func foundRest(x workshop.Found, w int) string {
	newest := fit(x.At[0].Twin.Taken.Format("2006-01-02"), 12)
	if w < 100 {
		s := newest + fit(fmt.Sprintf("%d/%d", len(x.At), x.Of), 6)
		if x.Gone {
			s += caution.Render("gone")
		}
		return s
	}
	size := workshop.KindWord(x.Kind)
	if x.Kind == names.File {
		size = units.Bytes(x.At[0].Entry.Size)
	}
	s := right(size, 10) + "  " + newest + fit(fmt.Sprintf("%d of %d", len(x.At), x.Of), 9)
	if x.Gone {
		s += caution.Render("gone since")
	}
	return s
}

// diffing is a comparison of two dates, or of a date and a disk.
type diffing struct {
	title  string
	before *workshop.Inside
	after  *workshop.Inside
	disk   *bench.Disk // what after is, when it is a disk
	all    []workshop.PartDifference
	rows   []diffRow
	err    error
	done   bool
	at     int
}

// diffRow is a line of a comparison: the head of a part (d nil), or a difference.
type diffRow struct {
	part *workshop.PartDifference
	d    *names.Difference
}

// offerComparison lets the other date be chosen.
func (m *model) offerComparison() {
	l := &m.inside
	if l.in.Twin == nil || len(m.boards) == 0 {
		m.say("There is no other date to compare a disk with here; \"twinshelf compare\" does it.")
		return
	}
	var others []*shelf.Twin
	n := menu{title: "Compare with which date of " + l.in.Twin.Machine + "?"}
	b := &m.boards[m.board]
	for i := len(b.twins) - 1; i >= 0; i-- {
		if t := b.twins[i]; t.ID != l.in.Twin.ID {
			others = append(others, t)
			n.choices = append(n.choices, choice{name: units.Moment(t.Taken), about: ""})
			if i == b.at-1 {
				n.at = len(n.choices) - 1
			}
		}
	}
	if len(others) == 0 {
		m.say("This machine has no other date.")
		return
	}
	n.then = func(chosen []int) tea.Cmd { return m.compareWith(others[chosen[0]]) }
	m.offer(n)
}

func (m *model) compareWith(other *shelf.Twin) tea.Cmd {
	l := &m.inside
	older, newer := other, l.in.Twin
	if older.Taken.After(newer.Taken) {
		older, newer = newer, older
	}
	d := &diffing{title: fmt.Sprintf("%s: from %s to %s", newer.Machine, older.Taken.Format("2006-01-02 15:04"), newer.Taken.Format("2006-01-02 15:04"))}
	part, folder := l.part, ""
	if part != nil && l.path != "." {
		folder = l.path
	}
	w := m.w
	return m.compare(d, part, folder, func() (before, after *workshop.Inside, err error) {
		if before, err = w.LookInto(workshop.Origin{Twin: older}); err == nil {
			after, err = w.LookInto(workshop.Origin{Twin: newer})
		}
		return before, after, err
	})
}

// compare works out a comparison in the background; part nil means all of them.
func (m *model) compare(d *diffing, part *inside.Part, folder string, open func() (before, after *workshop.Inside, err error)) tea.Cmd {
	m.inside.diffing, m.scroll = d, 0
	w, ctx := m.w, m.ctx
	return func() tea.Msg {
		before, after, err := open()
		if err != nil {
			return compared{d: d, err: err}
		}
		only := part
		if part != nil {
			only = after.Same(part)
		}
		all, err := w.CompareInside(ctx, before, after, only, folder)
		return compared{d, before, after, all, err}
	}
}

// compareProven shows what the last restore brought back: the newest date of the machine against the disk that was written.
func (m *model) compareProven() tea.Cmd {
	target := m.again(&bench.Disk{Path: m.written})
	t := m.twin()
	if m.written == "" || target == nil || t == nil {
		m.say("Nothing was restored here yet; \"twinshelf compare\" compares any two.")
		return nil
	}
	b := &m.boards[m.board]
	newest := b.twins[len(b.twins)-1]
	m.inside = lookingIn{from: m.step, number: m.inside.number}
	d := &diffing{title: fmt.Sprintf("%s: from %s to what was restored", b.machine, newest.Taken.Format("2006-01-02 15:04")), disk: target}
	w := m.w
	cmd := m.goTo(stepInside)
	return tea.Batch(cmd, m.compare(d, nil, "", func() (before, after *workshop.Inside, err error) {
		if before, err = w.LookInto(workshop.Origin{Twin: newest}); err == nil {
			after, err = w.LookInto(workshop.Origin{Bench: target})
		}
		return before, after, err
	}))
}

func (m *model) onCompared(msg compared) {
	d := m.inside.diffing
	if d != msg.d {
		return
	}
	d.before, d.after, d.all, d.err, d.done = msg.before, msg.after, msg.all, msg.err, true
	for i := range d.all {
		p := &d.all[i]
		if p.Part.Kind == "" {
			continue
		}
		d.rows = append(d.rows, diffRow{part: p})
		for j := range p.All {
			d.rows = append(d.rows, diffRow{p, &p.All[j]})
		}
	}
}

func (m *model) keyDiffing(k string) (tea.Cmd, bool) {
	l := &m.inside
	d := l.diffing
	page := max(1, m.viewRoom()-1)
	switch k {
	case "esc", "q", "left":
		l.diffing = nil
		if l.in == nil {
			return m.back(), true
		}
	case "pgdown":
		d.at = max(0, min(d.at+page, len(d.rows)-1))
	case "pgup":
		d.at = max(0, d.at-page)
	case "enter", "right":
		if d.at < len(d.rows) && d.rows[d.at].d != nil {
			return m.goToDifference(d.rows[d.at]), true
		}
	case "up", "k", "down", "j", "home", "end", "g", "G":
		d.at = moved(k, d.at, len(d.rows))
	default:
		return nil, false
	}
	return nil, true
}

// goToDifference opens the folder of a difference at the date that has it.
func (m *model) goToDifference(r diffRow) tea.Cmd {
	d := m.inside.diffing
	side := d.after
	if r.d.Way == names.Removed {
		side = d.before
	}
	o := workshop.Origin{Twin: side.Twin, Bench: d.disk}
	if side.Twin != nil {
		o.Bench = nil
		m.showOnBoard(side.Twin)
	} else {
		m.source, m.fromTwin = o.Bench, false
	}
	cmd := m.lookInto(o, fmt.Sprintf("%d.%d:%s", r.part.Part.Disk+1, r.part.Part.Number, r.d.Path))
	m.inside.behind.d = d
	return cmd
}

func (m *model) diffingBody(w int) []string {
	l := &m.inside
	d := l.diffing
	head := " " + strong.Render(d.title)
	if l.part != nil && l.path != "." {
		head += "  " + reads.Render(clean(l.part.Label(l.path, l.in.Disks)))
	}
	switch {
	case d.err != nil:
		return []string{head, " " + bad.Render(fit(d.err.Error(), w-2))}
	case !d.done:
		return []string{head, dim.Render("  Comparing …")}
	}
	out := []string{head}
	room := m.viewRoom()
	top := max(0, min(d.at-room/2, len(d.rows)-room))
	for i := top; i < len(d.rows) && i < top+room; i++ {
		out = append(out, d.row(i, w))
	}
	return out
}

var waySigns = map[names.Way]string{names.Added: "+", names.Removed: "−", names.Changed: "≠", names.Moved: "→"}

func (d *diffing) row(i, w int) string {
	r := d.rows[i]
	mark := "  "
	if i == d.at {
		mark = "▶ "
	}
	if r.d == nil {
		return mark + strong.Render(fit(r.part.Part.Name(), 34)) + dim.Render(fit(workshop.DifferenceWords(*r.part), w-36))
	}
	text := fit(clean(workshop.DifferencePath(*r.d)), max(20, w-38))
	if i == d.at {
		text = here.Render(text)
	}
	what := r.d.Way.String()
	if d.disk != nil && r.d.Way == names.Added {
		what = "back"
	}
	word := waySigns[r.d.Way] + " " + fit(what, 8)
	switch r.d.Way {
	case names.Added:
		word = good.Render(word)
	case names.Removed:
		word = caution.Render(word)
	}
	return mark + "  " + word + " " + text + right(workshop.DifferenceSize(*r.d), 22)
}

func (l *lookingIn) isMarked(name string) bool {
	for _, x := range l.marked {
		if l.part != nil && x.label == l.label(name) {
			return true
		}
	}
	return false
}

// markChosen marks the chosen item, or takes the mark away, and goes on to the next.
func (m *model) markChosen() {
	l := &m.inside
	e, ok := l.chosen()
	if !ok || e.Err != nil {
		return
	}
	label := l.label(e.Name)
	for i, x := range l.marked {
		if x.label == label {
			l.marked = append(l.marked[:i:i], l.marked[i+1:]...)
			l.at = min(l.at+1, len(l.shown)-1)
			return
		}
	}
	c, err := workshop.ChoiceOf(l.part, e.Item, strings.TrimPrefix(path.Join(l.path, e.Name), "./"))
	if err != nil {
		m.fail(sentence(err))
		return
	}
	l.marked = append(l.marked, marked{label, c})
	l.at = min(l.at+1, len(l.shown)-1)
}

// toTake are the marked items, or the chosen one.
func (l *lookingIn) toTake() ([]takeout.Choice, string, error) {
	if len(l.marked) > 0 {
		var all []takeout.Choice
		for _, x := range l.marked {
			all = append(all, x.choice)
		}
		return all, units.Plural(len(all), "marked item"), nil
	}
	if l.part == nil {
		if l.at >= len(l.in.Parts) {
			return nil, "", nil
		}
		p := l.in.Parts[l.at]
		t, err := p.Tree()
		if err != nil {
			return nil, "", err
		}
		root, err := t.Root()
		if err != nil {
			return nil, "", err
		}
		c, err := workshop.ChoiceOf(p, root, ".")
		return []takeout.Choice{c}, p.Name(), err
	}
	e, ok := l.chosen()
	if !ok || e.Err != nil {
		return nil, "", e.Err
	}
	c, err := workshop.ChoiceOf(l.part, e.Item, strings.TrimPrefix(path.Join(l.path, e.Name), "./"))
	return []takeout.Choice{c}, e.Name, err
}

// askTake asks how and where to.
func (m *model) askTake() {
	l := &m.inside
	if m.running() {
		m.fail("A run is on already: see step 6.")
		return
	}
	choices, what, err := l.toTake()
	if err != nil {
		m.fail(sentence(err))
		return
	}
	if len(choices) == 0 {
		return
	}
	n := menu{title: "Take out " + clean(what) + " of " + l.in.Title + ": how?", choices: []choice{
		{name: "into a folder", about: "what is there stays; items of the same name are left out and listed"},
		{name: "into a folder, keep both", about: "where there is something else by a name, what is taken out gets its date behind the name"},
		{name: "into a folder, replace", about: "writes over what has the same name there"},
		{name: "as a tar file", about: "keeps owners, exact times, links and attributes on any drive"},
		{name: "as a zip file", about: "opens everywhere; keeps names, folders and times"}}}
	n.then = func(chosen []int) tea.Cmd {
		way := chosen[0]
		label, suggestion := "Into which folder? ", "twinshelf-out"
		if way == 3 {
			label, suggestion = "Name of the tar file: ", "taken-out-"+l.in.Tag()+".tar"
		} else if way == 4 {
			label, suggestion = "Name of the zip file: ", "taken-out-"+l.in.Tag()+".zip"
		}
		if home, err := os.UserHomeDir(); err == nil {
			suggestion = filepath.Join(home, suggestion)
		}
		m.ask(label, suggestion, func(where string) {
			if where = strings.TrimSpace(where); where != "" {
				m.pending = m.take(choices, way, where)
			}
		})
		return nil
	}
	m.offer(n)
}

func (m *model) take(choices []takeout.Choice, way int, where string) tea.Cmd {
	l := &m.inside
	to := workshop.Taking{}
	to.Tag = l.in.Tag()
	var file *os.File
	switch {
	case way < 3:
		to.Folder, to.Clash = where, []takeout.Clash{takeout.Skip, takeout.KeepBoth, takeout.Replace}[way]
	default:
		var err error
		if file, err = workshop.NewFile(where); err != nil {
			m.fail(sentence(err))
			return nil
		}
		if way == 3 {
			to.Tar = file
		} else {
			to.Zip = file
		}
	}
	r, report, err := m.w.StartTake(m.ctx, "Taking out of "+l.in.Title, choices, to)
	if err != nil {
		m.fail(sentence(err))
		return nil
	}
	l.marked = nil
	return m.start(r, "Cancelling keeps what is whole in a folder; taken out again, it goes on.", func(s run.Snapshot) tea.Cmd {
		if file != nil {
			_ = file.Sync()
			_ = file.Close()
			if s.State != run.Done {
				_ = os.Remove(where)
			}
		}
		if rep := report(); rep != nil {
			m.result = takenLines(rep, where)
		}
		return nil
	})
}

func takenLines(r *takeout.Report, where string) []string {
	out := []string{good.Render(r.Words() + "."), "In " + where}
	for _, x := range r.Renamed {
		out = append(out, caution.Render(fmt.Sprintf("%s is called %s: %s", clean(x.Path), clean(x.As), x.Why)))
	}
	for i, x := range r.Left {
		if i == 50 {
			out = append(out, bad.Render(fmt.Sprintf("… and %d more", r.LeftOut-i)))
			break
		}
		out = append(out, bad.Render("left out: "+clean(x.Path)+": "+x.Why))
	}
	if len(r.Lost) > 0 {
		out = append(out, dim.Render("not kept there: "+strings.Join(r.Lost, ", ")))
	}
	return out
}
