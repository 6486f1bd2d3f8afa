package tui

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
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
		words = fmt.Sprintf("%s, %s used: %s", units.Plural(n, "part"), m.th.size(c.disk.Survey.Used()), words)
	}
	if o := m.datesPage.owners.of(c.disk); o.machine != "" {
		return "‼ " + o.words() + ". Would be lost: " + words
	}
	return "would be lost: " + words
}

// owner is whose disk a disk is, as the shelf knows it.
type owner struct {
	machine string // empty when no twin is of it
	newest  time.Time
	twin    *shelf.Twin // the newest
	disk    int         // which of its disks
	twins   int
	unread  int64 // bytes of it that couldn't be read at the newest twin
}

// name says whose disk it is.
func (o owner) name() string {
	if strings.HasSuffix(o.machine, "s") {
		return o.machine + "' disk"
	}
	return o.machine + "'s disk"
}

// words say whose disk it is, and how old its newest twin is.
func (o owner) words() string {
	if o.machine == "" {
		return "on no shelf in reach"
	}
	return o.name() + ", newest twin " + ago(o.newest)
}

// owners are whose disks are, by their stickers.
type owners map[string]owner

// of finds the machine that a disk belongs to: its newest twin names the disk by model and serial number.
func (o owners) of(d *bench.Disk) owner {
	if d.Identity.Serial == "" {
		return owner{}
	}
	return o[stickerKey(d.Identity)]
}

// stickerKey names a disk by what is on its sticker.
func stickerKey(id disk.Identity) string { return id.Model + "\x00" + id.Serial }

// stickerEnd is the model and the end of the serial number.
func stickerEnd(id disk.Identity) string {
	if id.Serial == "" {
		return id.Model
	}
	return id.Model + " …" + id.Tail()
}

// ownersOf finds for each disk that twins name the machine that has the newest of them.
func ownersOf(boards []board) owners {
	out := owners{}
	for i := range boards {
		for _, t := range boards[i].twins {
			for j := range t.Disks {
				key := stickerKey(t.Disks[j].Identity)
				o := out[key]
				if o.twins++; o.machine == "" || t.Taken.After(o.newest) {
					o.machine, o.newest, o.unread = boards[i].machine, t.Taken, t.Disks[j].Missing.Total()
					o.twin, o.disk = t, j
				}
				out[key] = o
			}
		}
	}
	return out
}
