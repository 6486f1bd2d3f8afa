package tui

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/machine"
	"twinshelf/internal/shelf"
	"twinshelf/internal/stick/keys"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// welcomePage is the first page of a machine that was started from a stick: what machine it is, what to put right
// before work begins, and which shelves were found.
type welcomePage struct {
	*model
	who      *machine.Machine
	stick    *workshop.Stick // nil on machines that weren't started from a stick
	found    []workshop.FoundShelf
	at       int
	problems []string
	told     string // the latest news
	entries  startEntries
	net      *wiring
}

// letGone is what was lost with drives that are gone: the shelf that was open, and folders of shelves.
type letGone struct {
	lost    *shelf.Shelf
	folders map[string]bool
}

// foundShelves are those that were found on a disk.
type foundShelves struct {
	path  string
	found []workshop.FoundShelf
	err   error
}

// opened looks at the machine anew: its power may have changed.
func (m *welcomePage) opened() { m.who = m.w.Computer() }

// begin is what a machine that was started from a stick begins with.
func (m *welcomePage) begin() tea.Cmd {
	if m.stick = m.w.Stick(); m.stick == nil {
		return nil
	}
	m.who = m.w.Computer()
	m.step = stepWelcome
	if !m.stick.Display {
		return m.net.lookNet()
	}
	if id := m.w.Keyboard(); id != "" {
		return tea.Batch(m.net.lookNet(), m.useKeyboard(id, false))
	}
	m.offerKeyboards()
	return m.net.lookNet()
}

// search looks for shelves on a disk that was just looked at.
func (m *welcomePage) search(d *bench.Disk) tea.Cmd {
	if m.stick == nil {
		return nil
	}
	w, ctx, here := m.w, m.ctx, m.disks
	return func() tea.Msg {
		found, err := w.FindShelves(ctx, d, here)
		return foundShelves{d.Path, found, err}
	}
}

// onFound takes the shelves of a disk. Where none is open yet one that can be opened is, before others the one with
// twins of this machine.
func (m *welcomePage) onFound(msg foundShelves) tea.Cmd {
	if msg.err != nil {
		m.problems = append(m.problems, fmt.Sprintf("Looking for shelves on %s: %v", msg.path, msg.err))
	}
	for _, f := range msg.found {
		m.found = append(slices.DeleteFunc(m.found, func(o workshop.FoundShelf) bool { return o.ID == f.ID }), f)
	}
	sortFound(m.found)
	m.at = max(0, min(m.at, len(m.offered())-1))
	cmd := m.datesPage.readShelf()
	if m.w.Shelf == nil && m.looking == 0 && len(m.found) > 0 && !m.found[0].Sealed {
		return tea.Batch(cmd, m.shelfDesk.openThen(m.found[0].Folder, nil, m.shelfDesk.use))
	}
	return cmd
}

// news says what went wrong with the stick's system, once.
func (m *welcomePage) news() {
	if m.stick == nil {
		return
	}
	if news := m.w.News(); news != "" && news != m.told {
		m.told = news
		m.problems = append(m.problems, capital(news)+".")
		m.fail(capital(news) + ".")
	}
}

// letGo takes away what was on drives that are gone, beside the screen: a file system may wait for its drive.
func (m *welcomePage) letGo() tea.Cmd {
	if m.stick == nil || m.runPage.running() { // work that needs a shelf waits for it, or says what it lacks
		return nil
	}
	w, ctx, found := m.w, m.ctx, slices.Clone(m.found)
	return func() tea.Msg {
		gone := letGone{lost: w.LetGo(ctx), folders: map[string]bool{}}
		for _, f := range found {
			gone.folders[f.Folder] = !w.Reachable(f.Folder)
		}
		return gone
	}
}

// onGone takes in what was lost with drives.
func (m *welcomePage) onGone(msg letGone) tea.Cmd {
	m.found = slices.DeleteFunc(m.found, func(f workshop.FoundShelf) bool { return msg.folders[f.Folder] })
	m.at = max(0, min(m.at, len(m.offered())-1))
	if m.runPage.running() || !m.w.CloseLost(msg.lost) {
		return nil
	}
	m.fail("The drive with the shelf " + msg.lost.Head().Name + " was taken away: the shelf is closed. Attach it " +
		"again, and it is found.")
	return forgetShelf(m.model)
}

// forgetShelf forgets what was worked out with a shelf that isn't open any more.
func forgetShelf(m *model) tea.Cmd {
	m.menus.forgetWaiting()
	m.planning++
	m.capturePage.plan, m.fitPage.pair = nil, nil
	d := m.datesPage
	d.thin, d.goes, d.wished, d.boards, d.board = nil, nil, nil, nil, 0
	return d.readShelf()
}

func (m *welcomePage) lanes() lanes {
	return lanes{up: nothing(reading(m.th, ""), "nothing yet"), down: nothing(writing(m.th, ""), "nothing")}
}

func (m *welcomePage) bindings() []binding {
	out := []binding{{"enter", "Enter", "to the bench", "the disks of this machine, and those that are attached",
		leads(func() tea.Cmd { return m.goTo(stepBench) })}}
	if all := m.offered(); m.at < len(all) {
		f := all[m.at]
		out = []binding{{"enter", "Enter", "work with " + f.Name, "open this shelf and go to the bench",
			leads(func() tea.Cmd { return m.open(f) })},
			move(listKeys, "shelf", "choose a shelf", &m.at, len(all))}
	}
	why := ""
	if m.stick == nil || !m.stick.Display {
		why = "The keyboard belongs to the terminal at the other end of the line."
	}
	return append(out,
		binding{"t", "t", "set the clock", "set the clock of this system; the one in the machine stays",
			acts(m.askClock)},
		binding{"n", "n", "network", "bring up the wired network, for shelves far away; set the clock by a server",
			acts(m.net.offerNet)},
		binding{"o", "o", "another shelf", "open one by its folder or address, or make a new one",
			m.datesPage.alone(func() tea.Cmd {
				m.shelfDesk.offerShelves("Which shelf should be opened?", m.shelfDesk.use)
				return nil
			})},
		m.unless(why, binding{"y", "y", "keyboard", "choose the layout of the keyboard; it is remembered",
			acts(m.offerKeyboards)}),
		m.unless(m.noEntries(), binding{"e", "e", "start entries", "what the firmware starts, in its order; add an " +
			"entry for a restored disk, or take back what was added", leads(m.readEntries)}))
}

// open opens a shelf, unless it is the one that is open, and goes to the Bench.
func (m *welcomePage) open(f workshop.FoundShelf) tea.Cmd {
	if m.w.Shelf != nil && m.w.Shelf.Head().ID == f.ID {
		return m.goTo(stepBench)
	}
	if m.runPage.running() { // it works with the one that is open
		m.fail("A run is under way already: see step 6.")
		return nil
	}
	return tea.Batch(m.goTo(stepBench), m.shelfDesk.openThen(f.Folder, nil, m.shelfDesk.use))
}

func (m *welcomePage) askClock() {
	m.prompt.ask("Date and time, as 2026-11-29 14:05: ", time.Now().Format("2006-01-02 15:04"), func(text string) {
		if err := m.w.SetClock(text); err != nil {
			m.fail(sentence(err))
			return
		}
		m.say("The clock is set. Twins, papers and records carry its time.")
	})
}

// offerKeyboards lets the layout be chosen.
func (m *welcomePage) offerKeyboards() {
	n := menu{title: "Which keyboard does this machine have? It is asked once, and remembered on the stick"}
	all := keys.Layouts()
	for i, l := range all {
		n.choices = append(n.choices, choice{name: l.Name})
		if l.ID == m.w.Keyboard() {
			n.at = i
		}
	}
	n.then = func(chosen []int) tea.Cmd { return m.useKeyboard(all[chosen[0]].ID, true) }
	m.menus.offer(n)
}

// useKeyboard has the keyboard type by a layout.
func (m *welcomePage) useKeyboard(id string, anew bool) tea.Cmd {
	w := m.w
	return func() tea.Msg {
		err := w.UseKeyboard(id)
		if err == nil && anew {
			err = w.RememberKeyboard(id)
		}
		if err != nil {
			return problems{sentence(err)}
		}
		return keyboardSet{id}
	}
}

// keyboardSet says that the keyboard types by a layout now.
type keyboardSet struct{ id string }

// keyboardWords names the layout that is typed with, for where something is typed; empty where that is the terminal's.
func keyboardWords(m *model) string {
	p := m.welcomePage
	if p.stick == nil || !p.stick.Display {
		return ""
	}
	if l, known := keys.Find(m.w.Keyboard()); known {
		return l.Name
	}
	return keys.Layouts()[0].Name
}

func (m *welcomePage) body(w int) ([]string, int) {
	if m.stick == nil {
		return m.plain(w, "This machine", "is shown where it was started from a stick."), -1
	}
	th := m.th
	head := func(s string) string { return " " + th.strong.Render(s) }
	out := append(m.wrong(w), head("THIS MACHINE"))
	out = append(out, m.machineLines(w)...)
	out = append(out, "", head("CLOCK"))
	out = append(out, m.clockLines(time.Now().UTC())...)
	if time.Now().Before(m.stick.Made) {
		says := "‼ It can't be right: the stick was made on " + units.Moment(m.stick.Made) + ". Nothing is " +
			"captured before it is set (t)."
		for _, l := range th.wrap(says, w-5) {
			out = append(out, "   "+th.bad.Render(l))
		}
	}
	out = append(out, "", head("SHELVES"))
	keep := -1
	all := m.offered()
	for i, f := range all {
		if i == m.at {
			keep = len(out) + 1
		}
		out = append(out, m.foundLines(f, i == m.at, w)...)
	}
	if len(all) == 0 {
		says := "None yet: attach a drive with a shelf, and it is found by itself; or make a drive ready (2) for " +
			"a new one."
		if m.looking > 0 {
			says = "The drives are being looked at …"
		}
		for _, l := range th.wrap(says, w-5) {
			out = append(out, "   "+th.dim.Render(l))
		}
	}
	out = append(out, "", head("NETWORK"))
	out = append(out, m.net.netLines(w)...)
	if words := keyboardWords(m.model); words != "" {
		out = append(out, "", head("KEYBOARD")+"  "+words)
	}
	out = append(out, "", head("RECORDS"))
	records := "Records, logs and papers are kept on the stick's data part; if it is pulled out they end there, and " +
		"nothing else is harmed."
	paint := th.dim
	if !m.stick.Records {
		records, paint = "This stick has no data part in reach: records and logs are lost when the machine is "+
			"switched off, but for what lies on shelves.", th.caution
	}
	for _, l := range th.wrap(records, w-5) {
		out = append(out, "   "+paint.Render(l))
	}
	return out, keep
}

// wrong is what is to be known before anything else.
func (m *welcomePage) wrong(w int) (out []string) {
	for _, p := range m.problems {
		for i, l := range m.th.wrap(p, w-5) {
			mark := "‼ "
			if i > 0 {
				mark = "  "
			}
			out = append(out, " "+m.th.bad.Render(mark+l))
		}
		out = append(out, "")
	}
	return out
}

// beside are the disks that are attached, and what is usually done next.
func (m *welcomePage) beside(w int) []string {
	if m.stick == nil {
		return nil
	}
	th := m.th
	out := []string{" " + th.strong.Render("ATTACHED")}
	for _, d := range m.disks {
		mine := ""
		if o := m.datesPage.owners.of(d); o.machine != "" {
			mine = o.words() + "; "
		}
		out = append(out, "   "+fit(stickerEnd(d.Identity)+"  "+th.size(d.Identity.Size), w-4),
			"     "+th.dim.Render(fit(mine+d.Words(), w-6)))
	}
	if len(m.disks) == 0 {
		out = append(out, "   "+th.dim.Render("Nothing yet: attach a drive."))
	}
	out = append(out, "", " "+th.strong.Render("WHAT IS USUALLY NEXT"))
	for _, l := range []string{"The customer's disk onto the shelf: Enter goes to the Bench, Enter there captures it.",
		"A date back onto a new disk: 4 has the dates, Enter there plans it.",
		"A disk that can't be read, or says that it is failing: R on the Bench rescues it."} {
		out = append(out, th.bullet(l, w)...)
	}
	return out
}

// figures are digits and a colon, three rows of half cells each.
var figures = map[rune][3]string{
	'0': {"█▀█", "█ █", "▀▀▀"}, '1': {" ▀█", "  █", "  ▀"},
	'2': {"▀▀█", "█▀▀", "▀▀▀"}, '3': {"▀▀█", " ▀█", "▀▀▀"},
	'4': {"█ █", "▀▀█", "  ▀"}, '5': {"█▀▀", "▀▀█", "▀▀▀"},
	'6': {"█▀▀", "█▀█", "▀▀▀"}, '7': {"▀▀█", "  █", "  ▀"},
	'8': {"█▀█", "█▀█", "▀▀▀"}, '9': {"█▀█", "▀▀█", "▀▀▀"}, ':': {"▄", "▄", " "},
}

// clockLines are the time in large figures with the date beside it: a wrong clock makes wrong dates.
func (m *welcomePage) clockLines(now time.Time) []string {
	rows := [3]string{"   ", "   ", "   "}
	for _, r := range now.Format("15:04") {
		for i := range rows {
			rows[i] += figures[r][i] + " "
		}
	}
	beside := [3]string{m.th.strong.Render(now.Format("Monday 2 January 2006")),
		m.th.dim.Render("UTC, counted from the clock in the machine"), ""}
	var out []string
	for i := range rows {
		out = append(out, m.th.strong.Render(rows[i])+"  "+beside[i])
	}
	return out
}

// machineLines say what machine it is.
func (m *welcomePage) machineLines(w int) []string {
	th, c := m.th, m.who
	name := c.Name()
	if name == "" {
		name = "The firmware doesn't tell its maker or model"
	}
	if c.Serial != "" {
		name += "   serial " + c.Serial
	}
	firmware := capital(c.Start.Words())
	if c.Firmware != "" {
		firmware += "; firmware " + c.Firmware
	}
	if c.Dated != "" {
		firmware += " of " + c.Dated
	}
	out := []string{"   " + th.strong.Render(fit(name, w-4))}
	for _, l := range th.wrap(firmware+"; "+th.size(c.Memory)+" of memory", w-5) {
		out = append(out, "   "+l)
	}
	power, paint := "Power: "+c.Power.Words(), th.dim
	if c.Power.OnBattery() {
		power, paint = "! "+power+". Connect it to mains power before work that takes long.", th.caution
	}
	for _, l := range th.wrap(power, w-5) {
		out = append(out, "   "+paint.Render(l))
	}
	if !c.Keyboard {
		for _, l := range th.wrap("! No keyboard was found: its driver may be missing. Attach one by USB, or work "+
			"over the serial line.", w-5) {
			out = append(out, "   "+th.caution.Render(l))
		}
	}
	return out
}

// foundLines are a shelf that was found.
func (m *welcomePage) foundLines(f workshop.FoundShelf, here bool, w int) []string {
	th := m.th
	mark, name := "   ", fit(f.Name, 20)
	if here {
		mark, name = " ▶ ", th.here.Render(name)
	}
	says := units.Plural(f.Twins, "twin")
	open := m.w.Shelf != nil && m.w.Shelf.Head().ID == f.ID
	switch {
	case f.Far && !open && m.net.set == nil:
		says = "needs the network (n); " + says
	case f.Far && !open:
		says += ", last open " + f.Newest.Format("2 Jan 2006")
	case f.Far:
	case f.Sealed:
		says = "sealed: its passphrase is asked for"
	case f.Mine > 0:
		says += fmt.Sprintf(", %d of disks that are attached here, the newest of %s", f.Mine, units.Moment(f.Newest))
	}
	if open {
		says = "open; " + says
	}
	where := f.Drive
	if !f.Far {
		where = "on " + where
	}
	return []string{mark + name + " " + fit(says, w-26), "     " + th.dim.Render(fit(where, w-6))}
}

// onHost takes what came of work about this machine.
func (m *welcomePage) onHost(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case netLooked, netSet, netTime:
		return m.net.onNet(msg)
	case foundShelves:
		return m.onFound(msg)
	case letGone:
		return m.onGone(msg)
	case keyboardSet:
		m.say("Keyboard: %s.", keyboardWords(m.model))
	case entriesRead:
		m.onEntries(msg)
	}
	return nil
}

// sortFound puts shelves with twins of this machine's disks first, sealed ones last.
func sortFound(all []workshop.FoundShelf) {
	rank := func(f workshop.FoundShelf) int {
		switch {
		case f.Mine > 0:
			return 0
		case !f.Sealed:
			return 1
		}
		return 2
	}
	slices.SortFunc(all, func(a, b workshop.FoundShelf) int {
		return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(a.Name, b.Name))
	})
}

// ends are how a machine that was started from a stick can be ended.
var ends = []struct {
	name, about, how string
}{
	{"switch the machine off", "all drives are taken off in good order", "off"},
	{"restart it", "take the stick out when the screen goes dark, or the machine starts from it again", "restart"},
	{"restart it into the firmware's set-up", "where the order of drives, Secure Boot and the mode of controllers " +
		"are set",
		"setup"},
	{"leave the full screen", "for a line on which the same can be typed", "leave"},
}

// offerEnd asks how the machine is to be ended.
func (m *welcomePage) offerEnd() {
	n := menu{title: "The work is done: what should the machine do?"}
	for _, e := range ends {
		c := choice{name: e.name, about: e.about}
		if e.how == "setup" && !m.w.Variables().CanOpenSetup() {
			c.no = "this firmware doesn't open its set-up when it is asked to: press its key while the machine " +
				"starts (often F2, Del, F10 or Esc)"
			c.about = "not by itself; " + c.no
		}
		n.choices = append(n.choices, c)
	}
	n.then = func(chosen []int) tea.Cmd {
		how := ends[chosen[0]].how
		w := m.w
		return func() tea.Msg {
			if err := w.End(how); err != nil {
				return problems{sentence(err)}
			}
			return tea.Quit()
		}
	}
	m.menus.offer(n)
}
