package tui

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/capture"
	"twinshelf/internal/routine"
	"twinshelf/internal/workshop"
)

// routineDraft is a routine that is being made or changed: the lines of its text, but for the first.
type routineDraft struct {
	lines []string
	// was is the name of the one that is changed; empty for a new one.
	was string
}

// lineKinds are the lines that can be added, with what they are for.
var lineKinds = []struct{ key, about, such string }{
	{"when", "a time, or what sets it off", "every weekday at 18:30"},
	{"do", "capture, prove, thin, copy, check 5 %, carry to …", "prove"},
	{"shelf", "another one, if those before can't be had", ""},
	{"pack", "how closely captures are packed: close, usual, swift", "close"},
	{"keep", "what thin goes by: hourly, daily, weekly, …", "daily"},
	{"within", "hours in which it begins", "22:00 to 5:00"},
	{"on failure", "try again 2 times after 10 minutes, or go on", "try again 2 times after 10 minutes"},
	{"tell", "who hears of each run: mail ADDRESS, web https://…", "mail "},
	{"tell on failure", "the same, only when a run didn't end well", "mail "},
	{"tell weekly", "the same, once a week", "mail "},
	{"alarm", "tell when nothing ended well for so long", "nothing for 8 days"},
	{"heartbeat", "address that is asked for after each good run", "https://"},
	{"spread", "begin up to so much later", "10 minutes"},
	{"only on mains", "not on battery", "yes"},
	{"only when idle", "not while other work on disks is on", "yes"},
	{"zone", "the time zone of its times", ""},
	{"passphrase", "of a sealed shelf: file PATH, credential NAME, kept", "file "},
	{"mounted disks", "how disks of this machine are captured", "LVM snapshots"},
	{"disk", "another disk: model, serial number", ""},
	{"spare", "a disk that copy ERASES: model, serial number", ""},
}

// parse reads the draft.
func (d *routineDraft) parse() (*routine.Routine, error) {
	return routine.Parse(strings.NewReader(routine.Head + "\n" + strings.Join(d.lines, "\n") + "\n"))
}

// with is the draft with another line at a place; an empty value takes the line away.
func (d *routineDraft) with(at int, key, value string) *routineDraft {
	out := &routineDraft{slices.Clone(d.lines), d.was}
	value = strings.TrimSpace(value)
	switch {
	case at < len(out.lines) && value == "":
		out.lines = slices.Delete(out.lines, at, at+1)
	case value == "":
	case at < len(out.lines):
		out.lines[at] = key + ": " + value
	default:
		out.lines = append(out.lines, key+": "+value)
	}
	return out
}

// said is why the draft is no routine yet, in words, or when it would run next.
func (d *routineDraft) said() (words string, wrong bool) {
	r, err := d.parse()
	if at := (*routine.LineError)(nil); errors.As(err, &at) {
		return at.Says, true
	}
	if err != nil {
		return err.Error(), true
	}
	next := r.Ahead(time.Now(), 3)
	if len(next) == 0 {
		return "no clock sets it off", false
	}
	var times []string
	for _, t := range next {
		times = append(times, t.Format("Mon 2006-01-02 15:04"))
	}
	return "next " + strings.Join(times, ", "), false
}

// editChosen edits the routine that is pointed at.
func (m *routinesPage) editChosen() tea.Cmd {
	s := m.chosen()
	lines := strings.Split(strings.TrimSpace(s.Text()), "\n")[1:]
	m.draft = &routineDraft{lines, s.Name}
	m.offerLines(0)
	return nil
}

// offerLines shows the lines of the draft, to be changed one by one.
func (m *routinesPage) offerLines(at int) {
	d := m.draft
	says, wrong := d.said()
	keep := choice{name: "KEEP IT", about: says, warns: wrong}
	if wrong {
		keep.no = says
	}
	choices := []choice{keep}
	for _, l := range d.lines {
		choices = append(choices, choice{name: l})
	}
	choices = append(choices, choice{name: "add a line …"})
	title := "A new routine: Enter changes a line; nothing is kept yet."
	if d.was != "" {
		title = d.was + ": Enter changes a line; nothing is changed yet."
	}
	m.menus.offer(menu{title: title, choices: choices, at: at, then: func(chosen []int) tea.Cmd {
		switch i := chosen[0]; {
		case i == 0:
			return m.keepDraft()
		case i <= len(d.lines):
			key, value, _ := strings.Cut(d.lines[i-1], ": ")
			m.askLine(i-1, key, value)
		default:
			m.offerKinds()
		}
		return nil
	}, left: func() {
		if m.draft == d {
			m.draft = nil
			m.say("Nothing was changed.")
		}
	}})
}

// offerKinds shows what can be added.
func (m *routinesPage) offerKinds() {
	var choices []choice
	for _, k := range lineKinds {
		choices = append(choices, choice{name: fmt.Sprintf("%-16s %s", k.key, k.about)})
	}
	m.menus.offer(menu{title: "Add which line?", choices: choices, then: func(chosen []int) tea.Cmd {
		k := lineKinds[chosen[0]]
		m.askLine(len(m.draft.lines), k.key, k.such)
		return nil
	}, left: func() { m.offerLines(0) }})
}

// askLine has a line typed; what it would come to is said meanwhile.
func (m *routinesPage) askLine(at int, key, now string) {
	d := m.draft
	m.prompt.ask(key, now, func(s string) {
		m.draft = d.with(at, key, s)
		m.offerLines(min(at+1, len(m.draft.lines)))
	})
	m.prompt.live = func(s string) { m.prompt.says, m.prompt.wrong = d.with(at, key, s).said() }
	m.prompt.live(now)
	m.prompt.left = func() { m.offerLines(min(at+1, len(d.lines))) }
}

// keepDraft saves the draft; what it erases is confirmed first.
func (m *routinesPage) keepDraft() tea.Cmd {
	d := m.draft
	r, err := d.parse()
	if err != nil {
		m.fail(sentence(err))
		return nil
	}
	if sure, err := m.w.RoutineConfirmed(r); err == nil && !sure {
		m.confirmErasing(r, func() tea.Cmd { return m.save(r, d.was) })
		return nil
	}
	return m.save(r, d.was)
}

func (m *routinesPage) save(r *routine.Routine, was string) tea.Cmd {
	m.draft = nil
	err := m.w.Routines().Save(r, time.Now())
	if err == nil && r.Erases() {
		err = m.w.ConfirmRoutine(r)
	}
	if err != nil {
		m.fail(sentence(err))
		return nil
	}
	m.seek = r.Name
	m.say("%s is kept. \"twinshelf routine service --install\" has it run by itself.", r.Name)
	if was != "" && was != r.Name {
		m.say("%s is kept beside %s, which is as it was.", r.Name, was)
	}
	return m.replan()
}

// confirmErasing shows a last page for each spare, one after the other, and then goes on.
func (m *routinesPage) confirmErasing(r *routine.Routine, then func() tea.Cmd) {
	all := workshop.SummarizeRoutine(r)
	var next func(i int) tea.Cmd
	next = func(i int) tea.Cmd {
		if i < len(all) {
			m.lastPage.open(all[i], func() tea.Cmd { return next(i + 1) })
			return nil
		}
		return then()
	}
	_ = next(0)
}

// offerNew asks what a new routine is for.
func (m *routinesPage) offerNew() tea.Cmd {
	type start struct {
		name  string
		about string
		lines []string
	}
	shelf := ""
	if s := m.w.Shelf; s != nil {
		shelf = s.Head().Name
	}
	var starts []start
	for _, g := range m.machinesHere() {
		var stickers []string
		for _, d := range g.disks {
			stickers = append(stickers, stickerEnd(d.Identity))
		}
		starts = append(starts, start{"capture " + g.machine, strings.Join(stickers, ", "),
			captureLines(g.machine, shelf, g.disks, capture.PackFollow)})
	}
	starts = append(starts, start{"check a share of the shelf", shelf, []string{"name: " + shelf + ", weekly",
		"shelf: " + shelf, "do: check 5 %", "when: every sunday at 3:00"}})
	var choices []choice
	for _, s := range starts {
		c := choice{name: s.name, about: s.about}
		if shelf == "" {
			c.no = "no shelf is open"
		}
		choices = append(choices, c)
	}
	m.menus.offer(menu{title: "A new routine that does what? Everything of it can be changed then.", choices: choices,
		then: func(chosen []int) tea.Cmd {
			m.draft = &routineDraft{lines: starts[chosen[0]].lines}
			m.offerLines(0)
			return nil
		}})
	return nil
}

// captureLines are those of a routine that captures a machine in the evening, packed in a way.
func captureLines(machine, shelf string, disks []*bench.Disk, way capture.Packing) []string {
	out := []string{"name: " + machine, "machine: " + machine}
	for _, d := range disks {
		out = append(out, "disk: "+routine.DiskOf(d.Identity).String())
	}
	out = append(out, "shelf: "+shelf, "do: capture")
	if way != capture.PackFollow {
		out = append(out, "pack: "+string(way))
	}
	return append(out, "when: every weekday at 18:30")
}

// hereMachine is a machine whose disks are attached.
type hereMachine struct {
	machine string
	disks   []*bench.Disk
}

// machinesHere are what is about to be captured, and then the machines whose disks are on the Bench.
func (m *routinesPage) machinesHere() (out []hereMachine) {
	add := func(machine string, d *bench.Disk) {
		if machine == "" || d.Identity.Serial == "" {
			return
		}
		i := slices.IndexFunc(out, func(g hereMachine) bool { return g.machine == machine })
		if i < 0 {
			out, i = append(out, hereMachine{machine: machine}), len(out)
		}
		if !slices.Contains(out[i].disks, d) {
			out[i].disks = append(out[i].disks, d)
		}
	}
	for _, d := range chosenDisks(m.model) {
		add(m.capturePage.machine, d)
	}
	for _, d := range m.disks {
		add(m.datesPage.owners.of(d).machine, d)
	}
	return out
}

// saveCapture makes a routine of what is captured here, or was just now.
func saveCapture(m *routinesPage) tea.Cmd {
	disks := chosenDisks(m.model)
	for _, d := range disks {
		if d.Identity.Serial == "" {
			m.fail(fmt.Sprintf("%s has no serial number, so a routine can't know it again.", d.Identity.Model))
			return nil
		}
	}
	if len(disks) == 0 || m.capturePage.machine == "" || m.w.Shelf == nil {
		m.fail("A routine captures disks of a machine onto a shelf: choose them first, and name the machine.")
		return nil
	}
	cmd := m.goTo(stepRoutines)
	m.draft = &routineDraft{lines: captureLines(m.capturePage.machine, m.w.Shelf.Head().Name, disks,
		m.capturePage.packing)}
	m.offerLines(0)
	return cmd
}
