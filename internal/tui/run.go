package tui

import (
	"context"
	"fmt"
	"strings"

	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

var sparks = []rune("▁▂▃▄▅▆▇█")

// lines shows the run that is on, or how the last one ended.
func (m *runPage) lines(w int) []string {
	if m.run == nil {
		return m.plain(w, "Run", "shows long work while it goes on: phases, bytes, rate, time left.",
			"Nothing has been started. Capture a machine (3), restore or prove a twin (4).")
	}
	s := m.snap
	out := []string{" " + m.th.strong.Render(s.Title) + "   " + stateWords(m.th, s), ""}
	for i, p := range s.Phases {
		mark := m.th.dim.Render("  ○ " + p)
		switch {
		case s.State == run.Done || i+1 < s.PhaseNo:
			mark = m.th.good.Render("  ● ") + p
		case i+1 == s.PhaseNo && !s.Over():
			mark = m.th.caution.Render("  ◐ ") + m.th.strong.Render(p)
		case i+1 == s.PhaseNo:
			mark = m.th.bad.Render("  ◐ " + p)
		}
		out = append(out, mark)
	}
	out = append(out, "")
	if s.Total > 0 {
		n := max(10, min(60, w-46))
		fill := int(float64(n) * float64(min(s.Done, s.Total)) / float64(s.Total))
		out = append(out,
			fmt.Sprintf("  %s%s %s   %s of %s", m.th.reads.Render(strings.Repeat("━", fill)),
				m.th.dim.Render(strings.Repeat("·", n-fill)),
				right(units.Percent(min(s.Done, s.Total), s.Total), 5), units.Bytes(s.Done), units.Bytes(s.Total)))
	}
	out = append(out, rateWords(s), fmt.Sprintf("  time      %s, %s estimated at the start", units.Duration(s.Elapsed),
		estimateWords(s)))
	switch {
	case s.LeftHigh > 0:
		out = append(out, "  left      "+units.Duration(s.LeftLow)+" to "+units.Duration(s.LeftHigh))
	case !s.Over():
		out = append(out, "  left      –")
	}
	if line := sparkline(s.Samples, min(60, w-14)); line != "" {
		out = append(out, "  rate over time  "+m.th.reads.Render(line))
	}
	if s.Err != nil && (s.State == run.Failed || len(s.Err.Error()) > len(context.Canceled.Error())) {
		out = append(out, "")
		for _, l := range wrap(s.Err.Error(), w-4) {
			out = append(out, "  "+m.th.bad.Render(l))
		}
	}
	for _, n := range s.Notes {
		for _, l := range wrap("· "+n, w-4) {
			out = append(out, "  "+m.th.caution.Render(l))
		}
	}
	if s.Over() {
		for _, line := range m.result {
			for i, l := range wrap(line, w-4) {
				if i > 0 {
					l = "  " + l
				}
				out = append(out, "  "+l)
			}
		}
	}
	if !s.Over() {
		out = append(out, "", m.th.dim.Render("  "+m.stopped))
	}
	return out
}

func rateWords(s run.Snapshot) string {
	if s.Over() {
		words := fmt.Sprintf("  rate      %s moved, %s on average", units.Bytes(s.All), units.Rate(s.Average))
		if s.Skipped > 0 {
			words += fmt.Sprintf("; %s known to be zeros, so not moved", units.Bytes(s.Skipped))
		}
		return words
	}
	return fmt.Sprintf("  rate      %s now, %s on average", units.Rate(s.Rate), units.Rate(s.Average))
}

func estimateWords(s run.Snapshot) string {
	if s.Estimate == 0 {
		return "nothing"
	}
	return units.Duration(s.Estimate)
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

// lines lists the claims of a proof with their evidence.
func (m *proofPage) lines(w int) []string {
	p := m.proof
	if t := m.datesPage.twin(); p == nil && t != nil {
		if all := m.datesPage.boards[m.datesPage.board].proofs[t.ID]; len(all) > 0 {
			p = all[0]
		}
	}
	if p == nil {
		return m.plain(w, "Proof", "shows the evidence that a twin can be read, or that a target holds what it should.",
			"Choose a twin in Dates (4) and press v to read every block of it.",
			"After every restore the target is read back and compared without being asked.")
	}
	verdict := m.th.good.Render("✓ " + p.Words())
	if !p.Holds() {
		verdict = m.th.bad.Render("✗ " + p.Words())
	}
	out := []string{" " + verdict + fmt.Sprintf("   %s compared, %s", units.Bytes(p.Read), units.Moment(p.When))}
	for _, l := range wrap("Proof of "+p.Of+m.twinWords(p), w-4) {
		out = append(out, "   "+l)
	}
	out = append(out, "")
	for _, c := range p.Claims {
		mark, paint := m.th.good.Render(" ✓ holds "), m.th.strong
		if !c.Holds {
			mark, paint = m.th.bad.Render(" ✗ fails "), m.th.bad
		}
		about := min(34, max(26, w-70))
		for i, l := range wrap(c.Says, w-about-12) {
			if i > 0 {
				mark, c.About = "         ", ""
			}
			out = append(out, mark+fit(c.About, about)+" "+paint.Render(l))
		}
		for _, l := range wrap(c.Evidence, w-13) {
			out = append(out, m.th.dim.Render("            "+l))
		}
	}
	return out
}

func (m *proofPage) twinWords(p *shelf.Proof) string {
	for _, t := range m.datesPage.twins() {
		if t.ID == p.Twin {
			return ", twin of " + t.Machine + " of " + units.Moment(t.Taken)
		}
	}
	return ""
}

func (m *runPage) body(w int) ([]string, int) { return m.lines(w), -1 }

func (m *proofPage) body(w int) ([]string, int) { return m.lines(w), -1 }
