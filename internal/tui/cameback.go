package tui

import (
	"context"
	"errors"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/inside"
	"twinshelf/internal/names"
	"twinshelf/internal/prove"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// Answers to what came back.
const (
	newestBack  prove.Verdict = "the newest date"
	isCompared  prove.Verdict = "compared"
	comparing   prove.Verdict = "comparing …"
	notCompared prove.Verdict = "not compared"
)

// restored finds the machine whose twin was restored, and which of its twins that is; nil where the open shelf doesn't
// have it.
func (m *proofPage) restored(p *shelf.Proof) (*board, int) {
	for i := range m.datesPage.boards {
		b := &m.datesPage.boards[i]
		for j, t := range b.twins {
			if t.ID == p.Twin {
				return b, j
			}
		}
	}
	return nil, 0
}

// toCompare is the disk that an older date was restored onto, and the newest twin of its machine; nil where there is
// nothing to compare.
func (m *proofPage) toCompare() (*bench.Disk, *shelf.Twin) {
	p := m.shown()
	if p == nil || p.OfShelf() || m.written == "" || m.several {
		return nil, nil
	}
	b, at := m.restored(p)
	target := m.again(&bench.Disk{Path: m.written})
	if b == nil || at == len(b.twins)-1 || target == nil || target.Survey == nil || m.runPage.writesTo(m.written) {
		return nil, nil
	}
	return target, b.twins[len(b.twins)-1]
}

// work compares the newest date of the machine with what was restored, once.
func (m *proofPage) work(ctx context.Context, number int, doing func(string)) tea.Cmd {
	target, newest := m.toCompare()
	if target == nil || m.looking > 0 || m.diff != nil && m.diff.done { // one that isn't done was given up
		return nil
	}
	doing("comparing the newest date with the disk")
	d := &diffing{title: fmt.Sprintf("%s: from %s to what was restored", newest.Machine,
		newest.Taken.Format("2006-01-02 15:04")), disk: target}
	m.diff = d
	w := m.w
	return func() tea.Msg {
		msg := compared{d: d, number: number}
		if msg.before, msg.err = w.LookInto(ctx, workshop.Origin{Twin: newest}); msg.err == nil {
			msg.after, msg.err = w.LookInto(ctx, workshop.Origin{Bench: target})
		}
		if msg.err == nil {
			lib, _ := w.Library() // two disks need none
			msg.all, msg.err = inside.Compare(ctx, lib, msg.before, msg.after, nil, "")
		}
		return msg
	}
}

// onCompared takes the comparison; one that was given up is made again when the page is opened again.
func (m *proofPage) onCompared(msg compared) {
	if m.diff != msg.d {
		return
	}
	if errors.Is(msg.err, context.Canceled) {
		m.diff = nil
		return
	}
	msg.d.take(msg)
}

// showComparison lists what came back and what is gone.
func (m *diffPane) showComparison() tea.Cmd {
	m.insidePage.inside = lookingIn{from: m.step, number: m.insidePage.inside.number}
	m.insidePage.inside.diffing, m.scroll = m.proofPage.diff, 0
	return m.goTo(stepInside)
}

// cameBack answers what a restore brought back, and what is gone since.
func (m *proofPage) cameBack(p *shelf.Proof, w int) []string {
	if p.OfShelf() || p.Twin == "" { // a copy has what the source has
		return nil
	}
	a := prove.Answer{Question: "What came back, and what is gone?", Verdict: prove.CantSay,
		Words: "The twin that was restored isn't on the open shelf any more."}
	switch b, at := m.restored(p); {
	case b == nil:
	case at == len(b.twins)-1:
		a.Verdict = newestBack
		a.Words = "Everything up to " + short(b.twins[at].Taken) + ": nothing on the shelf is newer. What was " +
			"written to the machine after that isn't on it."
	default:
		a.Verdict, a.Words = m.diffWords(len(b.twins)-1-at, b)
	}
	return answerLines(m.th, a, w)
}

// diffWords say what a comparison with the newest date came to; newer is how many dates came after the restored one.
func (m *proofPage) diffWords(newer int, b *board) (prove.Verdict, string) {
	since := fmt.Sprintf("%s of %s came after the one that was restored.", units.Plural(newer, "date"), b.machine)
	d := m.diff
	switch {
	case m.several:
		return notCompared, since + " Several disks were written: look into each (1, then i) to compare it."
	case d != nil && !d.done && m.busy != nil:
		return comparing, since
	case d == nil || !d.done:
		return notCompared, since
	case d.err != nil:
		return notCompared, since + " They can't be compared: " + d.err.Error()
	}
	counts := map[names.Way]int{}
	var untold []string
	for i := range d.all {
		if p := &d.all[i]; p.Part.Known() && p.Why != "" {
			untold = append(untold, fmt.Sprintf("%s can't be compared (%s).", p.Part.Name(), p.Why))
		}
		for j := range d.all[i].All {
			counts[d.all[i].All[j].Way]++
		}
	}
	words := fmt.Sprintf("%s Against the newest, of %s: %s", since, short(b.twins[len(b.twins)-1].Taken),
		countWords(counts))
	if len(untold) > 0 {
		return "compared in part", words + " " + strings.Join(untold, " ")
	}
	return isCompared, words
}

// countWords say how many items differ in each way.
func countWords(counts map[names.Way]int) string {
	var out []string
	for _, c := range []struct {
		way       names.Way
		one, more string
	}{{names.Added, "came back", "came back"}, {names.Removed, "is gone", "are gone"},
		{names.Changed, "has other contents", "have other contents"}, {names.Moved, "is elsewhere", "are elsewhere"}} {
		does := c.more
		if counts[c.way] == 1 {
			does = c.one
		}
		switch n := counts[c.way]; {
		case n == 0:
		case len(out) == 0:
			out = append(out, units.Plural(n, "item")+" "+does)
		default:
			out = append(out, fmt.Sprintf("%d %s", n, does))
		}
	}
	if len(out) == 0 {
		return "no file or folder differs."
	}
	return strings.Join(out, ", ") + ". c lists them."
}
