package tui

import (
	"strings"

	"twinshelf/internal/prove"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// shown is the proof to show: that of the last run, or the newest of the chosen twin.
func (m *proofPage) shown() *shelf.Proof {
	if t := m.datesPage.twin(); m.proof == nil && t != nil {
		if all := m.datesPage.boards[m.datesPage.board].proofs[t.ID]; len(all) > 0 {
			return all[0]
		}
	}
	return m.proof
}

// lines answer the questions that people ask, and where there is one pane list the claims below.
func (m *proofPage) lines(w int) []string {
	p := m.shown()
	if p == nil {
		return m.plain(w, "Proof", "shows the evidence that a twin can be read, or that a target holds what it should.",
			"Choose a twin in Dates (4) and press v to read every block of it.",
			"After every restore the target is read back and compared without being asked.")
	}
	out := []string{" " + verdictWords(m.th, p) + m.th.dim.Render("   "+units.Moment(p.When))}
	for _, l := range m.th.wrap("Proof of "+p.Of+m.twinWords(p), w-4) {
		out = append(out, "   "+l)
	}
	out = append(out, "")
	for i, a := range prove.Answers(p) {
		if i == 2 {
			out = append(out, m.cameBack(p, w)...)
		}
		out = append(out, answerLines(m.th, a, w)...)
	}
	if m.wide >= twoPanes {
		return out
	}
	return append(append(out, " "+m.th.strong.Render("The claims, with their evidence"), ""), m.claimLines(p, w)...)
}

// answerLines are one question and its answer.
func answerLines(th theme, a prove.Answer, w int) []string {
	mark, paint := th.caution.Render(" ? "), th.caution.Bold(true)
	switch a.Verdict {
	case prove.Yes, newestBack, isCompared:
		mark, paint = th.good.Render(" ✓ "), th.good.Bold(true)
	case prove.No:
		mark, paint = th.bad.Render(" ✗ "), th.bad
	case prove.NotHere:
		mark, paint = th.dim.Render(" – "), th.dim
	}
	out := []string{mark + th.strong.Render(a.Question) + "  " + paint.Render(string(a.Verdict))}
	for _, l := range th.wrap(a.Words, w-5) {
		out = append(out, "   "+l)
	}
	return append(out, "")
}

// verdictWords are the proof in a few words.
func verdictWords(th theme, p *shelf.Proof) string {
	if p.Holds() {
		return th.good.Bold(true).Render("✓ " + p.Words())
	}
	return th.bad.Render("✗ " + p.Words())
}

// share is how much of the window the answers take, in percent.
func (m *proofPage) share() int { return 50 }

// beside lists the claims with their evidence.
func (m *proofPage) beside(w int) []string {
	p := m.shown()
	if p == nil {
		return nil
	}
	return append([]string{" " + m.th.strong.Render("The claims, with their evidence"), ""}, m.claimLines(p, w)...)
}

func (m *proofPage) claimLines(p *shelf.Proof, w int) []string {
	var out []string
	for _, c := range p.Claims {
		mark, paint := m.th.good.Render(" ✓ "), m.th.strong
		if !c.Holds {
			mark, paint = m.th.bad.Render(" ✗ "), m.th.bad
		}
		for i, l := range m.th.wrap(c.About+": "+c.Says, w-5) {
			if i > 0 {
				mark = "   "
			}
			out = append(out, mark+paint.Render(l))
		}
		for _, l := range m.th.wrap(c.Evidence, w-7) {
			if strings.TrimSpace(l) != "" {
				out = append(out, m.th.dim.Render("     "+l))
			}
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

// lanes are what was proven.
func (m *proofPage) lanes() lanes {
	ls := lanes{up: nothing(reading(m.th, ""), "nothing"), down: nothing(writing(m.th, ""), "nothing")}
	if m.written != "" && m.runPage.wrote(m.written) && !m.runPage.running() {
		return m.runPage.lanes()
	}
	if t := m.datesPage.twin(); t != nil {
		ls.up = reading(m.th, "").ofTwin(t, m.datesPage.twinDisk)
	}
	return ls
}

func (m *proofPage) body(w int) ([]string, int) { return m.lines(w), -1 }
