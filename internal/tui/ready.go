package tui

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/fsys"
	"twinshelf/internal/ready"
	"twinshelf/internal/run"
	"twinshelf/internal/sizes"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/workshop"
)

// readying is the Ready step: the layout as it is wished.
type readying struct {
	path, state string // the disk and the fingerprint that the draft is for
	draft       *ready.Draft
	preview     *ready.Draft // while a size is typed
	past        []*ready.Draft
	row         int
	plan        *ready.Plan
	err         error
	shares      int    // of the even split that was made last
	onlyAnew    string // why what is there can't be changed
}

// readyRow is a line of the layout: a part, or (part < 0) a gap.
type readyRow struct {
	part int
	gap  span.Span
}

// shown is the layout to draw: with what is being typed, if that can be.
func (r *readying) shown() *ready.Draft {
	if r.preview != nil {
		return r.preview
	}
	return r.draft
}

func (r *readying) leaveTyping() { r.preview = nil }

func (r *readying) rows() []readyRow {
	d := r.shown()
	var out []readyRow
	for i := range d.Parts {
		out = append(out, readyRow{part: i, gap: d.Parts[i].Span})
	}
	for _, g := range d.Gaps() {
		out = append(out, readyRow{-1, g})
	}
	slices.SortFunc(out, func(a, b readyRow) int { return int(min(1, max(-1, a.gap.Start-b.gap.Start))) })
	return out
}

// readyOn says whether there is a layout to draw and to edit: not while the
// target is being looked at again.
func (m *readyPage) readyOn() bool {
	return m.ready.draft != nil && m.target != nil && m.target.Survey != nil
}

// freshDraft begins anew when another disk is the target, or when it was written.
func (m *readyPage) freshDraft() {
	d, r := m.target, &m.ready
	if d == nil || d.Survey == nil {
		m.ready = readying{}
		m.menus.menu = nil
		return
	}
	if r.draft != nil && r.path == d.Path && r.state == d.Fingerprint {
		return
	}
	m.ready = readying{path: d.Path, state: d.Fingerprint}
	m.menus.menu = nil // it was about the layout before, and so was what is typed
	m.prompt.close()
	draft, err := workshop.DraftChange(d)
	if errors.Is(err, ready.ErrOnlyAnew) {
		r.onlyAnew = err.Error()
		draft, err = workshop.DraftAnew(d, table.GPT)
	}
	r.draft, r.err = draft, err
}

func (m *readyPage) work(_ context.Context, number int, _ func(string)) tea.Cmd {
	m.freshDraft()
	r := &m.ready
	if r.draft == nil {
		return nil
	}
	r.plan, r.err = nil, nil
	w, ctx, draft, d := m.w, m.ctx, r.draft.Clone(), m.target
	return func() tea.Msg {
		p, err := w.PlanReady(ctx, draft, d)
		return drafted{number, p, err}
	}
}

// edit changes a copy of the draft and takes it when that went well; it can be undone.
func (m *readyPage) edit(change func(*ready.Draft) error) bool {
	r := &m.ready
	r.leaveTyping()
	if !m.readyOn() {
		m.fail("The disk is being looked at again: try it once more.")
		return false
	}
	c := r.draft.Clone()
	if err := change(c); err != nil {
		m.fail(sentence(err))
		return false
	}
	m.note = ""
	r.past = append(r.past, r.draft)
	r.draft, r.shares = c, 0
	r.row = min(r.row, len(r.rows())-1)
	return true
}

func sentence(err error) string {
	return capital(err.Error()) + "."
}

func capital(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

func (m *readyPage) used(machine string) (int64, error) {
	return workshop.UsedOn(m.datesPage.twins(), machine)
}

// askNewPart asks for the size of a new part, in the gap of the present row or the largest one.
func (m *readyPage) askNewPart(rows []readyRow) {
	r := &m.ready
	gap := r.draft.Gap()
	if len(rows) > 0 && rows[r.row].part < 0 {
		gap = rows[r.row].gap
	}
	if gap.Empty() {
		m.fail("Nothing is free: take a part out (d), or lay the disk out anew (o).")
		return
	}
	wish := func(text string) ready.Wish {
		if strings.TrimSpace(text) == "" {
			text = "rest"
		}
		return ready.Wish{Size: text}
	}
	m.prompt.ask("Size of the new part: ", "", func(text string) {
		var at int64
		if !m.edit(func(d *ready.Draft) error {
			at = gap.Start
			_, err := d.AddWish(gap, wish(text), m.used)
			return err
		}) {
			return
		}
		for i, row := range r.rows() {
			if row.part >= 0 && row.gap.Start == at {
				r.row = i
				m.offerKinds(row.part)
			}
		}
	})
	m.prompt.live = func(text string) {
		m.preview(func(d *ready.Draft) (sizes.Size, error) { return d.AddWish(gap, wish(text), m.used) })
	}
	m.prompt.live("")
}

// preview shows what a size that is being typed means.
func (m *readyPage) preview(try func(*ready.Draft) (sizes.Size, error)) {
	r := &m.ready
	c := r.draft.Clone()
	size, err := try(c)
	if err != nil {
		r.preview, m.prompt.says, m.prompt.wrong = nil, err.Error(), true
		return
	}
	r.preview, m.prompt.wrong = c, false
	m.prompt.says = fmt.Sprintf("%s, %s of the disk; %s stay free", size.Words, share(size.Bytes, c.Identity.Size),
		sizes.Words(c.Rest()))
	if size.Hint != "" {
		m.prompt.says += ". " + size.Hint
	}
}

func (m *readyPage) askSize(i int) {
	r := &m.ready
	p := &r.draft.Parts[i]
	resize := func(d *ready.Draft, text string) (sizes.Size, error) {
		n, err := sizes.Parse(text, sizes.Room{Disk: d.Identity.Size, Rest: d.Growable(i), Used: m.used})
		if err == nil {
			err = d.Resize(i, n.Bytes)
		}
		return n, err
	}
	m.prompt.ask(fmt.Sprintf("Size of part %d: ", p.Number), "", func(text string) {
		m.edit(func(d *ready.Draft) error { _, err := resize(d, text); return err })
	})
	m.prompt.live = func(text string) {
		if strings.TrimSpace(text) == "" {
			r.leaveTyping()
			m.prompt.wrong = false
			m.prompt.says = fmt.Sprintf("now %s; up to %s without anything moving", sizes.Words(p.Span.Len()),
				sizes.Words(r.draft.Growable(i)))
			return
		}
		m.preview(func(d *ready.Draft) (sizes.Size, error) { return resize(d, text) })
	}
	m.prompt.live("")
}

// splitEvenly shares the largest gap out among two parts; pressed again, among one more.
func (m *readyPage) splitEvenly() {
	r := &m.ready
	n := 2
	if r.shares > 0 && len(r.past) > 0 {
		n = r.shares + 1
		r.draft, r.past = r.past[len(r.past)-1], r.past[:len(r.past)-1]
	}
	if m.edit(func(d *ready.Draft) error { _, err := d.SplitRest(n); return err }) {
		r.shares = n
		m.say("The rest is shared out evenly among %d parts. Press e again for %d, f to format them.", n, n+1)
	}
}

// otherWay goes from changing what is there to laying out anew, or back.
func (m *readyPage) otherWay() tea.Cmd {
	r := &m.ready
	var d *ready.Draft
	var err error
	if r.draft.New {
		d, err = workshop.DraftChange(m.target)
	} else {
		d, err = workshop.DraftAnew(m.target, r.draft.Kind)
	}
	if err != nil {
		m.fail(sentence(err))
		return nil
	}
	r.past, r.draft, r.shares, r.row = append(r.past, r.draft), d, 0, 0
	return m.replan()
}

func (m *readyPage) otherTable() tea.Cmd {
	r := &m.ready
	if !r.draft.New {
		m.fail("The kind of table only changes when the disk is laid out anew: press o.")
		return nil
	}
	kind := table.MBR
	if r.draft.Kind == table.MBR {
		kind = table.GPT
	}
	d, err := workshop.DraftAnew(m.target, kind)
	if err != nil {
		m.fail(sentence(err))
		return nil
	}
	r.past, r.draft, r.shares, r.row = append(r.past, r.draft), d, 0, 0
	m.say("%s now, and empty. %s", kind,
		map[table.Kind]string{table.GPT: "Every current system starts from it and reads it.",
			table.MBR: "For old machines: four entries, up to 2.2 TB, no second copy."}[kind])
	return m.replan()
}

func (m *readyPage) askPutBack() tea.Cmd {
	w, ctx, d := m.w, m.ctx, m.target
	return func() tea.Msg {
		r, err := w.PlanReturn(d, "")
		if err != nil {
			return asked{err: err}
		}
		s := workshop.SummarizeReturn(r, d)
		back := &outcome{"as it was before " + r.Keepsake.Taken.Format("2006-01-02 15:04"), len(s.Lost) > 0}
		return asked{summary: s, outcome: back, goAhead: func() tea.Cmd {
			return m.startAlone(w.StartReturn(ctx, r), "Cancelled, it can be put back again.", back)
		}}
	}
}

// startAlone begins a run that reads no other disk than it writes; to is what it leads to, nil for what the draft says.
func (m *readyPage) startAlone(r *run.Run, stopped string, to *outcome) tea.Cmd {
	ls := m.lanes()
	if to != nil {
		ls.down.parts, ls.fates = nil, nil
		ls.down.comesTo(to)
	}
	ls.lost = lostOn(m.target)
	if to == nil {
		ls.lost = nil // the fates say which parts go
	}
	ls.up.tense = "before"
	return m.runPage.start(work{run: r, lanes: []lanes{ls.nowWriting()}, targets: []string{m.target.Path},
		stopped: stopped, after: func(s run.Snapshot) tea.Cmd {
			if s.State == run.Done {
				m.say("%s: done, and read back. Press 2 to see the disk as it is now.", s.Title)
			}
			return nil
		}})
}

func (m *readyPage) readyGoOn() tea.Cmd {
	r := &m.ready
	switch {
	case m.runPage.running():
		m.fail("A run is under way already: see step 6.")
	case r.err != nil:
		m.fail(sentence(r.err))
	case r.plan == nil:
		m.say("The plan is still being worked out: press Enter again once it is there.")
	default:
		p, w, ctx := r.plan, m.w, m.ctx
		m.lastPage.open(workshop.SummarizeReady(p, r.draft.New, m.target), func() tea.Cmd {
			return m.startAlone(w.StartReady(ctx, p), "Cancelled, what was written so far stays; the keepsake puts "+
				"back what was there.", nil)
		})
	}
	return nil
}

// mountDisk unmounts a disk that is mounted; otherwise it mounts its largest file system.
func (m *benchPage) mountDisk(d *bench.Disk) tea.Cmd {
	if len(d.Points()) > 0 {
		return func() tea.Msg {
			done, err := workshop.Unmount(d)
			return told{"Unmounted " + strings.Join(done, ", ") + ".", err}
		}
	}
	number, most := 0, int64(0)
	if d.Survey != nil {
		for _, a := range d.Survey.Parts() {
			if len(fsys.DriversOf(a.Content.Volume)) > 0 && a.Span.Len() > most {
				number, most = a.Part.Number, a.Span.Len()
			}
		}
	}
	if number == 0 {
		m.fail(d.Identity.Model + " has no file system that could be mounted.")
		return nil
	}
	return mount(d, number)
}

func mount(d *bench.Disk, number int) tea.Cmd {
	return func() tea.Msg {
		dir, err := workshop.Mount(d, number)
		return told{fmt.Sprintf("Part %d is mounted read-only at %s.", number, dir), err}
	}
}
