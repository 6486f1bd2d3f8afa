package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/firmware"
	"twinshelf/internal/run"
	"twinshelf/internal/workshop"
)

// startEntries are what the firmware starts from, and what was added to it here.
type startEntries struct {
	undo  *firmware.Undo // takes back what was added last; nil for nothing
	added string         // what that was
}

// entriesRead is what the firmware has, and what could be added.
type entriesRead struct {
	list     *firmware.List
	loaders  []workshop.StartEntry
	of       []string // the disk of each
	afterRun bool
	err      error
}

// noEntries says why the firmware's entries can't be shown; empty when they can.
func (m *welcomePage) noEntries() string {
	if m.who == nil || !m.who.Start.UEFI {
		return "This machine was started by a BIOS, which keeps no start entries: it starts from the first drive " +
			"in the order of its set-up."
	}
	return ""
}

// readEntries reads what the firmware has, and which loaders the attached disks offer.
func (m *welcomePage) readEntries() tea.Cmd { return m.entriesFor(m.disks, false) }

func (m *welcomePage) entriesFor(disks []*bench.Disk, afterRun bool) tea.Cmd {
	w, ctx, all := m.w, m.ctx, slices.Clone(disks)
	return func() tea.Msg {
		msg := entriesRead{afterRun: afterRun}
		if msg.list, msg.err = w.Variables().Read(); msg.err != nil {
			return msg
		}
		for _, d := range all {
			if d.Survey == nil || w.Bench.IsStick(d.Identity) {
				continue
			}
			loaders, err := w.StartEntries(ctx, d)
			if err != nil {
				continue // it has none
			}
			for _, l := range loaders {
				msg.loaders = append(msg.loaders, l)
				msg.of = append(msg.of, stickerEnd(d.Identity))
			}
		}
		return msg
	}
}

// onEntries shows the entries in their order and offers what can be done.
func (m *welcomePage) onEntries(msg entriesRead) {
	if msg.err != nil {
		m.fail(sentence(msg.err))
		return
	}
	if msg.afterRun && len(msg.loaders) == 0 {
		return
	}
	n := menu{title: "Should the firmware start one of these before all others?", above: m.entryLines(msg.list)}
	if msg.afterRun {
		n.title = "The restored disk has a loader (7 says whether it should start). Should the firmware try it " +
			"before all others?"
		n.choices = append(n.choices, choice{name: "no entry", about: "the firmware finds the loader by itself " +
			"where its order has this disk first"})
	}
	first := len(n.choices)
	for i, l := range msg.loaders {
		n.choices = append(n.choices, choice{name: l.Title + " on " + msg.of[i],
			about: `\` + strings.ReplaceAll(l.File, "/", `\`) + fmt.Sprintf(" on part %d", l.Place.Part),
			no:    m.unfit(l)})
	}
	if msg.afterRun && len(msg.loaders) > 0 {
		n.at = first
	}
	if u := m.entries.undo; u != nil {
		n.choices = append(n.choices, choice{name: "take back what was added", about: m.entries.added +
			": the order becomes what it was"})
	}
	if len(n.choices) == 0 {
		n.choices = append(n.choices, choice{name: "nothing", about: "no attached disk has a loader that an entry " +
			"could lead to"})
	}
	n.then = func(chosen []int) tea.Cmd {
		switch i := chosen[0] - first; {
		case i >= 0 && i < len(msg.loaders):
			m.addEntry(msg.loaders[i], msg.of[i])
		case i == len(msg.loaders) && m.entries.undo != nil:
			m.undoEntry()
		}
		return nil
	}
	if msg.afterRun {
		m.menus.offerAfterRun(n, "The firmware can be told to start the restored disk: step 6 asks.")
		return
	}
	m.menus.offer(n)
}

// unfit says why this machine's firmware can't start a loader; empty where it may.
func (m *welcomePage) unfit(l workshop.StartEntry) string {
	if bits := m.who.Start.Bits; bits != 0 && l.Bits != 0 && bits != l.Bits {
		return fmt.Sprintf("it is for firmware of %d bits, and this machine's has %d", l.Bits, bits)
	}
	return ""
}

// entryLines are the entries that the firmware has.
func (m *welcomePage) entryLines(l *firmware.List) []string {
	out := []string{" " + m.th.strong.Render("What the firmware starts, in this order"), ""}
	for i, e := range l.Entries {
		mark := fmt.Sprintf("%3d ", i+1)
		if !slices.Contains(l.Order, e.Number) {
			mark = "  – "
		}
		says := e.Title
		if int(e.Number) == l.Current {
			says += " (this start)"
		}
		if !e.Active {
			says += " (off)"
		}
		out = append(out, mark+fit(says, 34)+m.th.dim.Render(" "+e.Words()))
	}
	if len(l.Entries) == 0 {
		out = append(out, "   "+m.th.dim.Render("nothing; it looks for a loader on each drive"))
	}
	for _, p := range l.Problems {
		out = append(out, m.th.bullet(p, m.wide)...)
	}
	return append(out, "")
}

func (m *welcomePage) addEntry(l workshop.StartEntry, of string) {
	u, err := m.w.AddStartEntry(l, l.Title)
	if err != nil {
		m.fail(sentence(err))
		return
	}
	m.entries = startEntries{u, l.Title + " on " + of}
	m.say("%s is the first that the firmware starts. On page 0 e takes that back.", m.entries.added)
}

func (m *welcomePage) undoEntry() {
	if err := m.w.Variables().Undo(m.entries.undo); err != nil {
		m.fail(sentence(err))
		return
	}
	m.say("%s was taken back: the firmware has what it had.", m.entries.added)
	m.entries = startEntries{}
}

// offerEntry asks after a restore whether the firmware should start what was restored.
func (m *welcomePage) offerEntry(s run.Snapshot, targets []string) tea.Cmd {
	if m.stick == nil || s.State != run.Done || m.noEntries() != "" {
		return nil
	}
	w, ctx := m.w, m.ctx
	return func() tea.Msg {
		var disks []*bench.Disk
		for _, d := range w.Bench.List() {
			if slices.Contains(targets, d.Path) {
				w.Bench.Probe(ctx, d)
				disks = append(disks, d)
			}
		}
		return startRun{func() tea.Cmd { return m.entriesFor(disks, true) }}
	}
}
