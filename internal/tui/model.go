package tui

import (
	"context"
	"errors"
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

// model is the state of the screen.
type model struct {
	ctx  context.Context
	th   theme
	w    *workshop.Workshop
	wide int
	high int

	step   step
	before []step // where Esc leads back to
	help   bool
	room   int // rows of the body
	scroll int // of the body, where it is longer than the screen
	note   string
	alarm  bool // the note tells of something that went wrong

	disks   []*bench.Disk
	looking int // disks that are still being looked at
	cursor  int

	// What is read and what is written; the rails show it in every step.
	source   *bench.Disk
	fromTwin bool
	target   *bench.Disk

	boards   []board
	board    int
	marks    map[string]shelf.Mark // twins that are kept for ever
	ahead    keeping.Foresight
	known    []workshop.KnownShelf
	retired  string
	concerns []string          // what makes the shelf less private than it should be
	growing  bool              // the Dates step shows how the shelf grows
	thin     *keeping.Preview  // what would go by the rule; nil when it isn't shown
	goes     map[string]string // twins that would go, and why
	unthin   func()            // gives up what is being worked out for them
	wished   *keeping.Rules    // rules that are tried out, not set yet
	pending  tea.Cmd           // what a typed line leads to
	result   []string          // what the last run came to, beside its notes
	twinDisk int
	typing   *textinput.Model // a line of text being typed
	typed    func(string)     // what to do with it
	live     func(string)     // hears of every letter; may be nil
	menu     *menu            // a list to choose from
	waiting  *menu            // one that is offered once the Run step is looked at
	ready    readying

	machine  string
	chosen   map[string]bool         // paths of disks to capture
	leaveOut map[string]map[int]bool // parts left out by path
	row      int
	unquiet  bool
	trust    capture.Trust
	trusts   []string // what is taken over from earlier twins, in words
	plan     *capture.Plan
	estimate capture.Estimate
	outgoing *workshop.Leaving // what goes after the capture by the machine's rule

	inside     lookingIn
	fit        fitting
	pairing    pairing
	copying    bool // the Fit step is about the disk on the upper rail, not about a twin
	pair       *workshop.Pair
	restoreErr error
	summary    *workshop.Summary // the last page before writing
	confirm    *textinput.Model
	goAhead    func() tea.Cmd // what the last page leads to
	outcome    *outcome       // what the last page leads to, on the lower rail

	run     *run.Run
	snap    run.Snapshot
	after   func(run.Snapshot) tea.Cmd
	stopped string // what state cancelling leaves
	alone   bool   // the run reads no other disk than it writes
	leaving bool   // asked whether to leave while a run is on
	ending  bool   // asked whether to cancel the run
	fresh   string // ID of a twin that was just captured and isn't among the boards yet

	proof    *shelf.Proof
	written  string // path of the target that the last run wrote
	planning int
	unplan   context.CancelFunc // gives up what is being planned
	busy     *busy              // what that is busy with
}

func newModel(ctx context.Context, w *workshop.Workshop) *model {
	return &model{ctx: ctx, w: w, th: newTheme(true), chosen: map[string]bool{}, leaveOut: map[string]map[int]bool{}}
}

type (
	listed  struct{ disks []*bench.Disk }
	probed  struct{ disk *bench.Disk }
	shelved struct {
		boards   []board
		marks    map[string]shelf.Mark
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
		outgoing *workshop.Leaving
		err      error
	}
)

// Init starts looking at the bench and the shelf.
func (m *model) Init() tea.Cmd {
	return tea.Batch(m.look(), m.readShelf(), tea.RequestBackgroundColor) // which may never be answered
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
		m.marks, m.ahead, m.known, m.retired, m.concerns = msg.marks, msg.ahead, msg.known, msg.retired, msg.concerns
		return m, m.onShelved(msg.boards)
	case thinned:
		if planningOver(m, msg.number) {
			m.onThinned(msg.p, msg.err)
		}
	case problems:
		m.fail(msg.text)
	case planned:
		return m, m.onPlanned(msg)
	case stillPlanning:
		if msg.number == m.planning && m.busy != nil {
			return m, watchPlanning(msg.number)
		}
	case estimated:
		if planningOver(m, msg.number) {
			m.plan, m.estimate, m.trusts, m.outgoing = msg.plan, msg.e, msg.trusts, msg.outgoing
			if msg.err != nil {
				m.fail(msg.err.Error())
			}
		}
	case drafted:
		if planningOver(m, msg.number) {
			m.ready.plan, m.ready.err = msg.plan, msg.err
			if m.ready.goOn {
				m.ready.goOn = false
				return m, m.readyGoOn()
			}
		}
	case asked:
		if msg.err != nil {
			m.fail(msg.err.Error())
			return m, nil
		}
		m.lastPage(msg.summary, msg.goAhead)
		m.outcome = msg.outcome
	case told:
		if msg.err != nil {
			m.fail(msg.err.Error())
		} else {
			m.say("%s", msg.text)
		}
		return m, tea.Batch(m.look(), m.readShelf())
	case ticked:
		return m, m.onTick()
	case locked:
		m.onLocked(msg)
	case paired:
		return m, m.onPaired(msg)
	case startRun:
		return m, msg.begin()
	case askQuit:
		return m, m.quit()
	case tea.KeyPressMsg:
		return m, m.onKey(msg)
	case tea.PasteMsg:
		return m, m.onPaste(msg)
	default:
		return m, m.onInside(msg)
	}
	return m, nil
}

// onInside takes what was read for the Inside step.
func (m *model) onInside(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case lookedInto:
		return m.onOpened(msg)
	case folderRead:
		return m.onFolder(msg)
	case detailed:
		m.onDetailed(msg)
	case pageRead:
		m.onPage(msg)
	case searched:
		m.onSearched(msg)
	case listingNames:
		msg.f.listing = msg.text
	case compared:
		m.onCompared(msg)
	}
	return nil
}

func (m *model) say(format string, args ...any) {
	m.note, m.alarm = fmt.Sprintf(format, args...), false
}
func (m *model) fail(text string) { m.note, m.alarm = text, true }

func (m *model) onListed(disks []*bench.Disk) tea.Cmd {
	m.disks, m.looking = disks, len(disks)
	m.cursor = min(m.cursor, max(0, len(disks)-1))
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
		m.source = m.disks[m.cursor]
	}
}

// goTo opens a step.
func (m *model) goTo(s step) tea.Cmd {
	if s == m.step {
		return nil
	}
	m.before = append(m.before, m.step)
	if len(m.before) > 32 {
		m.before = m.before[1:]
	}
	return m.enter(s)
}

func (m *model) enter(s step) tea.Cmd {
	m.leaveMenu()
	m.step, m.scroll, m.note, m.summary, m.growing = s, 0, "", nil, false
	switch s {
	case stepRun:
		m.askWaiting()
	case stepCapture:
		m.fromTwin = false
		m.chooseMachine()
	case stepDates, stepFit:
		if m.twin() != nil && (s == stepDates || !m.copying) {
			m.fromTwin, m.copying = true, false
		}
		if s == stepFit {
			m.proposeTarget()
		}
	}
	return m.replan()
}

// chooseMachine proposes the disks that belong together and the machine's name.
func (m *model) chooseMachine() {
	if m.source == nil || m.chosen[m.source.Path] {
		return
	}
	m.chosen = map[string]bool{m.source.Path: true}
	for _, d := range workshop.Companions(m.twins(), m.disks, m.source) {
		m.chosen[d.Path] = true
	}
	m.machine = workshop.SuggestMachine(m.twins(), []*bench.Disk{m.source})
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
		if m.chosen[d.Path] {
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
	cmd := m.planStep(ctx, m.planning, m.busy.doing)
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
func (m *model) onPlanned(msg planned) tea.Cmd {
	if !planningOver(m, msg.number) {
		return nil
	}
	m.pair, m.restoreErr = msg.pair, msg.err
	if m.pointAtGrowing(); m.fit.goOn {
		m.fit.goOn = false
		return m.fitLastPage()
	}
	return m.release()
}

// planStep computes what the present step shows, in the background; doing hears what it is busy with.
func (m *model) planStep(ctx context.Context, number int, doing func(string)) tea.Cmd {
	switch m.step {
	case stepReady:
		return m.replanReady(number)
	case stepDates:
		return m.replanThinning(number)
	case stepCapture:
		m.plan = nil
		disks := chosenDisks(m)
		if len(disks) == 0 || m.w.Shelf == nil || m.looking > 0 {
			return nil
		}
		leave := map[*bench.Disk]map[int]bool{}
		for _, d := range disks {
			leave[d] = m.leaveOut[d.Path]
		}
		w, machine, trust := m.w, m.machine, m.trust
		return func() tea.Msg {
			p, err := w.PlanCapture(ctx, machine, disks, leave)
			if err != nil {
				return estimated{number: number, err: err}
			}
			p.Trust = trust
			doing("packing samples of what is used")
			if err := p.Sample(ctx); err != nil {
				return estimated{number: number, err: err}
			}
			doing("looking which blocks the shelf has")
			e, err := p.Estimate(ctx)
			outgoing, problem := w.Leaving(ctx, machine)
			return estimated{number, p, e, p.Trusts(ctx), outgoing, errors.Join(err, problem)}
		}
	case stepFit:
		m.pair, m.restoreErr = nil, nil
		o, ok := m.origin()
		target := m.target
		if !ok || target == nil || target.Survey == nil {
			return nil
		}
		w, wish := m.w, m.fitWish()
		return func() tea.Msg {
			p, err := w.PlanRestore(ctx, o, target, wish, doing)
			return planned{number, p, err}
		}
	}
	return nil
}

// start begins a run and shows it; stopped says what state cancelling it leaves.
func (m *model) start(r *run.Run, stopped string, after func(run.Snapshot) tea.Cmd) tea.Cmd {
	m.forgetWaiting()
	m.result = nil
	m.run, m.after, m.stopped, m.snap, m.alone, m.pairing.run = r, after, stopped, r.Snapshot(), false, nil
	m.goTo(stepRun)
	return tick()
}

func (m *model) running() bool { return m.run != nil && !m.snap.Over() }

func (m *model) onTick() tea.Cmd {
	if m.run == nil || m.snap.Over() {
		return nil
	}
	m.snap = m.run.Snapshot()
	m.followPairs()
	if !m.snap.Over() {
		return tick()
	}
	m.leaving, m.ending = false, false
	var cmd tea.Cmd
	if m.after != nil {
		cmd = m.after(m.snap)
	}
	return tea.Batch(cmd, m.readShelf(), m.look())
}

func (m *model) quit() tea.Cmd {
	if m.running() && !m.leaving {
		m.leaving = true
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
