package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/store"
)

// offerPassphrases lists the passphrases of a sealed shelf by name, to change or withdraw one, or to add another.
func (m *shelfDesk) offerPassphrases() {
	s := m.w.Shelf
	if !s.Sealed() {
		m.fail("This shelf is open: it has no passphrases. Carry its twins to a sealed one (m).")
		return
	}
	keys := s.Head().Keys
	n := menu{title: "Passphrases of " + s.Head().Name}
	for _, k := range keys {
		about := "made " + k.Created.Local().Format("2006-01-02")
		if k.Name == s.Key() {
			about += ", opened the shelf now"
		}
		n.choices = append(n.choices, choice{name: k.Name, about: about})
	}
	n.choices = append(n.choices,
		choice{name: "another one …", about: "opens the same shelf; nothing is written again"})
	n.then = func(chosen []int) tea.Cmd {
		if chosen[0] < len(keys) {
			m.offerPassphrase(keys[chosen[0]].Name)
			return nil
		}
		m.prompt.ask("Whose passphrase is it? ", "", func(name string) {
			if name = strings.TrimSpace(name); name == "" {
				m.fail("Every passphrase has a name, so that it can be told from the others.")
				return
			}
			m.askNewPassphrase("", name, func(added []byte) {
				m.allowed(fmt.Sprintf("The passphrase %q opens the shelf now too.", name), func(one []byte) error {
					return s.AddKey(m.ctx, one, added, name, store.Cost{})
				})
			})
		})
		return nil
	}
	m.menus.offer(n)
}

// offerPassphrase asks what becomes of one.
func (m *shelfDesk) offerPassphrase(name string) {
	s := m.w.Shelf
	n := menu{title: fmt.Sprintf("What becomes of the passphrase %q?", name), choices: []choice{
		{name: "it is changed …", about: "who knows only the old one can't open the shelf any more"},
		{name: "it is withdrawn", about: "who kept a copy of the shelf's head and knows it can still open that copy"}}}
	n.then = func(chosen []int) tea.Cmd {
		if chosen[0] == 0 {
			m.askNewPassphrase("", name, func(to []byte) {
				m.allowed(fmt.Sprintf("The passphrase %q is changed.", name), func(one []byte) error {
					return s.ChangeKey(m.ctx, one, to, name, store.Cost{})
				})
			})
			return nil
		}
		m.allowed(fmt.Sprintf("The passphrase %q is withdrawn.", name), func(one []byte) error {
			return s.WithdrawKey(m.ctx, one, name)
		})
		return nil
	}
	m.menus.offer(n)
}

// allowed does something to the passphrases once a present one was given, in the background: that takes a second or
// two.
func (m *shelfDesk) allowed(done string, do func(one []byte) error) {
	m.askHidden("One of the present passphrases: ", func(one string) {
		m.say("That takes a moment …")
		m.prompt.pending = func() tea.Msg { return told{done, do([]byte(one))} }
	})
}
