package tui

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/fsys"
	"twinshelf/internal/inside"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/takeout"
	"twinshelf/internal/workshop"
)

// lookingIn is the state of looking inside: what is open, which folder, and what is known of the chosen item.
type lookingIn struct {
	in   *inside.Machine
	of   workshop.Origin // what it is the inside of, at first
	plan *workshop.Pair  // the planned disk that it is the inside of; nil for what exists
	from step            // the step that it was opened from
	part *inside.Part
	path string // folder in the part, "." for its root; of no meaning without a part

	all, shown []fsys.Entry
	unseen     int // hidden ones
	at         int
	loading    bool
	problem    string
	order      int // of orders
	hidden     bool
	marked     []marked
	gaps       map[string]int64 // how much of files couldn't be read, by name

	detail  detail
	viewing *viewing
	finding *finding
	diffing *diffing
	// behind is the list that what is open was chosen from: Esc leads back to it.
	behind struct {
		f *finding
		d *diffing
	}

	number int // of the latest work in the background
	cancel context.CancelFunc
}

var orders = []string{"name", "size", "changed"}

// marked is an item that will be taken out.
type marked struct {
	key    string
	choice takeout.Choice
}

// detail is what is known of the chosen item beside its entry.
type detail struct {
	label   string
	more    fsys.More
	preview []string    // how a text begins; nil for what is none
	spans   []span.Span // on the disk
	sights  []inside.Sight
	problem string
	ready   bool
}

type (
	// lookedInto is a machine at a date, or a disk, ready to be looked into.
	lookedInto struct {
		number int
		in     *inside.Machine
		folder *folderRead // to go to at once; may be nil
		err    error
	}
	// folderRead is a folder that was listed.
	folderRead struct {
		number int
		part   *inside.Part
		path   string
		choose string // name
		all    []fsys.Entry
		gaps   map[string]int64
		note   string
		err    error
	}
	detailed struct {
		number int
		d      detail
	}
)

func (l *lookingIn) next() int { l.number++; return l.number }

// lookInto opens an origin; where is "" for its parts, or the path to open first (with the part in front).
func (m *insidePage) lookInto(o workshop.Origin, where string) tea.Cmd {
	w := m.w
	cmd := m.openInside(where, func() (*inside.Machine, error) { return w.LookInto(m.ctx, o) })
	m.inside.of = o
	return cmd
}

func (m *insidePage) openInside(where string, open func() (*inside.Machine, error)) tea.Cmd {
	l := &m.inside
	from := m.step
	if from == stepInside {
		from = l.from
	}
	*l = lookingIn{from: from, number: l.number, order: l.order, hidden: l.hidden, loading: true}
	cmd := m.goTo(stepInside)
	number, order := l.next(), l.order
	return tea.Batch(cmd, func() tea.Msg {
		in, err := open()
		if err == nil && where != "" {
			if p, it, at, err := in.Resolve(m.ctx, where); err == nil {
				sel := ""
				if !it.IsDir() {
					at, sel = path.Dir(at), path.Base(at)
				}
				read := readFolder(m.ctx, number, p, at, sel, order)
				return lookedInto{number, in, &read, nil}
			}
		}
		return lookedInto{number: number, in: in, err: err}
	})
}

func (m *insidePage) onOpened(msg lookedInto) tea.Cmd {
	l := &m.inside
	if msg.number != l.number {
		return nil
	}
	if l.in, l.loading = msg.in, false; msg.err != nil {
		l.problem = msg.err.Error()
		return nil
	}
	if msg.folder != nil {
		return m.onFolder(*msg.folder)
	}
	l.part, l.at = nil, 0
	return nil
}

// readFolder lists a folder in an order.
func readFolder(ctx context.Context, number int, p *inside.Part, folder, sel string, order int) folderRead {
	msg := folderRead{number: number, part: p, path: folder, choose: sel}
	t, err := p.Tree(ctx)
	if err != nil {
		msg.err = err
		return msg
	}
	it, err := fsys.Find(t, folder)
	if err == nil && !it.IsDir() {
		err = fmt.Errorf("%s is no folder", folder)
	}
	if err != nil {
		msg.err = err
		return msg
	}
	all, problem := fsys.Entries(t, it)
	inside.SortEntries(all, orders[order])
	msg.gaps = inside.GapsAmong(ctx, t, all)
	if msg.all = all; problem != nil {
		msg.note = "Not all of this folder can be read: " + problem.Error()
	}
	return msg
}

// enterFolder goes to a folder of the present part.
func (m *insidePage) enterFolder(p *inside.Part, folder, sel string) tea.Cmd {
	m.inside.loading = true
	number, order := m.inside.next(), m.inside.order
	return func() tea.Msg { return readFolder(m.ctx, number, p, folder, sel, order) }
}

func (m *insidePage) onFolder(msg folderRead) tea.Cmd {
	l := &m.inside
	if msg.number != l.number {
		return nil
	}
	l.loading = false
	if msg.err != nil {
		m.fail(sentence(msg.err))
		return nil
	}
	l.part, l.path, l.all, l.gaps, l.problem = msg.part, msg.path, msg.all, msg.gaps, ""
	switch m.note = ""; {
	case msg.note != "":
		m.fail(msg.note)
	case msg.part.Unclean != "":
		m.say("Not quiet: %s. What was written last may not show here.", msg.part.Unclean)
	}
	l.arrange(msg.choose)
	return m.readDetail()
}

// arrange leaves hidden entries out, and chooses one by name.
func (l *lookingIn) arrange(sel string) {
	l.shown, l.unseen, l.at = nil, 0, 0
	for _, e := range l.all {
		if inside.Unseen(e.Item) && !l.hidden {
			l.unseen++
			continue
		}
		if e.Name == sel {
			l.at = len(l.shown)
		}
		l.shown = append(l.shown, e)
	}
}

// chosen is the entry under the cursor.
func (l *lookingIn) chosen() (fsys.Entry, bool) {
	if l.part == nil || l.at >= len(l.shown) {
		return fsys.Entry{}, false
	}
	return l.shown[l.at], true
}

func (l *lookingIn) chosenName() string {
	e, _ := l.chosen()
	return e.Name
}

func (l *lookingIn) label(name string) string {
	return l.part.Label(fsys.Join(l.path, name), l.in.Disks)
}

// readDetail finds out about the chosen item in the background: at which dates it is there, and where it lies.
func (m *insidePage) readDetail() tea.Cmd {
	l := &m.inside
	if l.cancel != nil {
		l.cancel()
	}
	e, ok := l.chosen()
	if !ok {
		l.detail = detail{}
		return nil
	}
	ctx, cancel := context.WithCancel(m.ctx)
	l.cancel = cancel
	d := detail{label: l.label(e.Name)}
	if l.detail.label != d.label {
		l.detail = d
	}
	number, p, at, in, w := l.number, l.part, fsys.Join(l.path, e.Name), l.in, m.w
	return func() tea.Msg {
		d.describe(ctx, p, e)
		if in.Twin != nil {
			lib, err := w.Library()
			if err == nil {
				d.sights, err = lib.Follow(ctx, in.Twin.Machine, p, at)
			}
			if ctx.Err() != nil {
				return nil
			}
			if err != nil {
				d.problem = err.Error()
			}
		}
		d.ready = true
		if in.Twin == nil || len(d.sights) == 0 || d.sights[len(d.sights)-1].Version == 1 {
			return detailed{number, d}
		}
		// What is known is shown; whether versions really differ takes a look at their contents.
		settled := d
		settled.sights = slices.Clone(d.sights)
		return tea.BatchMsg{func() tea.Msg { return detailed{number, d} }, func() tea.Msg {
			lib, err := w.Library()
			if err != nil || lib.SettleVersions(ctx, p, at, settled.sights, mostSettled) != nil {
				return nil
			}
			return detailed{number, settled}
		}}
	}
}

// describe reads what a listing doesn't say of an item.
func (d *detail) describe(ctx context.Context, p *inside.Part, e fsys.Entry) {
	t, err := p.Tree(ctx)
	if err != nil || e.Err != nil {
		return
	}
	if d.more, err = t.More(e.Item); err != nil {
		d.problem = err.Error()
	}
	if !e.Mode.IsRegular() {
		return
	}
	c, err := t.Open(e.Item, "")
	if err != nil {
		d.problem = err.Error()
		return
	}
	for _, sp := range c.Spans() {
		d.spans = append(d.spans, sp.Shift(p.Span.Start))
	}
	d.preview = beginning(c)
}

// previewBytes and previewLines bound how much of a text is shown beside the list.
const previewBytes, previewLines = 4096, 60

// beginning is how a text begins, nil for what is no text.
func beginning(c fsys.Contents) []string {
	b := make([]byte, min(previewBytes, c.Size()))
	n, err := c.ReadAt(b, 0)
	if b = b[:n]; n == 0 || err != nil && !errors.Is(err, io.EOF) || bytes.IndexByte(b, 0) >= 0 {
		return nil
	}
	if int64(n) < c.Size() { // a character may be cut
		b = []byte(strings.TrimRight(strings.ToValidUTF8(string(b), ""), "\uFFFD"))
	}
	if !utf8.Valid(b) {
		return nil
	}
	var out []string
	for s := range strings.SplitSeq(string(b), "\n") {
		out = append(out, inside.Visible(strings.ReplaceAll(strings.TrimRight(s, "\r"), "\t", "    ")))
	}
	return out[:min(len(out), previewLines)]
}

// mostSettled is up to which size files are read to tell whether they changed, in bytes.
const mostSettled = 64 << 20

func (m *insidePage) onDetailed(msg detailed) {
	l := &m.inside
	if e, ok := l.chosen(); ok && msg.number == l.number && msg.d.label == l.label(e.Name) {
		l.detail = msg.d
	}
}

// otherOrder sorts the folder in the next order, in the background: it may be a large one.
func (m *insidePage) otherOrder() tea.Cmd {
	l := &m.inside
	l.order = (l.order + 1) % len(orders)
	if l.part == nil {
		return nil
	}
	l.loading = true
	msg := folderRead{number: l.next(), part: l.part, path: l.path, choose: l.chosenName(), all: slices.Clone(l.all)}
	order := orders[l.order]
	return func() tea.Msg {
		inside.SortEntries(msg.all, order)
		return msg
	}
}

func (m *insidePage) openChosen() tea.Cmd {
	l := &m.inside
	if l.part == nil {
		if l.at < len(l.in.Parts) {
			return m.enterFolder(l.in.Parts[l.at], ".", "")
		}
		return nil
	}
	e, ok := l.chosen()
	switch {
	case !ok:
		return nil
	case e.Err != nil:
		m.fail(sentence(e.Err))
		return nil
	case e.IsDir():
		return m.enterFolder(l.part, fsys.Join(l.path, e.Name), "")
	case e.Mode.IsRegular():
		return m.viewPane.viewFile(e)
	}
	m.say("%s is a %s: there is nothing to open.", e.Name, inside.ItemWord(e.Item))
	return nil
}

func (m *insidePage) folderUp() tea.Cmd {
	l := &m.inside
	if l.part == nil {
		return m.back()
	}
	if l.path == "." {
		for i, p := range l.in.Parts {
			if p == l.part {
				l.at = i
			}
		}
		l.part, l.detail = nil, detail{}
		return nil
	}
	return m.enterFolder(l.part, path.Dir(l.path), path.Base(l.path))
}

// otherDate opens the same folder at a neighbouring date of the machine.
func (m *insidePage) otherDate(by int) tea.Cmd {
	l := &m.inside
	if l.in.Twin == nil || len(m.datesPage.boards) == 0 {
		m.say("A disk has no dates: look inside of a twin (4 Dates).")
		return nil
	}
	b := &m.datesPage.boards[m.datesPage.board]
	at := b.at + by
	if at < 0 || at >= len(b.twins) {
		m.say("That was the %s date of %s.", map[bool]string{true: "oldest", false: "newest"}[by < 0], b.machine)
		return nil
	}
	return m.toDate(b.twins[at])
}

// otherVersion goes to the date nearest to this one at which the chosen item is another version.
func (m *insidePage) otherVersion(by int) tea.Cmd {
	l := &m.inside
	e, ok := l.chosen()
	if !ok || l.in.Twin == nil {
		return nil
	}
	if !l.detail.ready {
		m.say("Still looking through the dates.")
		return nil
	}
	here, now := -1, 0
	for i, s := range l.detail.sights {
		if s.Twin.ID == l.in.Twin.ID {
			here, now = i, s.Version
		}
	}
	for i := here + by; here >= 0 && i >= 0 && i < len(l.detail.sights); i += by {
		if s := l.detail.sights[i]; s.There && s.Version != now {
			return m.toDate(s.Twin)
		}
	}
	m.say("There is no %s version of %s.", map[bool]string{true: "earlier", false: "later"}[by < 0], e.Name)
	return nil
}

// toDate opens what is open now at another date: the same folder, or the nearest one above it that was there.
func (m *insidePage) toDate(t *shelf.Twin) tea.Cmd {
	l := &m.inside
	m.showOnBoard(t)
	name, part, folder, w := l.chosenName(), l.part, l.path, m.w
	l.loading = true
	number, order := l.next(), l.order
	return func() tea.Msg {
		in, err := w.LookInto(m.ctx, workshop.Origin{Twin: t})
		if err != nil || part == nil {
			return lookedInto{number: number, in: in, err: err}
		}
		p := in.Same(part)
		if p == nil {
			return lookedInto{number: number, in: in}
		}
		read := readFolder(m.ctx, number, p, folder, name, order)
		for at := folder; read.err != nil && at != "."; {
			at = path.Dir(at)
			read = readFolder(m.ctx, number, p, at, "", order)
			read.note = folder + " isn't there at this date."
		}
		return lookedInto{number, in, &read, nil}
	}
}

// showOnBoard has the rails and the Dates step follow.
func (m *insidePage) showOnBoard(t *shelf.Twin) {
	for i := range m.datesPage.boards {
		for j, o := range m.datesPage.boards[i].twins {
			if o.ID == t.ID {
				if m.datesPage.board != i {
					m.datesPage.twinDisk = 0
				}
				m.datesPage.board, m.datesPage.boards[i].at = i, j
			}
		}
	}
}

// insideFrom opens the disk under the cursor of the Bench, the date of Dates, or the planned disk of Fit.
func (m *insidePage) insideFrom() tea.Cmd {
	switch m.step {
	case stepBench:
		d := m.benchPage.chosen()
		if d == nil {
			return nil
		}
		if d.Survey == nil {
			m.fail(d.Identity.Model + ": " + d.Words())
			return nil
		}
		return m.lookInto(workshop.Origin{Bench: d}, "")
	case stepDates:
		if t := m.datesPage.twin(); t != nil {
			return m.lookInto(workshop.Origin{Twin: t}, "")
		}
	case stepFit:
		if m.fitPage.pair == nil {
			m.say("There is no plan to look into yet.")
			return nil
		}
		p := m.fitPage.pair
		cmd := m.openInside("", func() (*inside.Machine, error) { return workshop.LookIntoPlan(m.ctx, p) })
		m.inside.plan = p
		return cmd
	}
	return nil
}

// lanes are what is looked at, with the places of the chosen file, and that nothing is written.
func (m *insidePage) lanes() lanes {
	l := &m.inside
	up, disk := reading(m.th, isNow), 0
	if l.part != nil {
		disk = l.part.Disk
	}
	switch {
	case l.plan != nil:
		up = plannedLane(up, l.plan)
	case l.in != nil && l.in.Twin != nil:
		up = up.ofTwin(l.in.Twin, disk)
	case l.of.Twin != nil:
		up = up.ofTwin(l.of.Twin, disk)
	case l.of.Bench != nil:
		up = up.ofDisk(l.of.Bench)
	default:
		up = nothing(up, "nothing is open")
	}
	if l.part != nil && l.viewing == nil {
		up.spots = l.detail.spans
	}
	return lanes{up: up, down: nothing(writing(m.th, ""), "nothing; t takes files out into a folder that you name")}
}
