package tui

import (
	"fmt"
	"path/filepath"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/store/far"
	"twinshelf/internal/workshop"
)

// makeShelf asks for all that a new shelf needs, makes it, and goes on with it.
func (m *shelfDesk) makeShelf(then func(*shelf.Shelf) tea.Cmd) {
	const label = "Folder for the new shelf, empty or not there yet; or an address (sftp://…, s3://…): "
	m.prompt.askPath(label, "", func(dir string) {
		if dir = strings.TrimSpace(dir); dir == "" {
			return
		}
		usual := filepath.Base(dir)
		if far.Is(dir) {
			if err := far.Check(dir); err != nil {
				m.fail(sentence(err))
				return
			}
			usual = far.Name(dir)
		}
		m.prompt.ask("Name of the new shelf: ", usual, func(name string) {
			if name = strings.TrimSpace(name); name == "" {
				name = usual
			}
			m.offerSeal(dir, name, then)
		})
	})
}

// offerSeal asks whether a new shelf is sealed; one that lies far away is, unless it is chosen otherwise.
func (m *shelfDesk) offerSeal(dir, name string, then func(*shelf.Shelf) tea.Cmd) {
	open := choice{name: "open", about: "whoever has the drive can read what is on it"}
	sealed := choice{name: "sealed", about: "encrypted: without a passphrase nothing can be read, not even the names " +
		"of machines; nobody can recover a lost passphrase"}
	n, openAt := menu{title: fmt.Sprintf("Should %s be sealed?", name), choices: []choice{open, sealed}}, 0
	if far.Is(dir) {
		open.about = "whoever runs the server, or gets in there, can read what is on it"
		n.choices, openAt = []choice{sealed, open}, 1
	}
	n.then = func(chosen []int) tea.Cmd {
		if chosen[0] == openAt {
			return m.makeThen(dir, name, nil, then)
		}
		m.askNewPassphrase("", name, func(p []byte) { m.prompt.pending = m.makeThen(dir, name, p, then) })
		return nil
	}
	m.menus.offer(n)
}

// askNewPassphrase asks twice, and again as long as the two differ or protect nothing; why says what was wrong.
func (m *shelfDesk) askNewPassphrase(why, name string, then func([]byte)) {
	m.askHidden(why+"Passphrase for "+name+": ", func(first string) {
		if store.CheckPassphrase([]byte(first)) != nil {
			m.askNewPassphrase("Too short: take several words. ", name, then)
			return
		}
		m.askHidden("Once more: ", func(second string) {
			if first != second {
				m.askNewPassphrase("The two differ. ", name, then)
				return
			}
			then([]byte(first))
		})
	})
}

// askHidden asks for a line that isn't shown.
func (m *shelfDesk) askHidden(label string, then func(string)) {
	m.prompt.ask(label, "", then)
	m.prompt.typing.EchoMode = textinput.EchoPassword
	m.prompt.typing.EchoCharacter = '•'
}

// makeThen makes a shelf in the background (a passphrase takes about a second) and goes on with it.
func (m *shelfDesk) makeThen(dir, name string, passphrase []byte, then func(*shelf.Shelf) tea.Cmd) tea.Cmd {
	w := m.w
	m.say("The shelf is being made …")
	return func() tea.Msg {
		s, err := workshop.NewShelf(m.ctx, dir, name, store.DefaultParity, passphrase, m.w.FarAsks)
		if err != nil {
			return told{err: err}
		}
		_ = w.Remember(m.ctx, s) // a comfort, not a need
		return startRun{func() tea.Cmd { return then(s) }}
	}
}
