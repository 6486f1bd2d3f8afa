package network

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"twinshelf/internal/durable"
)

// Settings are how a card is reached, and what can be reached through it.
type Settings struct {
	Card    string       `json:"card"`
	Address netip.Prefix `json:"address"` // with the bits of its network
	Routes  []Route      `json:"routes,omitempty"`
	// Names are servers of names (DNS), Domain where names without a dot are looked for, Clocks servers of time (NTP).
	Names  []netip.Addr `json:"names,omitempty"`
	Domain string       `json:"domain,omitempty"`
	Clocks []netip.Addr `json:"clocks,omitempty"`
	// Until is when the lease of the address ends, Renew when it is asked for again; zero for a typed one.
	Until time.Time `json:"until,omitzero"`
	Renew time.Time `json:"renew,omitzero"`
}

// Reasons why settings don't hold any more, beside ErrCable.
var (
	ErrEnded = errors.New("its address was given for a time, and that is over")
	ErrGone  = errors.New("it is gone")
)

// Hold says whether a card of those that there are is still reached as the settings say: errors are ErrCable, ErrEnded
// and ErrGone.
func (s *Settings) Hold(cards []Card) error {
	i := slices.IndexFunc(cards, func(c Card) bool { return c.Name == s.Card })
	err := ErrGone
	switch {
	case i < 0:
	case !cards[i].Cable:
		err = ErrCable
	case slices.Contains(cards[i].Addresses, s.Address):
		return nil
	default:
		err = ErrEnded
	}
	return fmt.Errorf("%s: %w", s.Card, err)
}

// Route is the way to a network beyond the cable.
type Route struct {
	To  netip.Prefix `json:"to"`
	Via netip.Addr   `json:"via"` // invalid where it is at the cable itself
}

// everywhere is the network that has all addresses.
var everywhere = netip.PrefixFrom(netip.IPv4Unspecified(), 0)

// Leased says whether the address came by DHCP.
func (s *Settings) Leased() bool { return !s.Until.IsZero() }

// ErrTyped means that what was typed isn't an address as one is set.
var ErrTyped = errors.New("it isn't an address as a card gets one")

// mostTyped bounds the servers of names that are typed: more aren't asked (resolv.conf(5), MAXNS).
const mostTyped = 3

// Typed reads what somebody typed for a card: an address with the bits of its network, the router, servers of names; as
// in "192.168.7.20/24 192.168.7.1 192.168.7.1". All but the first may be left out.
func Typed(card, text string) (*Settings, error) {
	words := strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == ',' || r == ';' })
	if len(words) == 0 {
		return nil, fmt.Errorf("%w: nothing was typed", ErrTyped)
	}
	p, err := netip.ParsePrefix(words[0])
	switch {
	case err != nil:
		return nil, fmt.Errorf("%w: %q has to be like 192.168.7.20/24, with the bits of its network", ErrTyped,
			words[0])
	case !p.Addr().Is4():
		return nil, fmt.Errorf("%w: %s is of version 6, which cards get by themselves", ErrTyped, p)
	case p.Bits() == 0 || !p.Addr().IsGlobalUnicast():
		return nil, fmt.Errorf("%w: %s can't be the address of a machine", ErrTyped, p)
	case p.Bits() < 31 && (p.Masked().Addr() == p.Addr() || last(p) == p.Addr()):
		return nil, fmt.Errorf("%w: %s is the first or the last address of its network, which no machine has",
			ErrTyped, p)
	}
	s := &Settings{Card: card, Address: p}
	for i, w := range words[1:] {
		a, err := netip.ParseAddr(w)
		switch {
		case err != nil || !a.Is4() || !a.IsGlobalUnicast():
			return nil, fmt.Errorf("%w: %q has to be like 192.168.7.1", ErrTyped, w)
		case i == 0 && (!p.Contains(a) || a == p.Addr()):
			return nil, fmt.Errorf("%w: the router %s isn't another machine in the network %s", ErrTyped, a, p.Masked())
		case i == 0:
			s.Routes = []Route{{everywhere, a}}
		case len(s.Names) == mostTyped:
			return nil, fmt.Errorf("%w: more than %d servers of names aren't asked", ErrTyped, mostTyped)
		default:
			s.Names = append(s.Names, a)
		}
	}
	return s, nil
}

// last is the last address of a network of version 4.
func last(p netip.Prefix) netip.Addr {
	b := p.Masked().Addr().As4()
	for i := p.Bits(); i < 32; i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	return netip.AddrFrom4(b)
}

// Use has a card reached as the settings say, and remembers them until the machine is switched off.
func (n Network) Use(ctx context.Context, s *Settings) error {
	l, err := up(ctx, s.Card)
	if err != nil {
		return err
	}
	// With the first address of a network its others would go, so old ones go before the new one comes.
	if err := keepOnly(l, s.Address); err != nil {
		return fmt.Errorf("%s keeps an old address: %w", s.Card, err)
	}
	a := &netlink.Addr{IPNet: netOf(s.Address)}
	if s.Leased() { // the kernel takes it away at its end
		left := max(1, int(time.Until(s.Until).Seconds()))
		a.ValidLft, a.PreferedLft = left, left
	}
	if err := netlink.AddrReplace(l, a); err != nil {
		return fmt.Errorf("%s can't get the address %s: %w", s.Card, s.Address, err)
	}
	for _, r := range s.Routes {
		if err := netlink.RouteReplace(routeOf(l, r, s.Address)); err != nil {
			return fmt.Errorf("the way to %s through %s can't be set: %w", r.To, r.Via, err)
		}
	}
	if err := n.writeNames(s); err != nil {
		return err
	}
	return n.remember(s)
}

func netOf(p netip.Prefix) *net.IPNet {
	return &net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}
}

func routeOf(l netlink.Link, r Route, mine netip.Prefix) *netlink.Route {
	out := &netlink.Route{LinkIndex: l.Attrs().Index, Dst: netOf(r.To), Scope: netlink.SCOPE_LINK}
	if r.Via.IsValid() {
		out.Gw, out.Scope = r.Via.AsSlice(), netlink.SCOPE_UNIVERSE
		if !mine.Contains(r.Via) { // as some hosts of machines have it
			out.Flags = unix.RTNH_F_ONLINK
		}
	}
	return out
}

// Files below the root: who is asked for names (resolv.conf(5)), and what is set.
const (
	namesFile = "etc/resolv.conf"
	setFile   = "run/twinshelf/network.json"
	// mostSet bounds that file, in bytes.
	mostSet = 64 << 10
)

func (n Network) file(name string) string { return filepath.Join("/", n.Root, name) }

func (n Network) writeNames(s *Settings) error {
	var b bytes.Buffer
	for _, a := range s.Names {
		fmt.Fprintf(&b, "nameserver %s\n", a)
	}
	if s.Domain != "" {
		fmt.Fprintf(&b, "search %s\n", s.Domain)
	}
	if err := durable.Swap(n.file(namesFile), b.Bytes()); err != nil {
		return fmt.Errorf("who is asked for names can't be set: %w", err)
	}
	return nil
}

func (n Network) remember(s *Settings) error {
	b, err := json.Marshal(s)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(n.file(setFile)), 0o755)
	}
	if err == nil {
		err = durable.Swap(n.file(setFile), b)
	}
	if err != nil {
		return fmt.Errorf("the network is set, but other consoles don't know how: %w", err)
	}
	return nil
}

// forget forgets what was set, and whom to ask for names.
func (n Network) forget() error {
	err := n.writeNames(&Settings{})
	if gone := os.Remove(n.file(setFile)); gone != nil && !errors.Is(gone, fs.ErrNotExist) {
		err = errors.Join(err, gone)
	}
	return err
}

// Set is what was set last on this machine, by whichever console; nil for nothing.
func (n Network) Set() *Settings {
	st, err := os.Stat(n.file(setFile))
	if err != nil || st.Size() > mostSet {
		return nil
	}
	b, err := os.ReadFile(n.file(setFile))
	var s Settings
	if err != nil || json.Unmarshal(b, &s) != nil || s.Card == "" || !s.Address.IsValid() {
		return nil
	}
	return &s
}
