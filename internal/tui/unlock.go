package tui

import (
	"cmp"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/lock"
	"twinshelf/internal/plan"
	"twinshelf/internal/workshop"
)

// unlocked is how the unlocking of a volume ended.
type unlocked struct {
	name string
	err  error
}

// unlockBinding unlocks what is locked on a disk; with nothing locked it isn't offered.
func unlockBinding(m *benchPage, d *bench.Disk) binding {
	locked := workshop.LockedOn(d)
	b := binding{"U", "U", "unlock",
		"unlock an encrypted volume of this disk with its key; the key is kept until the " +
			"program ends", leads(func() tea.Cmd {
			if len(locked) == 0 {
				m.say("Nothing on %s is locked.", d.Identity.Model)
				return nil
			}
			chooseLocked(m, locked)
			return nil
		})}
	if len(locked) == 0 {
		b.show = ""
	}
	return b
}

// chooseLocked lets one of several volumes be chosen.
func chooseLocked(m *benchPage, locked []lock.Volume) {
	if len(locked) == 1 {
		chooseKey(m, locked[0])
		return
	}
	n := menu{title: "Which volume is unlocked?"}
	for _, v := range locked {
		n.choices = append(n.choices, choice{name: volumeName(v), about: v.Words()})
	}
	n.then = func(chosen []int) tea.Cmd {
		chooseKey(m, locked[chosen[0]])
		return nil
	}
	m.menus.offer(n)
}

func volumeName(v lock.Volume) string {
	id, label := v.Name()
	return cmp.Or(label, id)
}

// chooseKey lets the kind of key be chosen, of those that the volume asks for.
func chooseKey(m *benchPage, v lock.Volume) {
	asks := v.Asks()
	if len(asks) == 0 {
		m.say("%s asks for no key that can be given here: it is protected by the machine alone.", volumeName(v))
		return
	}
	n := menu{title: "How is " + volumeName(v) + " unlocked?"}
	for _, l := range m.th.wrap(v.Words()+".", min(100, m.wide-2)) {
		n.above = append(n.above, " "+m.th.dim.Render(l))
	}
	if m.w.Paper != "" {
		n.above = append(n.above, " "+m.w.Paper)
	}
	n.above = append(n.above, "")
	for _, p := range asks {
		c := choice{name: p.Words}
		if p.ID != "" {
			c.about = "ID " + p.ID
		}
		n.choices = append(n.choices, c)
	}
	n.then = func(chosen []int) tea.Cmd {
		askKey(m, v, asks[chosen[0]])
		return nil
	}
	m.menus.offer(n)
}

// askKey asks for a key, and unlocks the volume with it in the background.
func askKey(m *benchPage, v lock.Volume, p lock.Way) {
	try := func(s lock.Secret) {
		ctx := m.ctx
		m.say("%s is being unlocked …", volumeName(v))
		m.prompt.pending = func() tea.Msg {
			_, err := workshop.Unlock(ctx, []lock.Volume{v}, s)
			return unlocked{volumeName(v), err}
		}
	}
	switch p.Kind {
	case lock.File:
		m.prompt.askPath("Start-up key file, .BEK: ", "", func(file string) { try(lock.Secret{File: file}) })
	case lock.Password:
		m.shelfDesk.askHidden("Password of "+volumeName(v)+": ", func(text string) {
			try(lock.Secret{Text: []byte(text)})
		})
	default:
		of := "of " + volumeName(v)
		if p.ID != "" {
			of = p.ID[:min(len(p.ID), shownID)] + "…"
		}
		m.prompt.ask("Recovery key "+of+", "+p.Form+": ", "", func(text string) {
			if n, of, err := p.Check(text); err != nil || n < of {
				m.fail("That is no recovery key: " + groupWords(p, text))
				return
			}
			try(lock.Secret{Text: []byte(text)})
		})
		m.prompt.live = func(text string) {
			m.prompt.says, m.prompt.wrong = strings.TrimSpace(groupWords(p, text)+" "+m.w.Paper), wrongGroup(p, text)
		}
		m.prompt.live("")
	}
}

// shownID is how much of a key's ID is shown where the key is typed.
const shownID = 8

func wrongGroup(p lock.Way, text string) bool {
	_, _, err := p.Check(text)
	return err != nil
}

// groupWords say how far a recovery key is typed, and which group of it can't be right.
func groupWords(p lock.Way, text string) string {
	n, of, err := p.Check(text)
	switch {
	case err != nil:
		return sentence(err)
	case !p.Proves:
		return fmt.Sprintf("%d of %d groups are there.", n, of)
	case n == of:
		return fmt.Sprintf("All %d groups check out.", of)
	}
	return fmt.Sprintf("%d of %d groups check out so far.", n, of)
}

// onUnlocked says how it ended; the disks are looked at again.
func onUnlocked(m *model, msg unlocked) tea.Cmd {
	if msg.err != nil {
		m.fail(sentence(msg.err))
		return nil
	}
	m.say("%s is unlocked until the program ends. Stored, it stays encrypted.", msg.name)
	if m.step != stepInside {
		return m.benchPage.lookAtAll()
	}
	said := m.note
	again := m.insidePage.lookInto(m.insidePage.inside.of, "")
	m.note = said
	return tea.Batch(m.benchPage.lookAtAll(), again)
}

// lockedFound are the locked volumes of a date.
type lockedFound struct {
	volumes []lock.Volume
	err     error
}

// unlockInside unlocks what is locked at the date, or on the disk, that is looked into.
func unlockInside(m *insidePage) binding {
	b := binding{"U", "U", "unlock", "unlock an encrypted volume with its key; the key is kept until the program ends",
		leads(func() tea.Cmd {
			of, w, ctx := m.inside.of, m.w, m.ctx
			switch {
			case of.Bench != nil:
				onLockedFound(m.model, lockedFound{volumes: workshop.LockedOn(of.Bench)})
			case of.Twin == nil:
				m.fail("A planned disk is unlocked by its source: U on the Bench, or at the date.")
			default:
				m.say("Looking for what is locked …")
				return func() tea.Msg {
					v, err := w.LockedIn(ctx, of.Twin)
					return lockedFound{v, err}
				}
			}
			return nil
		})}
	if m.inside.part != nil || m.inside.of.Bench == nil && m.inside.of.Twin == nil {
		b.show = ""
	}
	return b
}

// onLockedFound lets the volume be chosen that is unlocked.
func onLockedFound(m *model, msg lockedFound) {
	switch {
	case msg.err != nil:
		m.fail(sentence(msg.err))
	case len(msg.volumes) == 0:
		m.say("Nothing here is locked.")
	default:
		m.note = ""
		chooseLocked(m.benchPage, msg.volumes)
	}
}

// keysUnkept says why the keys of unlocked volumes can't be kept with the twin; empty when they can.
func keysUnkept(m *capturePage) string {
	switch {
	case m.w.Shelf == nil || !m.w.Shelf.Sealed():
		return "The shelf isn't sealed, so it keeps no keys."
	case !lock.From(m.ctx).Holds():
		return "Nothing is unlocked: U on the Bench unlocks an encrypted volume."
	}
	return ""
}

// nothingUnlocked says why nothing can be written without encryption; empty where something can.
func nothingUnlocked(m *fitPage) string {
	if lock.From(m.ctx).Holds() {
		return ""
	}
	return "Nothing is unlocked: U on the Bench unlocks an encrypted volume."
}

// toggleUnlocked has encrypted volumes written without their encryption, once the customer agreed to that.
func toggleUnlocked(m *fitPage) tea.Cmd {
	flip := func() tea.Cmd { return m.change(func(w *plan.Wish) { w.Unlocked = !w.Unlocked }) }
	if m.fit.wish.Unlocked {
		return m.toggle("U", flip)
	}
	n := menu{title: "Without encryption whoever has the disk can read it. Has the customer agreed?",
		choices: []choice{{name: "no"}, {name: "yes, the customer has agreed", warns: true}}}
	n.then = func(chosen []int) tea.Cmd {
		if chosen[0] == 0 {
			return nil
		}
		return m.toggle("U", flip)
	}
	m.menus.offer(n)
	return nil
}
