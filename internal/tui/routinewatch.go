package tui

import (
	"context"

	tea "charm.land/bubbletea/v2"
)

// watchOver says that the process that watched beside this one has ended.
type watchOver struct{ err error }

// watchBinding has a process beside this one run what is due, or ends that.
func (m *routinesPage) watchBinding() binding {
	if m.unwatch != nil {
		return binding{"w", "w", "stop watching", "nothing runs by itself from here any more", leads(func() tea.Cmd {
			m.unwatch()
			m.say("It stops watching where the shelf is whole.")
			return nil
		})}
	}
	why := ""
	switch {
	case m.watch.Process:
		why = "Another process watches the routines already."
	case m.watch.Service:
		why = "systemd runs what is due already."
	}
	return m.unless(why, binding{"w", "w", "watch", "run what is due by itself while this screen is open",
		leads(m.watchHere)})
}

// watchHere starts the process that watches.
func (m *routinesPage) watchHere() tea.Cmd {
	w := m.w
	ctx, end := context.WithCancel(m.ctx)
	m.unwatch = end
	over := make(chan watchOver, 1)
	m.working.Go(func() { over <- watchOver{w.WatchBeside(ctx)} })
	m.say("What is due runs by itself while this screen is open.")
	return func() tea.Msg { return <-over }
}

func (m *routinesPage) onWatchOver(msg watchOver) tea.Cmd {
	m.unwatch()
	m.unwatch, m.watch.Process = nil, false
	if msg.err != nil {
		m.fail(sentence(msg.err))
	} else {
		m.say("Nothing runs by itself from here any more.")
	}
	return m.lookAround()
}

// watchLines say who runs routines by themselves.
func (m *routinesPage) watchLines(w int) (out []string) {
	if len(m.list) == 0 {
		return nil
	}
	said, paint := "", m.th.good.Render
	switch {
	case m.unwatch != nil:
		said = "What is due runs by itself while this screen is open."
	case m.watch.Service:
		said = "systemd runs what is due."
	case m.watch.Process:
		said = "Another process runs what is due."
	default:
		said, paint = "Nothing that can be seen from here runs them: w does while this screen is open, \"twinshelf "+
			"routine service --install\" for good.", m.th.caution.Render
	}
	for _, l := range m.th.wrap(said, w-3) {
		out = append(out, paint(l))
	}
	return out
}
