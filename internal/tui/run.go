package tui

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/run"
	"twinshelf/internal/units"
)

// work is a run with what the screen has to know of it.
type work struct {
	run *run.Run
	// lanes are what it reads and writes, one pair for each disk that it goes through one after the other; on says
	// which of them it is at, nil for the first.
	lanes []lanes
	on    func(run.Snapshot) int
	// targets are the paths of the disks that are being written: until the end they are for nothing else.
	targets []string
	stopped string // what state cancelling leaves
	// proving is what state cancelling leaves once everything is written and is being read back; empty for the same.
	proving string
	// after is done at its end; what it says is the announcement.
	after func(run.Snapshot) tea.Cmd
}

// bell is what a run that has ended rings.
const bell = "\a"

// start begins a run and shows it.
func (m *runPage) start(w work) tea.Cmd {
	m.menus.forgetWaiting()
	m.result = nil
	m.work, m.snap, m.unseen = w, w.run.Snapshot(), false
	m.goTo(stepRun)
	return tick()
}

func (m *runPage) running() bool { return m.run != nil && !m.snap.Over() }

// writesTo says whether a disk is being written at this moment.
func (m *runPage) writesTo(path string) bool {
	return m.running() && slices.Contains(m.targets, path)
}

// wrote says whether a disk was written by the last run.
func (m *runPage) wrote(path string) bool { return m.run != nil && slices.Contains(m.targets, path) }

func (m *runPage) onTick() tea.Cmd {
	if m.run == nil || m.snap.Over() {
		return nil
	}
	if m.snap = m.run.Snapshot(); !m.snap.Over() {
		return tick()
	}
	m.leaving, m.ending = false, false
	m.unseen = m.step != stepRun
	m.announce()
	var cmd tea.Cmd
	if m.after != nil {
		cmd = m.after(m.snap)
	}
	return tea.Batch(tea.Raw(bell), cmd, m.datesPage.readShelf(), m.look())
}

// announce says that the run has ended, and how. Nothing else moves.
func (m *runPage) announce() {
	switch m.snap.State {
	case run.Done:
		m.say("%s: done in %s.", m.snap.Title, units.Duration(m.snap.Elapsed))
	case run.Cancelled:
		m.say("%s: cancelled. 6 shows what that leaves.", m.snap.Title)
	default:
		m.fail(m.snap.Title + ": failed. 6 shows why.")
	}
}

// lanes are what the run reads and writes, as it is at this moment.
func (m *runPage) lanes() lanes {
	if m.run == nil {
		return lanes{up: nothing(reading(m.th, ""), "nothing"), down: nothing(writing(m.th, ""), "nothing: no "+
			"run is on")}
	}
	if len(m.work.lanes) == 0 {
		return lanes{up: nothing(reading(m.th, ""), "nothing"), down: nothing(writing(m.th, ""), "nothing")}
	}
	i := 0
	if m.on != nil {
		i = max(0, min(m.on(m.snap), len(m.work.lanes)-1))
	}
	ls := m.work.lanes[i]
	ls.up.cells, ls.down.cells = m.snap.Read, m.snap.Written
	if ls.down.tense == written {
		switch {
		case m.snap.State == run.Done:
			ls.down.tense = was
			ls.down.says("")
		case m.snap.Over():
			ls.down.tense = "written in part"
		case m.readsBack():
			ls.down.tense = readBack
		}
	}
	return ls
}

// inOneLine says on every other page how far the run is, or that it has ended.
func (m *runPage) inOneLine(w int) (string, bool) {
	s := m.snap
	switch {
	case m.run == nil || m.step == stepRun || s.Over() && !m.unseen:
		return "", false
	case s.Over():
		return fit(" "+stateWords(m.th, s)+"  "+m.th.strong.Render(m.about())+m.th.dim.Render("   6 shows it"), w), true
	}
	right := stateWords(m.th, s) + " " + s.Phase
	if s.Waits != "" {
		right = m.th.caution.Render("waits") + " " + s.Waits
	}
	if s.Total > 0 {
		right += " " + units.Percent(s.Done, s.Total)
	}
	if at, known := s.DoneAbout(time.Now()); known {
		right += "   done about " + at.Format("15:04")
	}
	return sides(" "+m.th.strong.Render(m.about()), "  "+right+m.th.dim.Render("   6 shows it "), w), true
}

// leaves is what state cancelling leaves in the present phase.
func (m *runPage) leaves() string {
	if m.readsBack() && m.snap.RailNo == 2*len(m.work.lanes) {
		return m.proving
	}
	return m.stopped
}

// readsBack says that a target is written and being read back: a restore goes over each twice.
func (m *runPage) readsBack() bool {
	return m.proving != "" && m.snap.RailNo > 0 && m.snap.RailNo%2 == 0
}

// question is what is asked before a run is cancelled; empty when nothing is.
func (m *runPage) question() string {
	switch {
	case m.leaving:
		return m.about() + " is under way, and leaving cancels it. " + m.leaves() +
			" Cancel and leave (y), or stay (n)?"
	case m.ending:
		return "Cancel " + m.about() + " (y), or let it go on (n)? " + m.leaves()
	}
	return ""
}

// about is what the run does, and onto what.
func (m *runPage) about() string {
	text := m.snap.Title
	if len(m.work.lanes) > 0 {
		if id := m.work.lanes[0].down.id; len(m.targets) > 0 && id.Model != "" {
			text += " → " + stickerEnd(id)
		}
	}
	return text
}

var sparks = []rune("▁▂▃▄▅▆▇█")

// lines shows the run that is on, or how the last one ended.
func (m *runPage) lines(w int) []string {
	if m.run == nil {
		return m.plain(w, "Run", "shows long work while it goes on: phases, bytes, rate, time left.",
			"Nothing has been started. Capture a machine (3), restore or prove a twin (4).")
	}
	s := m.snap
	var out []string
	if ansi.StringWidth(s.Title)+14 <= w {
		out = append(out, " "+m.th.strong.Render(s.Title)+"   "+stateWords(m.th, s), "")
	} else {
		for _, l := range m.th.wrap(s.Title, w-2) {
			out = append(out, " "+m.th.strong.Render(l))
		}
		out = append(out, " "+stateWords(m.th, s), "")
	}
	out = append(out, m.phaseLines(w)...)
	out = append(out, "")
	if s.Total > 0 && !s.Over() {
		n := max(10, min(48, w-46))
		fill := int(float64(n) * float64(min(s.Done, s.Total)) / float64(s.Total))
		out = append(out, fmt.Sprintf("  %s%s %s  %s of %s", m.th.good.Render(strings.Repeat("━", fill)),
			m.th.dim.Render(strings.Repeat("·", n-fill)), right(units.Percent(min(s.Done, s.Total), s.Total), 5),
			m.th.size(s.Done), m.th.size(s.Total)), "")
	}
	if !s.Over() {
		if s.Waits != "" {
			for _, l := range m.th.wrap("waits: "+s.Waits, w-4) {
				out = append(out, "  "+m.th.caution.Render(l))
			}
		} else {
			out = append(out, m.doneLine())
		}
		for i, f := range s.Found {
			if i == 0 {
				out = append(out, "")
			}
			for _, l := range m.th.wrap(f, w-4) {
				out = append(out, "  "+m.th.caution.Render(l))
			}
		}
	}
	if m.wide < twoPanes {
		out = append(out, m.paceLines(w)...)
	}
	out = append(out, m.endLines(w)...)
	if !s.Over() {
		out = append(out, "")
		for _, l := range m.th.wrap(m.leaves(), w-4) {
			out = append(out, m.th.dim.Render("  "+l))
		}
	}
	return out
}

// phaseLines list the phases: how long each took, and how far the present one is.
func (m *runPage) phaseLines(w int) []string {
	s := m.snap
	wide := max(20, min(42, w-34))
	out := []string{m.th.dim.Render("    " + fit("", wide) + right("took", 12) + right("expected", 13))}
	for i, p := range s.Phases {
		took := ""
		if i < len(s.Took) && (s.Took[i] > 0 || i+1 < s.PhaseNo) {
			took = units.Duration(s.Took[i])
		}
		name := fit(p, wide)
		line := m.th.dim.Render("  ○ " + name)
		switch {
		case s.State == run.Done || i+1 < s.PhaseNo:
			line = m.th.good.Render("  ● ") + name
		case i+1 == s.PhaseNo && !s.Over():
			line = m.th.caution.Render("  ◐ ") + m.th.strong.Render(name)
		case i+1 == s.PhaseNo:
			line = m.th.bad.Render("  ◐ " + name)
		}
		out = append(out, line+right(took, 12)+m.th.dim.Render(right(about(s.Expected.Of(i)), 13)))
	}
	return append(out, "  = "+fit("all of it", wide)+right(units.Duration(s.Elapsed), 12)+
		m.th.dim.Render(right(about(s.Estimate), 13)))
}

// about says how long something will probably take; nothing where that isn't known.
func about(d time.Duration) string {
	if d <= 0 {
		return ""
	}
	return units.Duration(d)
}

// doneLine says when the run will be done.
func (m *runPage) doneLine() string {
	s := m.snap
	at, known := s.DoneAbout(time.Now())
	switch {
	case s.State == run.Paused:
		return "  " + m.th.caution.Render("paused: Space goes on")
	case !known:
		return "  " + m.th.dim.Render("how long this phase takes can't be told yet")
	case s.LeftHigh > 0:
		return "  " + m.th.strong.Render("done about "+at.Format("15:04")) + ", this phase in " +
			units.Duration(s.LeftLow) + " to " + units.Duration(s.LeftHigh)
	}
	return "  " + m.th.strong.Render("done about "+at.Format("15:04"))
}

// endLines are what went wrong, what is to know, and what the run came to.
func (m *runPage) endLines(w int) []string {
	s := m.snap
	var out []string
	if s.Err != nil && (s.State == run.Failed || len(s.Err.Error()) > len(context.Canceled.Error())) {
		out = append(out, "")
		for _, l := range m.th.wrap(s.Err.Error(), w-4) {
			out = append(out, "  "+m.th.bad.Render(l))
		}
	}
	for _, n := range s.Notes {
		for _, l := range m.th.wrap("· "+n, w-4) {
			out = append(out, "  "+m.th.caution.Render(l))
		}
	}
	if !s.Over() {
		return out
	}
	for _, line := range m.result {
		for i, l := range m.th.wrap(line, w-4) {
			if i > 0 {
				l = "  " + l
			}
			out = append(out, "  "+l)
		}
	}
	if p := m.proofPage.proof; p != nil && s.State == run.Done && len(m.targets) > 0 && m.proofPage.written != "" {
		out = append(out, "", "  "+verdictWords(m.th, p)+m.th.dim.Render("   7 shows the proof"))
	}
	return out
}

// share is how much of the window the phases take, in percent.
func (m *runPage) share() int { return 54 }

// beside is the rate over time.
func (m *runPage) beside(w int) []string {
	if m.run == nil {
		return nil
	}
	return append([]string{" " + m.th.strong.Render("Rate over time"), ""}, m.paceLines(w)...)
}

// paceLines are the rate, as a chart where there is room, and in words.
func (m *runPage) paceLines(w int) []string {
	s := m.snap
	var out []string
	if high := min(10, m.room-8); m.wide >= twoPanes && high >= 3 {
		out = append(out, m.rateChart(w, high)...)
	} else if line := sparkline(s.Samples, min(60, w-14)); line != "" {
		out = append(out, "  rate over time  "+m.th.reads.Render(line))
	}
	for _, l := range m.th.wrap(rateWords(m.th, s), w-3) {
		out = append(out, " "+strings.TrimSpace(l))
	}
	return out
}

// rateChart draws the rate as far as it was sampled, over w columns.
func (m *runPage) rateChart(w, high int) []string {
	all := m.snap.Samples
	if len(all) < 4 {
		return []string{"  " + m.th.dim.Render("too short to draw"), ""}
	}
	cols := max(8, w-scaleWide-3)
	end := max(all[len(all)-1].At, 1)
	levels, most := make([]float64, cols), 1.0
	for _, s := range all {
		i := min(cols-1, int(float64(s.At)/float64(end)*float64(cols)))
		levels[i] = max(levels[i], s.Rate)
		most = max(most, s.Rate)
	}
	for i := 1; i < cols; i++ {
		if levels[i] == 0 { // no sample fell into it
			levels[i] = levels[i-1]
		}
	}
	var out []string
	for r := high - 1; r >= 0; r-- {
		left := ""
		switch r {
		case high - 1:
			left = m.th.rate(most) + " "
		case 0:
			left = "0 "
		}
		var line strings.Builder
		for _, v := range levels {
			line.WriteString(eighths[max(0, min(8, int(v/most*float64(8*high))-8*r))])
		}
		out = append(out, m.th.dim.Render(right(left, scaleWide))+m.th.reads.Render(line.String()))
	}
	return append(out, m.th.dim.Render(strings.Repeat(" ", scaleWide)+sides("0", units.Duration(end), cols)), "")
}

func rateWords(th theme, s run.Snapshot) string {
	if s.Over() {
		words := fmt.Sprintf("%s moved, %s on average", th.size(s.All), th.rate(s.Average))
		if s.Skipped > 0 {
			words += fmt.Sprintf("; %s known to be zeros, so not moved", th.size(s.Skipped))
		}
		return words
	}
	return fmt.Sprintf("%s now, %s on average", th.rate(s.Rate), th.rate(s.Average))
}

func stateWords(th theme, s run.Snapshot) string {
	switch s.State {
	case run.Running:
		return th.reads.Render("running")
	case run.Paused:
		return th.caution.Render("paused")
	case run.Done:
		return th.good.Render("done")
	case run.Cancelled:
		return th.caution.Render("cancelled")
	}
	return th.bad.Render("failed")
}

func sparkline(samples []run.Sample, w int) string {
	if len(samples) < 4 || w < 8 {
		return ""
	}
	if len(samples) > w {
		samples = samples[len(samples)-w:]
	}
	top := 1.0
	for _, s := range samples {
		top = max(top, s.Rate)
	}
	line := make([]rune, len(samples))
	for i, s := range samples {
		line[i] = sparks[min(7, int(s.Rate/top*8))]
	}
	return string(line)
}

func (m *runPage) body(w int) ([]string, int) { return m.lines(w), -1 }
