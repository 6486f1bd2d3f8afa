package tui

import (
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/units"
)

// place is where a disk comes in the list of targets: what costs nothing first, what must not be written last.
type place int

const (
	placeBlank   place = iota
	placeFilled        // something on it would be lost
	placeMachine       // a machine's disk, as the shelf knows it
	placeNever         // it can't be chosen
)

// candidate is a disk as a target.
type candidate struct {
	disk  *bench.Disk
	place place
	why   string // it can't be chosen
}

// asTarget says how a disk would do as a target of the page that asks.
func (m *chooser) asTarget(d *bench.Disk) candidate {
	c := candidate{disk: d, place: placeNever, why: m.cantWrite(d)}
	switch {
	case c.why != "":
	case d.Survey.Blank():
		c.place = placeBlank
	case m.datesPage.owners.of(d).machine != "":
		c.place = placeMachine
	default:
		c.place = placeFilled
	}
	return c
}

// cantWrite says why a disk can't be a target of the page that is shown; empty when it can.
func (m *chooser) cantWrite(d *bench.Disk) string {
	_, several := m.fitPage.several()
	switch {
	case m.runPage.writesTo(d.Path):
		return "it is being written by the run that is on"
	case d.Survey == nil:
		return d.Words()
	case d.Reach != "":
		return "out of reach: " + d.Reach
	case m.step == stepFit && m.fitPage.copies == d.Path:
		return "it is the disk that is copied"
	case m.step == stepFit && several && m.fitPage.taken(m.fitPage.disk, d):
		return "another disk of the machine goes onto it"
	}
	return ""
}

// offerTargets lets a target be chosen from the bench: blank disks first, machines' own disks and those that can't be
// written last.
func (m *chooser) offerTargets(then func(*bench.Disk) tea.Cmd) {
	all := make([]candidate, 0, len(m.disks))
	for _, d := range m.disks {
		all = append(all, m.asTarget(d))
	}
	slices.SortStableFunc(all, func(a, b candidate) int { return int(a.place - b.place) })
	if len(all) == 0 {
		m.fail("The bench is empty: attach the disk that is to be written, and press a on the Bench.")
		return
	}
	n := menu{title: "Which disk is to be written? Nothing is written before the last page."}
	for i, c := range all {
		id := c.disk.Identity
		serial := id.Serial
		if serial == "" {
			serial = "no serial number"
		}
		n.choices = append(n.choices, choice{name: fit(id.Model, 18) + right(m.th.size(id.Size), 9) + "  " + serial,
			about: m.costs(c), no: c.why, warns: c.place == placeMachine})
		if m.target != nil && m.target.Path == c.disk.Path {
			n.at = i
		}
	}
	n.then = func(chosen []int) tea.Cmd { return then(all[chosen[0]].disk) }
	m.menus.offer(n)
}

// costs says what choosing a disk would cost.
func (m *chooser) costs(c candidate) string {
	switch c.place {
	case placeNever:
		return "can't be chosen: " + c.why
	case placeBlank:
		return "blank: nothing would be lost"
	}
	words := c.disk.Words()
	if n := len(partsOf(c.disk)); n > 0 {
		used := "use unknown"
		switch bytes, all := usedOn(c.disk); {
		case all:
			used = m.th.size(bytes) + " used"
		case bytes > 0:
			used = "at least " + m.th.size(bytes) + " used"
		}
		words = fmt.Sprintf("%s, %s: %s", units.Plural(n, "part"), used, words)
	}
	if o := m.datesPage.owners.of(c.disk); o.machine != "" {
		return "‼ " + o.words() + ". Would be lost: " + words
	}
	return "would be lost: " + words
}
