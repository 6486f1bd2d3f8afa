package tui

import (
	"context"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/capture"
	"twinshelf/internal/keeping"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/workshop"
)

// pages are the steps of the job, what is opened over them, and what is shared by them on the screen. Each has its own
// state, and sees the rest through the model.
type pages struct {
	benchPage   *benchPage
	readyPage   *readyPage
	capturePage *capturePage
	datesPage   *datesPage
	fitPage     *fitPage
	runPage     *runPage
	proofPage   *proofPage
	sheetPage   *sheetPage
	insidePage  *insidePage
	welcomePage *welcomePage

	routinesPage *routinesPage

	// Panes of the page Inside.
	findPane *findPane
	diffPane *diffPane
	viewPane *viewPane

	shelfDesk *shelfDesk
	lastPage  *lastPage
	prompt    *prompt
	menus     *menus
	railsPane *railsPane
	chooser   *chooser
	helper    *helper
}

// page is a step of the job, or what is opened over one.
type page interface {
	// bindings are what keys do on it now.
	bindings() []binding
	// lanes are what it reads and what it really writes.
	lanes() lanes
	// body gives its lines, and which one must stay in view; -1 for none.
	body(w int) (lines []string, keep int)
}

// sided is a page with a second pane: beside the first where the window is wide, otherwise Tab shows it.
type sided interface {
	// beside gives its lines; nil when there is nothing to say now.
	beside(w int) []string
}

// worker is a page that works something out in the background whenever what it depends on has changed.
type worker interface {
	// work gives the work, nil where there is none. doing hears what it is busy with.
	work(ctx context.Context, number int, doing func(string)) tea.Cmd
}

// opener is a page that gets ready when it is opened.
type opener interface{ opened() }

// page is the page that is shown.
func (m *model) page() page {
	switch m.step {
	case stepBench:
		return m.benchPage
	case stepReady:
		return m.readyPage
	case stepCapture:
		return m.capturePage
	case stepDates:
		return m.datesPage
	case stepFit:
		return m.fitPage
	case stepRun:
		return m.runPage
	case stepProof:
		return m.proofPage
	case stepInside:
		return m.insidePage
	case stepWelcome:
		return m.welcomePage
	case stepRoutines:
		return m.routinesPage
	}
	return m.sheetPage
}

// newModel makes the screen.
func newModel(ctx context.Context, w *workshop.Workshop) *model {
	m := &model{ctx: ctx, w: w, th: newTheme(terminal{}), patience: usualPatience}
	inside := &insidePage{model: m}
	m.pages = &pages{
		benchPage: &benchPage{model: m, facts: map[string]facts{}, probed: map[string]*bench.Disk{}},
		readyPage: &readyPage{model: m},
		capturePage: &capturePage{model: m, chosen: map[string]bool{}, leaveOut: map[string]map[int]bool{},
			asCut: map[string]map[int]bool{}},
		datesPage:  &datesPage{model: m},
		fitPage:    &fitPage{model: m},
		runPage:    &runPage{model: m},
		proofPage:  &proofPage{model: m},
		sheetPage:  &sheetPage{model: m},
		insidePage: inside, welcomePage: &welcomePage{model: m, net: &wiring{model: m}},
		routinesPage: &routinesPage{model: m},

		findPane:  &findPane{inside},
		diffPane:  &diffPane{inside},
		viewPane:  &viewPane{inside},
		shelfDesk: &shelfDesk{m},
		lastPage:  &lastPage{model: m},
		prompt:    &prompt{model: m},
		menus:     &menus{model: m},
		railsPane: &railsPane{m},
		chooser:   &chooser{m},
		helper:    &helper{m},
	}
	return m
}

// benchPage is step 1: what is attached.
type benchPage struct {
	*model
	touched bool // a key was pressed
	cursor  int
	facts   map[string]facts       // what is known of disks beside what is on them, by path
	probed  map[string]*bench.Disk // as they were looked at last, by path
	sought  string                 // what was looked for last
	came    []string               // paths of disks that were attached and are still being looked at
	newest  string                 // path of the one that was attached last
	figures bool                   // the other pane shows what the drive says of itself
}

// facts are what is known of a disk from earlier work.
type facts struct {
	cutOff int64 // how far a restore onto it came that was cut off, in percent; 0 for none
	// compared is the ID of the twin that it was compared with, changed that of one that it differs from.
	compared, changed string
}

// readyPage is step 2: laying out, formatting and erasing the target.
type readyPage struct {
	*model
	ready readying
}

// capturePage is step 3: what of a machine goes onto the shelf.
type capturePage struct {
	*model
	machine  string
	chosen   map[string]bool         // paths of disks to capture
	leaveOut map[string]map[int]bool // parts left out by path
	asCut    map[string]map[int]bool // parts captured as if the power had been cut, by path
	row      int
	here     captureRow // the one that the cursor is on
	unquiet  bool
	keepKeys bool // of unlocked volumes, with the twin
	packing  capture.Packing
	trust    capture.Trust
	trusts   []string // what is taken over from earlier twins, in words
	plan     *capture.Plan
	estimate capture.Estimate
	outgoing *workshop.Outgoing // what goes after the capture by the machine's rule
}

// datesPage is step 4: the machines on the shelf, and their dates.
type datesPage struct {
	*model
	boards   []board
	board    int
	twinDisk int
	owners   owners               // whose disks are, by their stickers
	pins     map[string]shelf.Pin // twins that are kept for ever
	ahead    keeping.Foresight
	known    []workshop.KnownShelf
	retired  string
	far      workshop.FarFacts // what is to be known of a shelf far away
	concerns []string          // what makes the shelf less private than it should be
	growing  bool              // it shows how the shelf grows
	thin     *keeping.Preview  // what would go by the rule; nil when it isn't shown
	goes     map[string]string // twins that would go, and why
	unthin   func()            // gives up what is being worked out for them
	wished   *keeping.Rules    // rules that are tried out, not set yet
	fresh    string            // ID of a twin that was just captured and isn't among the boards yet
	reads    int               // how often the shelf was read: what an earlier reading came to doesn't count any more
}

// fitPage is step 5: what goes where on the target.
type fitPage struct {
	*model
	fit        fitting
	pairing    pairing
	copies     string // path of the disk that is copied; empty when it is about a twin
	of         string // ID of the twin that was chosen; empty for the one that Dates are at
	disk       int    // which disk of the twin
	more       more
	pair       *workshop.Pair
	restoreErr error
}

// runPage is step 6: the work that is on.
type runPage struct {
	*model
	work
	snap    run.Snapshot
	unseen  bool     // it has ended, and nobody has looked since
	leaving bool     // asked whether to leave while a run is on
	ending  bool     // asked whether to cancel the run
	result  []string // what the last run came to, beside its notes
}

// proofPage is step 7: the claims of a proof.
type proofPage struct {
	*model
	proof   *shelf.Proof
	written string // path of the target that it is a proof of; empty for the shelf
	several bool   // more than one target was written
	// diff is how what was restored differs from the newest date, nil before that was compared.
	diff *diffing
}

// insidePage is opened over the others: the files of a disk.
type insidePage struct {
	*model
	inside lookingIn
}

// findPane shows what a search found, diffPane how two dates differ, viewPane the contents of a file.
type (
	findPane struct{ *insidePage }
	diffPane struct{ *insidePage }
	viewPane struct{ *insidePage }
)

// shelfDesk opens, makes, changes and carries shelves.
type shelfDesk struct{ *model }

// lastPage is what is confirmed before anything is written.
type lastPage struct {
	*model
	summary *workshop.Summary // nil when it isn't open
	scene   lanes             // what is there now, and what will be
	confirm *textinput.Model
	goAhead func() tea.Cmd // what it leads to
	outcome *outcome       // what it leads to, on the lower rail
	each    each           // of several targets
}

// prompt is a line of text that is typed at the bottom.
type prompt struct {
	*model
	typing  *textinput.Model // nil when nothing is typed
	label   string           // what is asked for
	refused string           // why a line can't be typed now: until it is closed nothing that is typed acts
	says    string           // how what is typed is understood, or why it can't be
	wrong   bool             // it can't be
	typed   func(string)     // what to do with it
	live    func(string)     // hears of every letter; may be nil
	left    func()           // what leaving it leads to; may be nil
	pending tea.Cmd          // what a typed line leads to
	paths   bool             // it is the name of a file or a folder
}

// menus are lists to choose from.
type menus struct {
	*model
	menu    *menu
	waiting *menu // one that is offered once the Run step is looked at
}

// railsPane are the two rails at the top.
type railsPane struct{ *model }

// chooser lets a target be chosen from the disks on the bench; helper lists and explains keys.
type (
	chooser struct{ *model }
	helper  struct{ *model }
)
