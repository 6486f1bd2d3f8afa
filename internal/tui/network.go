package tui

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/network"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// wiring is what the first page shows of the wired network of a machine that was started from a stick.
type wiring struct {
	*model
	cards []network.Card
	set   *network.Settings // nil where none was set
	err   error             // why the cards can't be told
	doing string            // what is being done; empty for nothing
	kept  netip.Prefix      // the leased address that is renewed by this program
}

// What came of work about the network.
type (
	netLooked struct {
		cards []network.Card
		set   *network.Settings
		err   error
	}
	// netSet is a card that was set, or was not; of a renewed lease before is what it was.
	netSet struct {
		card        string
		set, before *network.Settings // nil: it is off
		err         error
	}
	// netTime is what a server of time says.
	netTime struct {
		server string
		offset time.Duration
		err    error
	}
)

// lookNet looks at the cards in the background.
func (m *wiring) lookNet() tea.Cmd {
	if m.welcomePage.stick == nil {
		return nil
	}
	wires := m.w.Wires()
	return func() tea.Msg {
		cards, err := wires.Cards()
		return netLooked{cards, wires.Set(), err}
	}
}

// onNet takes what came of work about the network.
func (m *wiring) onNet(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case netLooked:
		m.cards, m.set, m.err = msg.cards, msg.set, msg.err
		return m.keepLease()
	case netTime:
		m.doing = ""
		m.offerTime(msg)
		return nil
	case netSet:
		return m.onNetSet(msg)
	}
	return nil
}

func (m *wiring) onNetSet(msg netSet) tea.Cmd {
	if msg.before != nil { // a lease was renewed
		m.kept = netip.Prefix{}
		switch {
		case m.set == nil || m.set.Address != msg.before.Address, msg.set == nil && msg.err == nil:
			// something else was set meanwhile
		case msg.err != nil && time.Now().After(msg.before.Until): // the page says that it is over
		case msg.err != nil:
			m.fail(fmt.Sprintf("The address of %s couldn't be renewed (%v): it ends at %s. It is tried again.",
				msg.card, msg.err, units.Moment(msg.before.Until)))
		case msg.set.Address != msg.before.Address:
			m.say("%s has another address now: %s.", msg.card, msg.set.Address)
		}
		return m.lookNet()
	}
	m.doing = ""
	switch {
	case msg.err != nil:
		m.fail(sentence(msg.err))
	case msg.set == nil:
		m.say("%s is off.", msg.card)
	default:
		m.say("%s has the address %s. Shelves far away can be opened.", msg.card, msg.set.Address)
	}
	return m.lookNet()
}

// keepLease renews a leased address when half of its time is over, and again until it is; each console does.
func (m *wiring) keepLease() tea.Cmd {
	if m.set == nil || !m.set.Leased() || m.kept == m.set.Address {
		return nil
	}
	m.kept = m.set.Address
	set, wires, ctx := m.set, m.w.Wires(), m.ctx
	return func() tea.Msg {
		fresh, err := wires.Renew(ctx, set)
		if ctx.Err() != nil {
			return nil
		}
		return netSet{card: set.Card, set: fresh, before: set, err: err}
	}
}

// doNet does something about the network in the background.
func (m *wiring) doNet(busy, card string, do func(context.Context) (*network.Settings, error)) tea.Cmd {
	m.doing = busy
	ctx := m.ctx
	return func() tea.Msg {
		s, err := do(ctx)
		return netSet{card: card, set: s, err: err}
	}
}

// offerNet asks how the network is to be brought up.
func (m *wiring) offerNet() {
	if len(m.cards) == 0 {
		m.fail("No wired network card was found.")
		return
	}
	n := menu{title: "The wired network: how should this machine be reached? Nothing is sent before you choose"}
	var does []func() tea.Cmd
	add := func(c choice, do func() tea.Cmd) {
		n.choices, does = append(n.choices, c), append(does, do)
	}
	wires := m.w.Wires()
	for _, c := range m.cards {
		add(choice{name: c.Name + ": an address by DHCP", about: cardWords(c)}, func() tea.Cmd {
			return m.doNet("An address is being asked for …", c.Name,
				func(ctx context.Context) (*network.Settings, error) {
					return wires.Automatic(ctx, c.Name, m.set)
				})
		})
		add(choice{name: c.Name + ": an address that you type …"}, func() tea.Cmd { m.askAddress(c); return nil })
	}
	if m.set != nil {
		card := m.set.Card
		add(choice{name: "set the clock by a server …", about: "its time is shown first"},
			func() tea.Cmd { m.askServer(); return nil })
		add(choice{name: card + ": off", about: "its address is taken away; what goes over it is cut off"},
			func() tea.Cmd {
				return m.doNet("The card is being switched off …", card,
					func(context.Context) (*network.Settings, error) { return nil, wires.Off(card) })
			})
	}
	n.then = func(chosen []int) tea.Cmd { return does[chosen[0]]() }
	m.menus.offer(n)
}

// askAddress asks for the address of a card.
func (m *wiring) askAddress(c network.Card) {
	label := "Address of " + c.Name + " with the bits of its network, router, name servers (192.168.7.20/24 " +
		"192.168.7.1 192.168.7.1): "
	m.prompt.ask(label, "", func(text string) {
		s, err := network.Typed(c.Name, text)
		if err != nil {
			m.fail(sentence(err))
			return
		}
		wires := m.w.Wires()
		m.prompt.pending = m.doNet("The address is being set …", c.Name,
			func(ctx context.Context) (*network.Settings, error) { return s, wires.Use(ctx, s) })
	})
}

// askServer asks which server tells the time; the network's own one is proposed.
func (m *wiring) askServer() {
	usual := ""
	if s := m.set; s != nil && len(s.Clocks) > 0 {
		usual = s.Clocks[0].String()
	}
	m.prompt.ask("Server of the time (NTP), its name or address: ", usual, func(server string) {
		ctx := m.ctx
		m.doing = "The time is being asked for …"
		m.prompt.pending = func() tea.Msg {
			offset, err := network.Offset(ctx, server)
			return netTime{server, offset, err}
		}
	})
}

// offerTime shows what a server says before the clock is set.
func (m *wiring) offerTime(t netTime) {
	if t.err != nil {
		m.fail(sentence(t.err))
		return
	}
	theirs := time.Now().Add(t.offset).UTC().Format("Monday 2 January 2006, 15:04:05")
	how := "the same to the second"
	if by := t.offset.Round(time.Second); by > 0 {
		how = "this machine's clock is " + units.Duration(by) + " behind it"
	} else if by < 0 {
		how = "this machine's clock is " + units.Duration(-by) + " ahead of it"
	}
	n := menu{title: "Should the clock be set by it?", above: []string{
		" " + m.th.strong.Render(t.server) + " says " + m.th.strong.Render(theirs) + " UTC: " + how + ".",
		" Nobody vouches for what it says: compare it with a clock that you trust.", ""},
		choices: []choice{{name: "leave the clock"}, {name: "set it", about: "that in the machine stays as it is"}}}
	n.then = func(chosen []int) tea.Cmd {
		if chosen[0] == 0 {
			return nil
		}
		if err := m.w.MoveClock(t.offset); err != nil {
			m.fail(sentence(err))
			return nil
		}
		m.say("The clock is set. Twins, papers and records carry its time.")
		return nil
	}
	m.menus.offer(n)
}

// cardWords say how a card is.
func cardWords(c network.Card) string {
	switch {
	case !c.On:
		return c.Hardware + ", off"
	case !c.Cable:
		return c.Hardware + ", no cable, or nothing that answers at its other end"
	}
	return c.Hardware + ", its cable has two ends"
}

// netLines say how the machine can be reached.
func (m *wiring) netLines(w int) []string {
	th := m.th
	text, paint := "", th.dim
	switch {
	case m.doing != "":
		text = m.doing
	case m.err != nil:
		text, paint = "! "+capital(m.err.Error())+".", th.caution
	case m.set != nil:
		return m.setLines(w)
	case len(m.cards) == 0:
		text = "No wired network card was found. Adapters on USB turn up by themselves."
	default:
		text = "Off: nothing is sent. n brings it up, for shelves far away."
	}
	var out []string
	for _, l := range th.wrap(text, w-5) {
		out = append(out, "   "+paint.Render(l))
	}
	return out
}

// setLines say how the card is set, and what of that doesn't hold any more.
func (m *wiring) setLines(w int) []string {
	th, s := m.th, m.set
	line := s.Card + "  " + s.Address.String()
	if s.Leased() {
		line += ", by DHCP until " + clockTime(s.Until.UTC(), time.Now().UTC())
	}
	if len(s.Names) == 0 {
		line += "; no server of names"
	}
	out := []string{"   " + fit(line, w-4)}
	if err := s.Hold(m.cards); err != nil {
		says := "! " + err.Error() + "."
		if errors.Is(err, network.ErrEnded) {
			says += " n asks for one again."
		}
		for _, l := range th.wrap(says, w-5) {
			out = append(out, "   "+th.caution.Render(l))
		}
	}
	return out
}

// clockTime is a time of this day without its date, any other with it.
func clockTime(t, now time.Time) string {
	if t.Year() == now.Year() && t.YearDay() == now.YearDay() {
		return t.Format("15:04")
	}
	return t.Format("2 Jan, 15:04")
}

// offered are the shelves that were found on drives, then those far away that are remembered.
func (m *welcomePage) offered() []workshop.FoundShelf {
	return slices.Concat(m.found, workshop.FarFound(m.datesPage.known))
}
