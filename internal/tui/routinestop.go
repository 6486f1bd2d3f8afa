package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/routine"
)

// routineStopped says that a routine was stopped that another process ran, or why it wasn't.
type routineStopped struct {
	name string
	here bool // it goes on here
	err  error
}

// unrunning is why there is nothing to stop.
func (m *routinesPage) unrunning() string {
	if why := m.without(); why != "" {
		return why
	}
	if s := m.chosen(); !s.Running {
		return s.Name + " isn't running: there is nothing to stop."
	}
	return ""
}

// offerTakeOver asks what to do about a routine that another process runs.
func (m *routinesPage) offerTakeOver(s *routine.Standing) {
	about := "another process"
	if s.Live != nil {
		about = s.Live.Words()
	}
	m.menus.offer(menu{title: s.Name + " runs already: " + about + ".", choices: []choice{
		{name: "take it over", about: "stop it there and run it here"},
		{name: "only stop it", about: "it counts as stopped and isn't made up for"},
		{name: "let it go on", about: "its progress is shown here"}},
		then: func(chosen []int) tea.Cmd {
			if chosen[0] == 2 {
				return nil
			}
			return m.stop(s.Name, chosen[0] == 0)
		}})
}

// stopThere stops the chosen routine in whichever process runs it.
func (m *routinesPage) stopThere() tea.Cmd { return m.stop(m.chosen().Name, false) }

func (m *routinesPage) stop(name string, here bool) tea.Cmd {
	m.say("%s is asked to stop; it does so where the shelf is whole.", name)
	w, ctx := m.w, m.ctx
	over := make(chan routineStopped, 1)
	m.working.Go(func() { over <- routineStopped{name, here, w.StopRoutine(ctx, name)} })
	return func() tea.Msg { return <-over }
}

// onStopped goes on here where that was wanted.
func (m *routinesPage) onStopped(msg routineStopped) tea.Cmd {
	if msg.err != nil {
		m.fail(sentence(msg.err))
		return nil
	}
	m.say("%s was stopped.", msg.name)
	if msg.here && m.step == stepRoutines {
		for i, s := range m.list {
			if s.Name == msg.name {
				m.at, s.Running, s.Live = i, false, nil
				return m.runNow()
			}
		}
	}
	return m.replan()
}

// offerRemove asks before a routine is forgotten.
func (m *routinesPage) offerRemove() tea.Cmd {
	s := m.chosen()
	m.menus.offer(menu{title: fmt.Sprintf("Forget %s, with what it did? Its twins stay.", s.Name), choices: []choice{
		{name: "keep it"}, {name: "forget it", about: "the text, its history and a kept passphrase", warns: true}},
		then: func(chosen []int) tea.Cmd {
			if chosen[0] == 0 {
				return nil
			}
			if err := m.w.Routines().Remove(s.Name); err != nil {
				m.fail(sentence(err))
				return nil
			}
			m.say("%s is forgotten.", s.Name)
			return nil
		}})
	return nil
}
