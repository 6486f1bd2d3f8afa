package tui

import (
	"errors"
	"fmt"
	"strings"

	"twinshelf/internal/ready"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

// body shows the layout as it is wished, with what stays and what goes.
func (m *readyPage) body(w int) ([]string, int) {
	r := &m.ready
	if m.target != nil && m.runPage.writesTo(m.target.Path) {
		return m.plain(w, "Ready", "waits.", stickerEnd(m.target.Identity)+" is being written. Step 6 shows it; "+
			"t chooses "+
			"another disk."), -1
	}
	if m.target != nil && m.target.Survey == nil {
		return []string{"", m.th.dim.Render(" " + m.target.Identity.Model + ": " + m.target.Words())}, -1
	}
	if !m.readyOn() {
		return m.plain(w, "Ready", "prepares a disk for its purpose: a storage drive, a shared drive, a replacement "+
			"system disk.",
			"Press t and choose the disk, or go to the Bench (1) and press e on it.",
			"Nothing is written before the last page, where you type what is on the target's sticker.",
			"A brand-new disk needs no preparation for a restore: a twin brings its own table and file systems (4, "+
				"then Enter)."), -1
	}
	d := r.shown()
	out := []string{" " + m.readyBanner(w)}
	out = append(out, m.readyArithmetic(w)...)
	out = append(out, "")
	title := min(26, max(14, w-76))
	out = append(out, m.th.dim.Render("     "+fit("part", title)+fit("for", 10)+fit("file system", 13)+right("size", 9)+
		ofDisk("of disk", w)+"   what becomes of it"))
	keep := -1
	for i, row := range r.rows() {
		mark := "   "
		if i == r.row && r.preview == nil {
			mark, keep = " ▶ ", len(out)
		}
		out = append(out, mark+readyLine(m.th, d, row, title, w))
	}
	if len(r.rows()) == 0 {
		out = append(out, "   "+m.th.dim.Render("The disk is full."))
	}
	if m.wide >= twoPanes {
		return out, keep
	}
	return append(append(out, ""), m.readyNotes(w)...), keep
}

// share is how much of the window the layout takes, in percent.
func (m *readyPage) share() int { return 62 }

// beside says what goes, and what else there is to know.
func (m *readyPage) beside(w int) []string {
	if !m.readyOn() || m.runPage.writesTo(m.target.Path) {
		return nil
	}
	return append([]string{" " + m.th.strong.Render("What it comes to"), ""}, m.readyNotes(w)...)
}

// readyBanner says which of the two actions this is, unmistakably.
func (m *readyPage) readyBanner(w int) string {
	d := m.ready.shown()
	lost := d.Lost()
	switch {
	case d.New && len(lost) == 0 && d.Before.Blank():
		return m.th.here.Render(" LAYS OUT A BLANK DISK ") + "  nothing is lost"
	case d.New:
		what := units.Plural(len(lost), "part") + " go, with what is on them"
		switch len(lost) {
		case 0:
			what = "whatever is on it goes"
		case 1:
			what = "1 part goes, with what is on it"
		}
		return m.th.danger.Render(" LAYS THE DISK OUT ANEW ") + "  " +
			m.th.bad.Render(fit("nothing stays: "+what, w-28))
	case len(lost) > 0:
		return m.th.writes.Render("Changes what is there") + "   " +
			m.th.danger.Render(fmt.Sprintf(" LOSES %s ", strings.ToUpper(units.Plural(len(lost), "part"))))
	}
	return m.th.good.Render("Adds to what is there") + fmt.Sprintf("   all of its %s stay, nothing is lost",
		units.Plural(len(d.Before.Parts()), "part"))
}

// readyArithmetic is the sum of the disk.
func (m *readyPage) readyArithmetic(w int) []string {
	d := m.ready.shown()
	parts := int64(0)
	for _, p := range d.Parts {
		parts += p.Span.Len()
	}
	return []string{fmt.Sprintf(" %s   %s in parts + %s free = %s", d.Kind, m.th.size(parts),
		m.th.strong.Render(bothWays(m.th, d.Rest())), m.th.size(d.Identity.Size))}
}

func readyLine(th theme, d *ready.Draft, row readyRow, title, w int) string {
	size := row.gap.Len()
	numbers := right(th.size(size), 9) + ofDisk(share(size, d.Identity.Size), w) + "   "
	if row.part < 0 {
		return th.dim.Render("─ "+fit("free", title+23)+numbers) + th.dim.Render("no part")
	}
	p := &d.Parts[row.part]
	role := draftRole(p)
	pattern := th.patternOf(role)
	words, paint := string(p.Fate()), th.good.Render
	switch p.Fate() {
	case ready.New:
		paint = th.writes.Render
		switch {
		case p.Raw != nil:
			words = "new, with what a BIOS starts"
		case len(p.Files) > 0:
			words = "new, with " + units.Plural(len(p.Files), "file")
		case p.Form == nil:
			words = "new, without a file system"
		}
	case ready.Formatted:
		paint = th.bad.Render
		words = "FORMATTED ANEW, loses " + p.Old.Title() + " (" + th.size(p.Old.Content.Used) + ")"
	default:
		if p.Old.Content.Maps {
			words += ", " + th.size(p.Old.Content.Used) + " in use"
		}
	}
	name := fmt.Sprintf("%d %s", p.Number, p.Title())
	return pattern.style.Render(pattern.used) + " " + fit(name, title) + fit(string(role), 10) + fit(p.Holds(), 13) +
		numbers + paint(fit(words, w-title-40-len(ofDisk("", w))))
}

// ofDisk is the column with the share of the disk; a narrow screen goes without it.
func ofDisk(s string, w int) string {
	if w < 100 {
		return ""
	}
	return right(s, 9)
}

// share is a part of a whole in percent, rounded.
func share(part, whole int64) string {
	return fmt.Sprintf("%.1f %%", 100*float64(part)/float64(max(1, whole)))
}

// draftRole is what a part of a draft is for.
func draftRole(p *ready.Part) table.Role {
	if p.Old != nil && p.Form == nil && p.Type == p.Old.Part.Type {
		return p.Old.Role
	}
	return table.RoleOf(p.Type)
}

// readyNotes are what goes, in red, and what else there is to know.
func (m *readyPage) readyNotes(w int) []string {
	r := &m.ready
	var out []string
	for _, a := range r.shown().Lost() {
		used := m.th.size(a.Content.Used) + " in use"
		if !a.Content.Maps {
			used = "use unknown"
		}
		for i, l := range m.th.wrap(fmt.Sprintf("%d %s, %s, %s, %s, %s", a.Part.Number, a.Title(), a.Holds(), a.Role,
			m.th.size(a.Span.Len()), used), w-10) {
			mark := " ✗ goes   "
			if i > 0 {
				mark = "          "
			}
			out = append(out, m.th.bad.Render(mark+l))
		}
	}
	switch {
	case m.prompt.typing != nil: // the plan is of what stood there before the typing
	case errors.Is(r.err, ready.ErrNothing):
		out = append(out, " Nothing is changed yet.", "")
		out = append(out, m.readyKeys()...)
	case r.err != nil:
		for _, l := range m.th.wrap("This can't be done: "+r.err.Error(), w-4) {
			out = append(out, " "+m.th.bad.Render(l))
		}
	case r.plan == nil:
		out = append(out, m.th.dim.Render(" Working the plan out …"))
	default:
		for _, n := range r.plan.Notes {
			out = append(out, m.th.bullet(n, w)...)
		}
		if len(r.draft.Parts) == 0 {
			out = append(append(out, ""), m.readyKeys()...)
		}
	}
	if r.onlyAnew != "" && r.draft.New && !r.draft.Before.Blank() {
		out = append(out, m.th.bullet(r.onlyAnew, w)...)
	}
	return out
}

// readyKeys say what can be done, as long as nothing is planned yet.
func (m *readyPage) readyKeys() []string {
	lines := [][2]string{{"p", "fill the plan for a purpose: a shelf, a shared drive, a system disk, one part for " +
		"each file system"},
		{"a", "add a part: 250GB, 465GiB, 25%, rest, rest/2, used on " + m.exampleMachine() + " plus half"},
		{"e", "share the rest out evenly"},
		{"o", "lay the disk out anew: nothing on it stays"}, {"x", "erase the disk, by where it goes next"},
		{"b", "put back what was there before the last change made here"}}
	var out []string
	for _, l := range lines {
		if l[0] == "o" && m.ready.draft.New {
			continue
		}
		for i, part := range m.th.wrap(l[1], notesWide(m)-7) {
			key := l[0]
			if i > 0 {
				key = " "
			}
			out = append(out, "   "+m.th.keyStyle.Render(key)+"  "+part)
		}
	}
	return out
}

// notesWide is how many columns the notes have.
func notesWide(m *readyPage) int {
	if m.wide < twoPanes {
		return m.wide
	}
	return m.wide - m.wide*m.share()/100 - 3
}

func (m *readyPage) exampleMachine() string {
	if len(m.datesPage.boards) > 0 {
		return m.datesPage.boards[m.datesPage.board].machine
	}
	return "Ticket desk"
}

// outcome is what a menu or a last page leads to, on the lower rail.
type outcome struct {
	state  string
	danger bool
}

// comesTo gives a lane the state that something leads to.
func (l *lane) comesTo(to *outcome) {
	l.says(to.state)
	l.alarm = to.danger
}

// lanes are the target as it is now, and as it would be.
func (m *readyPage) lanes() lanes {
	if m.target != nil && m.runPage.writesTo(m.target.Path) {
		return lanes{up: nothing(reading(m.th, ""), "nothing"), down: underWay(m.model, m.target)}
	}
	if m.target == nil {
		return lanes{up: nothing(reading(m.th, ""), "nothing"), down: nothing(writing(m.th, ""), "nothing: no "+
			"disk is chosen")}
	}
	up := lane{word: "TARGET", ink: m.th.reads, tense: isNow}.ofDisk(m.target)
	if !m.readyOn() {
		return lanes{up: up, down: nothing(writing(m.th, ""), "nothing yet")}
	}
	down := writing(m.th, willBe).ofDisk(m.target)
	down.parts = nil
	if to := leadsTo(m); to != nil {
		down.comesTo(to)
		return lanes{up: up, down: down}
	}
	d := m.ready.shown()
	down.parts = draftParts(d)
	lost := d.Lost()
	switch {
	case len(lost) > 0:
		down.warns("LOSES " + strings.ToUpper(units.Plural(len(lost), "part")))
	case d.New && !d.Before.Blank():
		down.warns("LOSES WHAT IS ON IT")
	default:
		down.says("nothing is lost")
	}
	fates := map[int]bool{}
	for _, a := range lost {
		fates[a.Part.Number] = true
	}
	return lanes{up: up, down: down, fates: fates}
}

// bothWays says n bytes in both kinds of units.
func bothWays(th theme, n int64) string { return th.size(n) + " (" + th.sizes.Other().Bytes(n) + ")" }

// leadsTo is what the menu or the last page that is open leads to; nil for what the draft says.
func leadsTo(m *readyPage) *outcome {
	switch {
	case m.menus.menu != nil:
		return m.menus.menu.outcome
	case m.lastPage.summary != nil:
		return m.lastPage.outcome
	}
	return nil
}

// draftParts are the parts of a draft for a rail.
func draftParts(d *ready.Draft) (out []railPart) {
	for i := range d.Parts {
		p := &d.Parts[i]
		q := railPart{span: p.Span, number: p.Number, title: p.Title(), role: draftRole(p), known: true}
		switch p.Fate() {
		case ready.New:
			q.title += " (new)"
		case ready.Formatted:
			q.title += " (formatted)"
		default:
			q.used, q.known = p.Old.Content.Used, p.Old.Content.Maps
		}
		out = append(out, q)
	}
	return out
}
