package tui

import (
	"context"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/capture"
	"twinshelf/internal/keeping"
	"twinshelf/internal/ready"
	"twinshelf/internal/shelf"
	"twinshelf/internal/table"
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
	stepInside  // beside the job: it has no number
	stepWelcome // before the job, on machines that were started from a stick
	stepRoutines
)

var stepNames = []string{"Bench", "Ready", "Capture", "Dates", "Fit", "Run", "Proof", "Sheet"}

// model is the screen: what all pages share, the pages, and which of them is shown.
type model struct {
	ctx  context.Context
	term terminal
	th   theme
	few  bool // it is drawn with few characters
	w    *workshop.Workshop
	wide int
	high int

	route
	help   bool
	room   int // rows of the body
	scroll int // of the body, where it is longer than the screen
	// other says that Tab has turned to the page's other pane; scrollBeside is how far that is scrolled.
	other        bool
	scrollBeside int
	note         string
	alarm        bool // the note tells of something that went wrong

	disks   []*bench.Disk
	looking int // disks that are still being looked at

	// What was chosen to be read and to be written. Looking around changes neither.
	source *bench.Disk
	target *bench.Disk

	planning int
	unplan   context.CancelFunc // gives up what is being planned
	busy     *busy              // what that is busy with
	patience time.Duration      // how long nothing is said of that

	*pages
}

type (
	listed struct{ disks []*bench.Disk }
	probed struct {
		disk  *bench.Disk
		facts facts
	}
	shelved struct {
		number   int // of the reading
		boards   []board
		pins     map[string]shelf.Pin
		ahead    keeping.Foresight
		known    []workshop.KnownShelf
		retired  string
		concerns []string
		far      workshop.FarFacts
	}
	thinned struct {
		number int
		p      *keeping.Preview
		err    error
	}
	ticked struct{}
	// unkept says that a twin is no longer kept for ever.
	unkept struct {
		twin string
		err  error
	}
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
	// changed says that a disk differs from its newest twin.
	changed struct{ path, twin string }
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
	m.term.sizes = m.w.Sizes()
	renewTheme(m)
	return tea.Batch(m.welcomePage.begin(), m.look(), m.datesPage.readShelf(), m.routinesPage.lookAround(),
		tea.RequestBackgroundColor) // which may never be answered
}

// look lists the bench; each disk that may have changed since it was looked at is then probed in the background.
func (m *model) look() tea.Cmd {
	b := m.w.Bench
	return func() tea.Msg { return listed{b.List()} }
}

// probe looks at a disk in the background; looking counts those that are being looked at, however often each is listed.
func (m *model) probe(d *bench.Disk) tea.Cmd {
	m.looking++
	w, ctx, fresh, was := m.w, m.ctx, *d, m.benchPage.probed[d.Path]
	return func() tea.Msg {
		w.Bench.ProbeAgain(ctx, &fresh, was)
		f := facts{}
		if p, cut := w.CutOff(fresh.Identity); cut && fresh.Survey != nil && fresh.Survey.Table.Kind == table.None {
			f.cutOff = max(1, p.Percent(fresh.Identity.Size))
		}
		return probed{&fresh, f}
	}
}

func tick() tea.Cmd {
	return tea.Tick(100*time.Millisecond, func(time.Time) tea.Msg { return ticked{} })
}

// Update takes one message.
func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	_, pressed := msg.(tea.KeyPressMsg)
	m.benchPage.touched = m.benchPage.touched || pressed
	out, cmd := update(m, msg)
	stayOnRow(m.capturePage, pressed)
	return out, cmd
}

func update(m *model, msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.BackgroundColorMsg:
		m.term.light = !msg.IsDark()
		renewTheme(m)
	case tea.ColorProfileMsg:
		m.term.profile = msg.Profile
		renewTheme(m)
	case tea.WindowSizeMsg:
		m.wide, m.high = msg.Width, msg.Height
		return m, tea.ClearScreen // a frame for the size before may have scrolled the terminal
	case listed:
		return m, m.onListed(msg.disks)
	case probed:
		m.benchPage.learn(msg)
		m.onProbed(msg.disk)
		m.benchPage.announce(msg.disk)
		return m, tea.Batch(m.replan(), m.benchPage.compare(msg.disk), m.welcomePage.search(msg.disk))
	case shelved:
		return m, m.datesPage.onShelved(msg)
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
			return m, watchPlanning(msg.number, m.patience)
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
		}
	case asked:
		if msg.err != nil {
			m.fail(msg.err.Error())
			return m, nil
		}
		m.lastPage.open(msg.summary, msg.goAhead)
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
	case farQuestion:
		m.shelfDesk.onFarQuestion(msg)
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
		return m, toPages(m, msg)
	}
	return m, nil
}

// toPages gives the pages the messages that are theirs alone.
func toPages(m *model, msg tea.Msg) tea.Cmd {
	if cmd, took := onRoutines(m.routinesPage, msg); took {
		return cmd
	}
	switch msg := msg.(type) {
	case jobsRead:
		m.sheetPage.onJobs(msg)
		return nil
	case unkept:
		return onUnkept(m.datesPage, msg)
	case unlocked:
		return onUnlocked(m, msg)
	case paperSaved:
		onPaperSaved(m, msg)
		return nil
	case listRead:
		onListRead(m.sheetPage, msg)
		return nil
	case lockedFound:
		onLockedFound(m, msg)
		return nil
	case protected:
		return m.shelfDesk.onProtected(msg)
	case pictured:
		onPictured(m, msg)
		return nil
	case stickDrafted:
		return onStick(m.readyPage, msg)
	case foundShelves, letGone, keyboardSet, entriesRead, netLooked, netSet, netTime:
		return m.welcomePage.onHost(msg)
	}
	return tea.Batch(m.benchPage.onNews(msg), m.insidePage.onInside(msg))
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
	at := m.benchPage.chosen()
	m.disks = disks
	renewTheme(m)
	m.benchPage.stayOn(at)
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
	m.looking--
	for i, old := range m.disks {
		if old.Path == d.Path && old.Identity.Size == d.Identity.Size &&
			stickerKey(old.Identity) == stickerKey(d.Identity) { // or another one is there by now
			m.disks[i], m.benchPage.probed[d.Path] = d, d
		}
	}
	if m.looking == 0 {
		m.benchPage.arrange()
	}
	m.source, m.target = m.again(m.source), m.again(m.target)
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
	m.scroll, m.scrollBeside, m.other, m.note, m.lastPage.summary, m.datesPage.growing = 0, 0, false, "", nil, false
	if p, opens := m.page().(opener); opens {
		p.opened()
	}
	return m.replan()
}

// chooseMachine proposes the disks that belong together and the machine's name.
func (m *capturePage) chooseMachine() {
	d := m.source
	if d == nil {
		d = m.benchPage.chosen()
	}
	if d == nil || m.chosen[d.Path] {
		return
	}
	m.chosen = map[string]bool{d.Path: true}
	for _, o := range workshop.Companions(m.datesPage.twins(), m.disks, d) {
		m.chosen[o.Path] = true
	}
	m.machine = workshop.SuggestMachine(m.datesPage.twins(), []*bench.Disk{d})
	if m.machine == "" {
		m.machine = m.w.ProposeName(d)
	}
	m.row, m.unquiet, m.asCut = 0, false, map[string]map[int]bool{}
	for i, r := range m.captureRows() {
		if r.disk.Path == d.Path && r.part == 0 {
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
	m.unplan, m.busy = cancel, &busy{began: time.Now(), patience: m.patience}
	var cmd tea.Cmd
	if p, works := m.page().(worker); works {
		cmd = p.work(ctx, m.planning, m.busy.doing)
	}
	if cmd == nil {
		cancel()
		m.busy = nil
		return nil
	}
	return tea.Batch(cmd, watchPlanning(m.planning, m.patience))
}

// stopPlanning gives up what is being planned.
func (m *model) stopPlanning() {
	if m.busy != nil {
		m.unplan()
	}
	m.planning++
	m.busy = nil
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
	if m.fit.planned = nil; msg.err == nil {
		wish := m.fit.wish
		m.fit.planned = &wish
	}
	m.pointAtGrowing()
	return nil
}

func (m *model) quit() tea.Cmd {
	if m.runPage.running() && !m.runPage.leaving {
		m.runPage.leaving = true
		return nil
	}
	if m.welcomePage.stick != nil && !m.runPage.leaving {
		m.welcomePage.offerEnd()
		return nil
	}
	return tea.Quit
}

// View draws the whole screen.
func (m *model) View() tea.View {
	v := tea.View{AltScreen: true, WindowTitle: "Twin Shelf"}
	if m.wide > 0 && m.high > 0 {
		text := strings.Join(m.draw(), "\n")
		if m.few {
			text = inFew.Replace(text)
		}
		v.SetContent(text)
	}
	return v
}
