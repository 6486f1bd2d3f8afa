package tui

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"twinshelf/internal/routine"
	"twinshelf/internal/run"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// routinesPage is opened over the others: work that is saved by name, how it went, and when it is due.
type routinesPage struct {
	*model
	list     []*routine.Standing
	problems []string
	at       int
	read     bool
	// draft is a routine that is being made or changed; nil for none.
	draft *routineDraft
	logs  bool // the history shows what each run noted
	// seek is the name of the routine that is pointed at once it is read; empty for the one that is.
	seek  string
	watch workshop.Watch
	// unwatch ends the process that watches beside this one; nil where none does.
	unwatch context.CancelFunc
	room    map[string]string
	// looked is when the routines were read last, reading says that they are being read now.
	looked  time.Time
	reading bool
	// working are routines that were begun here; the program waits for them.
	working sync.WaitGroup
}

// routinesSeen are the routines as they are now, read without being asked for.
type routinesSeen routinesRead

// routinesRead are the routines as they are now.
type routinesRead struct {
	number   int
	list     []*routine.Standing
	problems []string
	watch    workshop.Watch
	// room says how long the shelf's room lasts with each; nil where that wasn't worked out.
	room map[string]string
}

// routineBegan is a run of a routine; others may follow it. routineOver is how the routine ended.
type (
	routineBegan struct {
		name string
		run  *run.Run
		more <-chan *run.Run
	}
	routineOver struct {
		name  string
		entry routine.Entry
		err   error
	}
)

// work reads them.
func (m *routinesPage) work(ctx context.Context, number int, doing func(string)) tea.Cmd {
	w := m.w
	return func() tea.Msg {
		doing("reading the routines")
		out := readRoutines(w)
		out.number, out.room = number, map[string]string{}
		for _, s := range out.list {
			if o, err := w.RoutineRoom(ctx, s.Routine, time.Now()); err == nil {
				out.room[s.Name] = o.Words(time.Now())
			}
		}
		return out
	}
}

// onRoutines takes what is new of routines; false for other messages.
func onRoutines(m *routinesPage, msg tea.Msg) (tea.Cmd, bool) {
	switch msg := msg.(type) {
	case routinesRead:
		if planningOver(m.model, msg.number) {
			m.take(msg)
		}
	case routinesSeen:
		m.reading = false
		m.take(routinesRead(msg))
	case routineStopped:
		return m.onStopped(msg), true
	case watchOver:
		return m.onWatchOver(msg), true
	case routineBegan:
		return tea.Batch(m.follow(msg), nextRun(msg.name, msg.more)), true
	case routineOver:
		last := m.runPage.onTick() // which says how its last run ended
		switch {
		case msg.err != nil && msg.entry.Outcome == "": // it didn't begin
			m.fail(fmt.Sprintf("%s: %s.", msg.name, msg.err))
		case msg.err != nil:
			m.fail(fmt.Sprintf("%s: %s. %s", msg.name, msg.entry.Outcome, msg.err))
		default:
			m.say("%s: %s. %s", msg.name, msg.entry.Outcome, sentence(errors.New(msg.entry.Says)))
		}
		if m.step == stepRoutines {
			last = tea.Batch(last, m.replan())
		}
		return last, true
	default:
		return nil, false
	}
	return nil, true
}

// take shows what was read; the cursor stays on its routine.
func (m *routinesPage) take(msg routinesRead) {
	name := m.seek
	if s := m.chosen(); s != nil && name == "" {
		name = s.Name
	}
	m.seek = ""
	if msg.room != nil {
		m.room = msg.room
	}
	m.list, m.problems, m.watch, m.read, m.looked = msg.list, msg.problems, msg.watch, true, time.Now()
	if i := slices.IndexFunc(m.list, func(s *routine.Standing) bool { return s.Name == name }); i >= 0 {
		m.at = i
	}
	m.at = max(0, min(m.at, len(m.list)-1))
}

// lookSometimes is how often routines are read while another page is shown and none runs.
const lookSometimes = 15 * time.Second

// lookAround reads the routines again in the background, often while one runs that is looked at.
func (m *routinesPage) lookAround() tea.Cmd {
	often := m.step == stepRoutines && slices.ContainsFunc(m.list, func(s *routine.Standing) bool { return s.Running })
	if m.reading || !often && time.Since(m.looked) < lookSometimes {
		return nil
	}
	m.reading = true
	w := m.w
	return func() tea.Msg { return routinesSeen(readRoutines(w)) }
}

func readRoutines(w *workshop.Workshop) (out routinesRead) {
	out.watch = w.Watch()
	var problems []error
	out.list, problems = w.RoutineStates(time.Now())
	for _, p := range problems {
		out.problems = append(out.problems, p.Error())
	}
	return out
}

// openRoutines opens the page.
func openRoutines(m *model) tea.Cmd {
	if m.step == stepRoutines {
		m.say("Routines are open already.")
		return nil
	}
	return m.goTo(stepRoutines)
}

// chosen is the routine that is pointed at; nil for none.
func (m *routinesPage) chosen() *routine.Standing {
	if m.at >= len(m.list) {
		return nil
	}
	return m.list[m.at]
}

// without is why what needs a routine can't act; empty where one is chosen.
func (m *routinesPage) without() string {
	if m.chosen() == nil {
		return "No routine was made yet: n makes one."
	}
	return ""
}

func (m *routinesPage) bindings() []binding {
	why := m.without()
	if why == "" {
		why = m.noRun()
	}
	rest := binding{"space", "Space", "pause", "pause, or go on", leads(m.togglePause)}
	return []binding{
		m.unless(why, binding{"enter", "Enter", "run it now", "run the routine now, whether it is due or not",
			leads(m.runNow)}),
		move(listKeys, "routine", "choose a routine", &m.at, len(m.list)),
		m.unless(m.without(), rest),
		m.unless(m.without(), binding{"u", "u", "pause until", "pause until a day", acts(func() { pauseUntil(m) })}),
		m.unless(m.without(), binding{"v", "v", "logs", "show what each run noted, or only how it ended",
			acts(func() { showLogs(m) })}),
		{"n", "n", "new", "make a routine: of a machine on the Bench, or for the shelf", leads(m.offerNew)},
		m.unless(m.without(), binding{"e", "e", "edit", "change the routine line by line", leads(m.editChosen)}),
		m.unless(m.unrunning(), binding{"x", "x", "stop", "have the process that runs it stop it", leads(m.stopThere)}),
		m.unless(m.without(), binding{"delete", "Del", "remove", "forget the routine and its history; twins stay",
			leads(m.offerRemove)}),
		m.watchBinding(),
		{"a", "a", "look again", "read the routines and what is attached again", leads(m.again)},
	}
}

// again reads the routines again.
func (m *routinesPage) again() tea.Cmd {
	m.say("The routines are read again.")
	return m.replan()
}

// togglePause pauses the routine until it is resumed here or by command.
func (m *routinesPage) togglePause() tea.Cmd {
	s := m.chosen()
	now := !s.Pace.Paused
	err := m.w.Routines().SetPace(s.Name, func(p *routine.Pace) {
		if p.Paused, p.Until = now, (time.Time{}); !now {
			p.Resumed = time.Now()
		}
	})
	switch {
	case err != nil:
		m.fail(err.Error())
	case now:
		m.say("%s is paused: it doesn't run by itself until Space resumes it.", s.Name)
	default:
		m.say("%s runs again. What it missed isn't made up for.", s.Name)
	}
	return m.replan()
}

// showLogs shows what each run noted, or only how it ended.
func showLogs(m *routinesPage) {
	if m.logs = !m.logs; m.logs {
		m.say("Each run is shown with all that it noted.")
		return
	}
	m.say("Each run is shown with how it ended.")
}

// pauseUntil asks for the day until which the routine is paused.
func pauseUntil(m *routinesPage) {
	s := m.chosen()
	now := time.Now()
	m.prompt.ask("Paused until which day?", now.AddDate(0, 0, 7).Format(time.DateOnly), func(text string) {
		until, err := s.Day(text, now)
		if err == nil {
			err = m.w.Routines().SetPace(s.Name, func(p *routine.Pace) { p.Paused, p.Until = true, until })
		}
		if err != nil {
			m.fail(sentence(err))
			return
		}
		m.say("%s is paused until %s.", s.Name, units.Moment(until))
	})
}

// runNow runs the routine; each of its runs is shown.
func (m *routinesPage) runNow() tea.Cmd {
	w, ctx, s := m.w, m.ctx, m.chosen()
	if s.Running {
		m.offerTakeOver(s)
		return nil
	}
	if sure, err := w.RoutineConfirmed(s.Routine); err == nil && !sure {
		m.confirmErasing(s.Routine, func() tea.Cmd {
			if err := w.ConfirmRoutine(s.Routine); err != nil {
				m.fail(sentence(err))
				return nil
			}
			return m.runNow()
		})
		return nil
	}
	runs := make(chan *run.Run, len(s.Steps)) // none has more than one
	over := make(chan routineOver, 1)
	m.working.Go(func() {
		defer close(runs)
		e, err := w.RunRoutine(ctx, s.Routine, routine.Due{}, func(r *run.Run) error {
			runs <- r
			return r.Wait()
		})
		over <- routineOver{s.Name, e, err}
	})
	work := func() tea.Msg { return <-over }
	m.say("%s begins.", s.Name)
	return tea.Batch(work, nextRun(s.Name, runs))
}

// nextRun waits for the next run of a routine.
func nextRun(name string, runs <-chan *run.Run) tea.Cmd {
	return func() tea.Msg {
		if r, ok := <-runs; ok {
			return routineBegan{name, r, runs}
		}
		return nil
	}
}

// follow shows a run of a routine.
func (m *routinesPage) follow(msg routineBegan) tea.Cmd {
	i := slices.IndexFunc(m.list, func(s *routine.Standing) bool { return s.Name == msg.name })
	ls := lanes{up: nothing(reading(m.th, ""), "what the routine "+msg.name+" reads"),
		down: nothing(writing(m.th, ""), "its shelf")}
	if i >= 0 {
		ls = m.lanesOf(m.list[i])
	}
	return m.runPage.start(work{run: msg.run, lanes: []lanes{ls},
		stopped: "The routine counts as stopped, and the shelf is as it was before this step."})
}

// lanesOf are what a routine reads and writes.
func (m *routinesPage) lanesOf(s *routine.Standing) lanes {
	var disks []string
	for _, d := range s.Disks {
		disks = append(disks, d.String())
	}
	up := "the shelf"
	if len(disks) > 0 {
		up = strings.Join(disks, " and ")
	}
	var down []string
	for _, d := range s.Spares {
		down = append(down, "all of "+d.String())
	}
	if len(s.Shelves) > 0 {
		down = append(down, "the shelf "+strings.Join(s.Shelves, ", or "))
	}
	return lanes{up: nothing(reading(m.th, ""), up), down: nothing(writing(m.th, ""), strings.Join(down, "; "))}
}

// lanes are what the chosen routine would read and write.
func (m *routinesPage) lanes() lanes {
	s := m.chosen()
	if s == nil {
		return lanes{up: nothing(reading(m.th, ""), "nothing"), down: nothing(writing(m.th, ""), "nothing")}
	}
	ls := m.lanesOf(s)
	ls.up.said, ls.down.said = "nothing yet: Enter reads "+ls.up.said, "nothing yet: Enter writes to "+ls.down.said
	return ls
}

// inkOf is how an outcome is painted.
func (m *routinesPage) inkOf(o routine.Outcome) lipgloss.Style {
	switch o {
	case routine.Failed:
		return m.th.bad
	case routine.Missed, routine.Stopped, routine.Cut:
		return m.th.caution
	}
	return m.th.good
}

// body lists the routines: what failed or waits is seen first.
func (m *routinesPage) body(w int) (lines []string, keep int) {
	lines, keep = []string{" " + m.th.strong.Render("Work that happens by itself")}, -1
	for _, l := range m.watchLines(w) {
		lines = append(lines, " "+l)
	}
	lines = append(lines, "")
	for _, p := range m.problems {
		for _, l := range m.th.wrap(p, w-4) {
			lines = append(lines, "  "+m.th.bad.Render(l))
		}
	}
	if len(m.list) == 0 && m.read {
		for _, l := range m.th.wrap("No routine was made yet. A routine says which disks of which machine are "+
			"captured onto which shelf, and when: n makes one.", w-4) {
			lines = append(lines, "  "+m.th.dim.Render(l))
		}
		return lines, keep
	}
	for i, s := range m.list {
		mark, name := "  ", m.th.strong.Render(s.Name)
		if i == m.at {
			mark, name, keep = "▶ ", m.th.here.Render(s.Name), len(lines)
		}
		lines = append(lines, fit(mark+name, w), fit("  "+m.lastOf(s)+m.th.dim.Render(" · ")+m.nextOf(s), w))
		if words := uncarried(m, s); words != "" {
			lines = append(lines, fit("  "+m.th.caution.Render(words), w))
		}
		lines = append(lines, "")
	}
	return lines, keep
}

// lastOf says in a few words how a routine went last.
func (m *routinesPage) lastOf(s *routine.Standing) string {
	e, ran := s.Last()
	switch {
	case s.Running && s.Live != nil && s.Live.Phase != "":
		return m.th.caution.Render(s.LastWords() + ", " + s.Live.Phase)
	case s.Running:
		return m.th.caution.Render(s.LastWords())
	case !ran:
		return m.th.dim.Render(s.LastWords())
	}
	return m.inkOf(e.Outcome).Render(s.LastWords())
}

// nextOf says when it is due, or what it waits for.
func (m *routinesPage) nextOf(s *routine.Standing) string {
	words := m.th.sentence(s.NextWords())
	if s.Due.Now || s.Due.Waits != "" || s.Pace.Paused {
		return m.th.caution.Render(words)
	}
	return m.th.dim.Render(words)
}

// mostInStrip is how many of the last runs are shown as marks.
const mostInStrip = 60

// outcomeMark is an outcome and what stands for it in the strip.
type outcomeMark struct {
	outcome routine.Outcome
	mark    string
}

var marks = []outcomeMark{{routine.Done, "■"}, {routine.Nothing, "·"}, {routine.Failed, "✗"}, {routine.Stopped, "□"},
	{routine.Cut, "/"}, {routine.Missed, "–"}}

// beside tells all of the chosen routine.
func (m *routinesPage) beside(w int) []string {
	s := m.chosen()
	if s == nil {
		return nil
	}
	out := []string{" " + m.th.strong.Render(s.Name), ""}
	put := func(label, text string) {
		if text != "" {
			out = append(out, m.th.labelled(label, text, w, m.th.dim.Render)...)
		}
	}
	var disks []string
	for _, d := range s.Disks {
		disks = append(disks, d.String())
	}
	if s.Live != nil {
		for _, l := range m.th.wrap("Runs now: "+s.Live.Words(), w-3) {
			out = append(out, " "+m.th.caution.Render(l))
		}
		out = append(out, "")
	}
	var spares []string
	for _, d := range s.Spares {
		spares = append(spares, d.String())
	}
	put("Machine", s.Machine)
	put("Disks", strings.Join(disks, "; "))
	put("Does", strings.Join(s.Does(), ", then "))
	put("Packs", s.Packing.Words())
	if len(spares) > 0 {
		out = append(out, m.th.labelled("ERASES", strings.Join(spares, "; "), w, m.th.writes.Render)...)
	}
	put("Onto", strings.Join(s.Shelves, ", or "))
	if len(s.Keep.Generations) > 0 {
		put("Keeps", s.Keep.Words())
	}
	put("Room", m.room[s.Name])
	put("When", strings.Join(s.Sets(), "; "))
	for i, t := range s.Ahead(time.Now(), 5) {
		put(map[bool]string{true: "Next"}[i == 0], t.Format("Mon 2006-01-02 15:04 -07:00"))
	}
	return append(append(out, ""), m.historyOf(s, w)...)
}

// historyOf is the strip of the last runs, and each of them with what it said, the newest first.
func (m *routinesPage) historyOf(s *routine.Standing, w int) []string {
	if len(s.History) == 0 {
		return []string{" " + m.th.dim.Render("It never ran yet.")}
	}
	last := s.History[max(0, len(s.History)-min(mostInStrip, w-4)):]
	var strip, legend strings.Builder
	for _, e := range last {
		i := slices.IndexFunc(marks, func(x outcomeMark) bool { return x.outcome == e.Outcome })
		if i >= 0 {
			strip.WriteString(m.inkOf(e.Outcome).Render(marks[i].mark))
		}
	}
	for _, x := range marks {
		if slices.ContainsFunc(last, func(e routine.Entry) bool { return e.Outcome == x.outcome }) {
			legend.WriteString("  " + x.mark + " " + string(x.outcome))
		}
	}
	out := []string{" " + strip.String(), " " + m.th.dim.Render(strings.TrimSpace(legend.String())), ""}
	for _, e := range slices.Backward(s.History) {
		out = append(out, " "+m.inkOf(e.Outcome).Render(units.Moment(e.Ended.Local())+"  "+string(e.Outcome)))
		said := []string{e.Says}
		if m.logs && len(e.Log) > 0 {
			said = e.Log
			if e.Outcome == routine.Failed {
				said = append([]string{e.Says}, e.Log...)
			}
		}
		for _, text := range said {
			for _, l := range m.th.wrap(text, w-5) {
				if l != "" {
					out = append(out, "   "+m.th.dim.Render(l))
				}
			}
		}
	}
	return out
}
