package tui

import (
	"context"
	"errors"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/store/backend"
	"twinshelf/internal/store/far"
)

// farQuestion is what a server asks while a far shelf is opened. Whoever opens it waits for the answer.
type farQuestion struct {
	host, fingerprint string // of a server that was never seen; empty where something else is asked
	asks              string
	answer            chan string // one, and closed; closed without one where the question is left
}

// yes is the answer that a server is the right one.
const yes = "yes"

// asksOnScreen gives the way in which a person is asked on the screen.
func asksOnScreen(send func(tea.Msg)) far.Asks {
	ask := func(ctx context.Context, q farQuestion) (string, error) {
		q.answer = make(chan string, 1)
		send(q)
		select {
		case <-ctx.Done():
			return "", ctx.Err()
		case a, given := <-q.answer:
			if !given {
				return "", errors.New("the question was left")
			}
			return a, nil
		}
	}
	return far.Asks{
		Trust: func(ctx context.Context, host, fingerprint string) bool {
			a, err := ask(ctx, farQuestion{host: host, fingerprint: fingerprint})
			return err == nil && a == yes
		},
		Secret: func(ctx context.Context, question string) (string, error) {
			return ask(ctx, farQuestion{asks: question})
		},
	}
}

// onFarQuestion puts a server's question.
func (m *shelfDesk) onFarQuestion(q farQuestion) {
	give := func(a string) {
		q.answer <- a
		close(q.answer)
	}
	if q.fingerprint == "" {
		m.askHidden(q.asks+": ", give)
		m.prompt.left = func() { close(q.answer) }
		return
	}
	n := menu{title: "Is this the right server?", left: func() { close(q.answer) },
		above: []string{" " + m.th.strong.Render(q.host) + " was never seen here. Its key is",
			" " + m.th.strong.Render(q.fingerprint),
			" Compare it with what the server's administrator says, told in another way than over this line.", ""},
		choices: []choice{
			{name: "don't connect", about: "nothing is sent to it"},
			{name: "it is the right one", about: "it is known from now on; should it show another key some day, it " +
				"is refused"}}}
	n.then = func(chosen []int) tea.Cmd {
		if chosen[0] == 1 {
			give(yes)
		} else {
			close(q.answer)
		}
		return nil
	}
	m.menus.offer(n)
}

// protected is what protects a shelf far away, as it was tried out.
type protected struct {
	p   backend.Protection
	err error
}

// tryProtection tries out what protects the open shelf, in the background.
func (m *shelfDesk) tryProtection() tea.Cmd {
	w, s, ctx := m.w, m.w.Shelf, m.ctx
	m.say("What protects the shelf is being tried out …")
	return func() tea.Msg {
		p, err := w.TryProtection(ctx, s)
		return protected{p, err}
	}
}

// onProtected shows what came of it.
func (m *shelfDesk) onProtected(msg protected) tea.Cmd {
	if msg.err != nil {
		m.fail(sentence(msg.err))
		return nil
	}
	m.note = ""
	paint := m.th.danger
	if msg.p.Safe {
		paint = m.th.good
	}
	n := menu{title: "It was tried out with an object of its own; nothing of the shelf was touched",
		choices: []choice{{name: "to the dates"}}, then: func([]int) tea.Cmd { return nil }}
	for _, l := range m.th.wrap(capital(msg.p.Says)+".", m.wide-4) {
		n.above = append(n.above, " "+paint.Render(" "+l+" "))
	}
	for _, text := range msg.p.Warnings {
		for _, l := range m.th.wrap("! "+capital(text)+".", m.wide-4) {
			n.above = append(n.above, " "+m.th.caution.Render(l))
		}
	}
	n.above = append(n.above, "")
	m.menus.offer(n)
	return m.datesPage.readShelf()
}
