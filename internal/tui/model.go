package tui

import (
	"context"
	"fmt"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/capture"
	"twinshelf/internal/keeping"
	"twinshelf/internal/ready"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/workshop"
)

type step int

const (
	stepBench step = iota
	stepReady
	stepCapture
	stepDates
	stepFit
	stepRun
	stepProof
	stepSheet
	stepInside // beside the job: it has no number
)

var stepNames = []string{"Bench", "Ready", "Capture", "Dates", "Fit", "Run", "Proof", "Sheet"}

// model is the screen: what all pages share, the pages, and which of them is shown.
type model struct {
	ctx  context.Context
	th   theme
	w    *workshop.Workshop
	wide int
	high int

	route
	help   bool
	room   int // rows of the body
	scroll int // of the body, where it is longer than the screen
	note   string
	alarm  bool // the note tells of something that went wrong

	disks   []*bench.Disk
	looking int // disks that are still being looked at

	// What is read and what is written; the rails show it in every step.
	source   *bench.Disk
	fromTwin bool
	target   *bench.Disk

	planning int
	unplan   context.CancelFunc // gives up what is being planned
	busy     *busy              // what that is busy with

	*pages
}

type (
	listed  struct{ disks []*bench.Disk }
	probed  struct{ disk *bench.Disk }
	shelved struct {
		boards   []board
		pins     map[string]shelf.Pin
		ahead    keeping.Foresight
		known    []workshop.KnownShelf
		retired  string
		concerns []string
	}
	thinned struct {
		number int
		p      *keeping.Preview
		err    error
	}
	ticked   struct{}
	problems struct{ text string }
	planned  struct {
		number int
		pair   *workshop.Pair
		err    error
	}
	drafted struct {
		number int
		plan   *ready.Plan
		err    error
	}
	// asked opens the last page.
	asked struct {
		summary workshop.Summary
		goAhead func() tea.Cmd
		outcome *outcome
		err     error
	}
	// told is what a short work in the background came to; the bench is looked at again.
	told struct {
		text string
		err  error
	}
	estimated struct {
		number   int
		plan     *capture.Plan
		e        capture.Estimate
		trusts   []string
		outgoing *workshop.Outgoing
		err      error
	}
)

// Init starts looking at the bench and the shelf.
func (m *model) Init() tea.Cmd {
	return tea.Batch(m.look(), m.datesPage.readShelf(), tea.RequestBackgroundColor) // which may never be answered
}

// look lists the bench; each disk is then probed in the background.
func (m *model) look() tea.Cmd {
	b := m.w.Bench
	return func() tea.Msg { return listed{b.List()} }
}

func (m *model) probe(d *bench.Disk) tea.Cmd {
	b, ctx, fresh := m.w.Bench, m.ctx, *d
	return func() tea.Msg {
		b.Probe(ctx, &fresh)
		return probed{&fresh}
	}
}

func tick() tea.Cmd {
	return tea.Tick(100*time.Millisecond, func(time.Time) tea.Msg { return ticked{} })
}

// Update takes one message.
func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.BackgroundColorMsg:
		m.th = newTheme(msg.IsDark())
	case tea.WindowSizeMsg:
		m.wide, m.high = msg.Width, msg.Height
	case listed:
		return m, m.onListed(msg.disks)
	case probed:
		m.onProbed(msg.disk)
		return m, m.replan()
	case shelved:
		m.datesPage.pins, m.datesPage.ahead, m.datesPage.known, m.datesPage.retired, m.datesPage.concerns = msg.pins,
			msg.ahead, msg.known, msg.retired, msg.concerns
		return m, m.datesPage.onShelved(msg.boards)
	case thinned:
		if planningOver(m, msg.number) {
			m.datesPage.onThinned(msg.p, msg.err)
		}
	case problems:
		m.fail(msg.text)
	case planned:
		return m, m.fitPage.onPlanned(msg)
	case stillPlanning:
		if msg.number == m.planning && m.busy != nil {
			return m, watchPlanning(msg.number)
		}
	case estimated:
		if planningOver(m, msg.number) {
			m.capturePage.plan, m.capturePage.estimate, m.capturePage.trusts, m.capturePage.outgoing = msg.plan, msg.e,
				msg.trusts, msg.outgoing
			if msg.err != nil {
				m.fail(msg.err.Error())
			}
		}
	case drafted:
		if planningOver(m, msg.number) {
			m.readyPage.ready.plan, m.readyPage.ready.err = msg.plan, msg.err
			if m.readyPage.ready.goOn {
				m.readyPage.ready.goOn = false
				return m, m.readyPage.readyGoOn()
			}
		}
	case asked:
		if msg.err != nil {
			m.fail(msg.err.Error())
			return m, nil
		}
		m.lastPage.lastPage(msg.summary, msg.goAhead)
		m.lastPage.outcome = msg.outcome
	case told:
		if msg.err != nil {
			m.fail(msg.err.Error())
		} else {
			m.say("%s", msg.text)
		}
		return m, tea.Batch(m.look(), m.datesPage.readShelf())
	case ticked:
		return m, m.runPage.onTick()
	case locked:
		m.shelfDesk.onLocked(msg)
	case paired:
		return m, m.fitPage.onPaired(msg)
	case startRun:
		return m, msg.begin()
	case askQuit:
		return m, m.quit()
	case tea.KeyPressMsg:
		return m, m.onKey(msg)
	case tea.PasteMsg:
		return m, m.prompt.onPaste(msg)
	default:
		return m, m.insidePage.onInside(msg)
	}
	return m, nil
}

// onInside takes what was read for the Inside step.
func (m *insidePage) onInside(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case lookedInto:
		return m.onOpened(msg)
	case folderRead:
		return m.onFolder(msg)
	case detailed:
		m.onDetailed(msg)
	case pageRead:
		m.viewPane.onPage(msg)
	case searched:
		m.findPane.onSearched(msg)
	case listingNames:
		msg.f.listing = msg.text
	case compared:
		m.diffPane.onCompared(msg)
	}
	return nil
}

func (m *model) say(format string, args ...any) {
	m.note, m.alarm = fmt.Sprintf(format, args...), false
}
func (m *model) fail(text string) { m.note, m.alarm = text, true }

func (m *model) onListed(disks []*bench.Disk) tea.Cmd {
	m.disks, m.looking = disks, len(disks)
	m.benchPage.cursor = min(m.benchPage.cursor, max(0, len(disks)-1))
	m.source, m.target = m.again(m.source), m.again(m.target)
	var cmds []tea.Cmd
	for _, d := range disks {
		cmds = append(cmds, m.probe(d))
	}
	return tea.Batch(cmds...)
}

// again finds a disk in a fresh listing.
func (m *model) again(d *bench.Disk) *bench.Disk {
	for _, other := range m.disks {
		if d != nil && other.Path == d.Path {
			return other
		}
	}
	return nil
}

func (m *model) onProbed(d *bench.Disk) {
	for i, old := range m.disks {
		if old.Path == d.Path {
			m.disks[i] = d
			m.looking--
		}
	}
	m.source, m.target = m.again(m.source), m.again(m.target)
	if m.source == nil && !m.fromTwin && m.looking == 0 && len(m.disks) > 0 {
		m.source = m.disks[m.benchPage.cursor]
	}
}

// goTo opens a step.
func (m *model) goTo(s step) tea.Cmd {
	if !m.to(s) {
		return nil
	}
	return m.enter()
}

// back goes to the step before.
func (m *model) back() tea.Cmd {
	if !m.backward() {
		return nil
	}
	return m.enter()
}

// enter gets the step that was opened ready.
func (m *model) enter() tea.Cmd {
	m.menus.leaveMenu()
	m.scroll, m.note, m.lastPage.summary, m.datesPage.growing = 0, "", nil, false
	if p, opens := m.page().(opener); opens {
		p.opened()
	}
	return m.replan()
}

// chooseMachine proposes the disks that belong together and the machine's name.
func (m *capturePage) chooseMachine() {
	if m.source == nil || m.chosen[m.source.Path] {
		return
	}
	m.chosen = map[string]bool{m.source.Path: true}
	for _, d := range workshop.Companions(m.datesPage.twins(), m.disks, m.source) {
		m.chosen[d.Path] = true
	}
	m.machine = workshop.SuggestMachine(m.datesPage.twins(), []*bench.Disk{m.source})
	m.row, m.unquiet = 0, false
	for i, r := range m.captureRows() {
		if r.disk.Path == m.source.Path && r.part == 0 {
			m.row = i
		}
	}
}

func chosenDisks(m *model) []*bench.Disk {
	var out []*bench.Disk
	for _, d := range m.disks {
		if m.capturePage.chosen[d.Path] {
			out = append(out, d)
		}
	}
	return out
}

// replan computes what the present step shows, in the background.
func (m *model) replan() tea.Cmd {
	if m.busy != nil { // a finished plan goes on reading through its context
		m.unplan()
	}
	ctx, cancel := context.WithCancel(m.ctx)
	m.planning++
	m.unplan, m.busy = cancel, &busy{began: time.Now()}
	var cmd tea.Cmd
	if p, works := m.page().(worker); works {
		cmd = p.work(ctx, m.planning, m.busy.doing)
	}
	if cmd == nil {
		cancel()
		m.busy = nil
		return nil
	}
	return tea.Batch(cmd, watchPlanning(m.planning))
}

// planningOver says whether what was planned is still wanted; then nothing more is being planned.
func planningOver(m *model, number int) bool {
	if number != m.planning {
		return false
	}
	m.busy = nil
	return true
}

// onPlanned takes a plan, unless another is being made by now.
func (m *fitPage) onPlanned(msg planned) tea.Cmd {
	if !planningOver(m.model, msg.number) {
		return nil
	}
	m.pair, m.restoreErr = msg.pair, msg.err
	if m.pointAtGrowing(); m.fit.goOn {
		m.fit.goOn = false
		return m.fitLastPage()
	}
	return m.release()
}

// start begins a run and shows it; stopped says what state cancelling it leaves.
func (m *runPage) start(r *run.Run, stopped string, after func(run.Snapshot) tea.Cmd) tea.Cmd {
	m.menus.forgetWaiting()
	m.result = nil
	m.run, m.after, m.stopped, m.snap, m.alone, m.fitPage.pairing.run = r, after, stopped, r.Snapshot(), false, nil
	m.goTo(stepRun)
	return tick()
}

func (m *runPage) running() bool { return m.run != nil && !m.snap.Over() }

func (m *runPage) onTick() tea.Cmd {
	if m.run == nil || m.snap.Over() {
		return nil
	}
	m.snap = m.run.Snapshot()
	m.fitPage.followPairs()
	if !m.snap.Over() {
		return tick()
	}
	m.leaving, m.ending = false, false
	var cmd tea.Cmd
	if m.after != nil {
		cmd = m.after(m.snap)
	}
	return tea.Batch(cmd, m.datesPage.readShelf(), m.look())
}

func (m *model) quit() tea.Cmd {
	if m.runPage.running() && !m.runPage.leaving {
		m.runPage.leaving = true
		return nil
	}
	return tea.Quit
}

func newInput(prompt string, width int) *textinput.Model {
	t := textinput.New()
	t.Prompt = prompt
	t.SetWidth(width)
	t.CharLimit = 1000 // folders and passphrases may be long
	t.Focus()
	return &t
}

// View draws the whole screen.
func (m *model) View() tea.View {
	v := tea.View{AltScreen: true, WindowTitle: "Twin Shelf"}
	if m.wide > 0 && m.high > 0 {
		v.SetContent(strings.Join(m.draw(), "\n"))
	}
	return v
}
