package tui

import (
	"context"
	"errors"
	"net/netip"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/network"
	"twinshelf/internal/settings"
	"twinshelf/internal/workshop"
)

// wires stand in for a machine's own: one card, whose network a test says.
type wires struct {
	card network.Card
	set  *network.Settings
	// gives is the lease that is given, err why none is.
	gives *network.Settings
	err   error
}

func (w *wires) Cards() ([]network.Card, error) { return []network.Card{w.card}, nil }

func (w *wires) Set() *network.Settings { return w.set }

func (w *wires) Automatic(ctx context.Context, _ string, _ *network.Settings) (*network.Settings, error) {
	if w.err != nil {
		return nil, w.err
	}
	return w.gives, w.Use(ctx, w.gives)
}

func (w *wires) Use(_ context.Context, s *network.Settings) error {
	w.card.On, w.card.Cable, w.card.Addresses, w.set = true, true, []netip.Prefix{s.Address}, s
	return nil
}

func (w *wires) Renew(ctx context.Context, _ *network.Settings) (*network.Settings, error) {
	<-ctx.Done()
	return nil, ctx.Err()
}

func (w *wires) Off(string) error {
	w.card.On, w.card.Cable, w.card.Addresses, w.set = false, false, nil, nil
	return nil
}

// onWires is the screen of a machine that was started from a stick, with one card that is off.
func onWires(t *testing.T) (tea.Model, *wires) {
	t.Helper()
	m, _ := hosted(t, time.Now().Add(-time.Hour))
	s := &wires{card: network.Card{Name: "eth0", Hardware: "52:54:00:12:34:56"},
		gives: &network.Settings{Card: "eth0", Address: netip.MustParsePrefix("10.7.0.20/24"),
			Names: []netip.Addr{netip.MustParseAddr("10.7.0.1")}, Until: time.Now().Add(time.Hour),
			Renew: time.Now().Add(30 * time.Minute)}}
	mm := m.(*model)
	mm.w.Stands = s
	mm.welcomePage.net.kept = s.gives.Address // nobody waits for its end
	m = does(feed(m, tea.WindowSizeMsg{Width: 120, Height: 60}), mm.welcomePage.net.lookNet())
	return m, s
}

// TestNetworkPage: the network is off until somebody brings it up; what holds of it is said, and what doesn't any more.
func TestNetworkPage(t *testing.T) {
	m, s := onWires(t)
	mm := m.(*model)
	says(t, m, "NETWORK", "Off: nothing is sent.")
	says(t, key(m, "n"), "Nothing is sent before you choose", "eth0: an address by DHCP", "52:54:00:12:34:56, off")
	s.err = network.ErrNobody
	says(t, key(m, "enter"), "Nobody gives addresses there")
	s.err = nil
	m = key(m, "n", "enter")
	says(t, m, "eth0 10.7.0.20/24, by DHCP until", "Shelves far away can be opened.")
	s.card.Cable = false
	says(t, does(m, mm.welcomePage.net.lookNet()), "! eth0: no cable, or nothing that answers at its other end.")
	s.card.Cable, s.card.Addresses = true, nil
	says(t, does(m, mm.welcomePage.net.lookNet()), "! eth0: its address was given for a time, and that is over.")
	says(t, key(m, "n", "G", "enter"), "eth0 is off.", "Off: nothing is sent.")
	m = key(m, "n", "down", "enter")
	says(t, m, "Address of eth0 with the bits of its network")
	says(t, key(typed(m, "10.7.0.30"), "enter"), "It isn't an address as a card gets one", "192.168.7.20/24")
	m = key(typed(key(m, "esc", "n", "down", "enter"), "10.7.0.30/24 10.7.0.1"), "enter")
	says(t, m, "eth0 10.7.0.30/24; no server of names")
}

// TestLeaseRenewed: a lease that can't be renewed is told of while it lasts, one that became another address, too.
func TestLeaseRenewed(t *testing.T) {
	m, s := onWires(t)
	m = key(m, "n", "enter")
	over, end := context.WithCancel(t.Context())
	end()
	m.(*model).ctx = over // no further renewal is waited for
	m = feed(m, netSet{card: "eth0", before: s.gives, err: errors.New("no answer")})
	says(t, m, "The address of eth0 couldn't be renewed (no answer): it ends at", "It is tried again.")
	other := *s.gives
	other.Address = netip.MustParsePrefix("10.7.0.77/24")
	m = feed(m, netSet{card: "eth0", set: &other, before: s.gives})
	says(t, m, "eth0 has another address now: 10.7.0.77/24.")
}

// TestNetworkTime: what a server says is shown before the clock is set, and not set to before the stick was made.
func TestNetworkTime(t *testing.T) {
	m, _ := onWires(t)
	m = key(m, "n", "enter")
	says(t, feed(m, netTime{server: "10.7.0.1", offset: -49 * time.Hour}), "10.7.0.1 says",
		"this machine's clock is 49 h 00 min ahead of it", "Nobody vouches for what it says", "▶ leave the clock")
	says(t, key(m, "down", "enter"), "The clock can't be right", "the stick was made on")
	says(t, feed(m, netTime{err: network.ErrNoTime}), "The time can't be had there")
}

// TestFarShelvesOffered: remembered shelves that lie far away stand on the page, and say that they need the network.
func TestFarShelvesOffered(t *testing.T) {
	m, _ := onWires(t)
	m.(*model).datesPage.known = []workshop.KnownShelf{{Known: settings.Known{ID: "9", Name: "Elm", Twins: 3,
		Path: "sftp://bench@shed/srv/elm", Seen: time.Now()}, Far: true}}
	says(t, m, "▶ Elm needs the network (n); 3 twins", "on a server, sftp://bench@shed/srv/elm",
		"Enter work with Elm")
	m = key(m, "n", "enter")
	says(t, m, "▶ Elm 3 twins, last open")
	says(t, key(m, "o"), "Which shelf should be opened?", "a new one …", "another folder or address …")
}
