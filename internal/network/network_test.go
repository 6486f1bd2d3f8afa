package network

import (
	"context"
	"encoding/binary"
	"errors"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/insomniacslk/dhcp/dhcpv4/server4"
	"github.com/vishvananda/netlink"
	"golang.org/x/net/dns/dnsmessage"
	"golang.org/x/sys/unix"

	"twinshelf/internal/testkit"
)

// The network at the other end of the cable.
var (
	theirs = netip.MustParsePrefix("10.7.0.1/24")
	given  = netip.MustParsePrefix("10.7.0.20/24")
	other  = netip.MustParsePrefix("10.7.0.30/24")
)

// giver is a DHCP server whose answers a test can change.
type giver struct {
	lease  time.Duration
	refuse bool

	mu    sync.Mutex
	asked []net.IP // the addresses that were asked for
}

// wasAsked says whether an address was asked for.
func (g *giver) wasAsked(a netip.Addr) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return slices.ContainsFunc(g.asked, func(ip net.IP) bool { return ip.Equal(a.AsSlice()) })
}

func (g *giver) serve(t *testing.T, c *testkit.Cable, at string) {
	t.Helper()
	var s *server4.Server
	c.There(func() (err error) {
		s, err = server4.NewServer(at, &net.UDPAddr{IP: net.IPv4zero, Port: dhcpv4.ServerPort}, g.handle)
		return err
	})
	ended := make(chan struct{})
	go func() { _ = s.Serve(); close(ended) }()
	t.Cleanup(func() { s.Close(); <-ended })
}

func (g *giver) handle(conn net.PacketConn, peer net.Addr, m *dhcpv4.DHCPv4) {
	g.mu.Lock()
	defer g.mu.Unlock()
	kind := dhcpv4.MessageTypeOffer
	if m.MessageType() == dhcpv4.MessageTypeRequest {
		kind = dhcpv4.MessageTypeAck
		if g.refuse {
			kind = dhcpv4.MessageTypeNak
		}
	} else {
		g.asked = append(g.asked, m.RequestedIPAddress())
	}
	r, err := dhcpv4.NewReplyFromRequest(m, dhcpv4.WithMessageType(kind), dhcpv4.WithYourIP(given.Addr().AsSlice()),
		dhcpv4.WithServerIP(theirs.Addr().AsSlice()), dhcpv4.WithNetmask(net.CIDRMask(24, 32)),
		dhcpv4.WithOption(dhcpv4.OptServerIdentifier(theirs.Addr().AsSlice())),
		dhcpv4.WithRouter(theirs.Addr().AsSlice()), dhcpv4.WithDNS(theirs.Addr().AsSlice()),
		dhcpv4.WithOption(dhcpv4.OptNTPServers(theirs.Addr().AsSlice())),
		dhcpv4.WithOption(dhcpv4.OptDomainName("harbour.example\nnameserver 6.6.6.6")),
		dhcpv4.WithLeaseTime(uint32(g.lease.Seconds())))
	if err == nil {
		_, _ = conn.WriteTo(r.ToBytes(), peer)
	}
}

// TestCable: a card gets its address by DHCP or as typed, names are asked for and the time, and all of it goes again.
func TestCable(t *testing.T) {
	if !testkit.Apart(t) {
		return
	}
	c := testkit.Lay(t, "eth0", "port", netOf(theirs))
	n, ctx := Network{Root: t.TempDir()}, t.Context()
	if err := os.MkdirAll(filepath.Join(n.Root, "etc"), 0o755); err != nil {
		t.Fatal(err)
	}
	if n.Set() != nil {
		t.Error("something was set before anything was")
	}
	g := &giver{lease: time.Hour}
	g.serve(t, c, "port")
	s, err := n.Automatic(ctx, "eth0", nil)
	if err != nil {
		t.Fatal(err)
	}
	if s.Address != given || len(s.Names) != 1 || s.Names[0] != theirs.Addr() || len(s.Clocks) != 1 || s.Domain != "" ||
		!s.Leased() || s.again(time.Now()) < 29*time.Minute || s.again(time.Now()) > 30*time.Minute {
		t.Errorf("%+v", s)
	}
	reached(t, n, given, true)
	if again := n.Set(); again == nil || again.Address != given {
		t.Errorf("another console knows of %+v", again)
	}
	if _, err = n.Automatic(ctx, "eth0", s); err != nil || !g.wasAsked(given.Addr()) {
		t.Errorf("renewed: %v; was the same address asked for: %v", err, g.wasAsked(given.Addr()))
	}
	named(t, n, c)
	soon := *s
	soon.Renew, soon.Until = time.Now().Add(-time.Second), time.Now().Add(time.Second)
	if fresh, err := n.Renew(ctx, &soon); err != nil || fresh == nil || !fresh.Until.After(soon.Until) {
		t.Errorf("renewed: %+v, %v", fresh, err)
	}
	typed, err := Typed("eth0", "10.7.0.30/24 10.7.0.1")
	if err == nil {
		err = n.Use(ctx, typed)
	}
	if err != nil {
		t.Fatal(err)
	}
	reached(t, n, other, true)
	if fresh, err := n.Renew(ctx, &soon); err != nil || fresh != nil {
		t.Errorf("a lease that isn't set any more: %+v, %v", fresh, err)
	}
	g.mu.Lock()
	g.refuse = true
	g.mu.Unlock()
	if _, err := n.Automatic(ctx, "eth0", nil); err == nil || !strings.Contains(err.Error(), "refuses") {
		t.Errorf("a server that refuses: %v", err)
	}
	reached(t, n, other, true)
	if err := n.Off("eth0"); err != nil {
		t.Error(err)
	}
	reached(t, n, other, false)
	if n.Set() != nil {
		t.Error("it is off, and something is set")
	}
}

// reached holds that the card has an address and no other, and leads to the world; or has none.
func reached(t *testing.T, n Network, mine netip.Prefix, want bool) {
	t.Helper()
	cards, err := n.Cards()
	if err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(cards, func(c Card) bool { return c.Name == "eth0" })
	if i < 0 {
		t.Fatalf("no card: %+v", cards)
	}
	var has []netip.Prefix
	for _, a := range cards[i].Addresses {
		if a.Addr().Is4() {
			has = append(has, a)
		}
	}
	if want != slices.Equal(has, []netip.Prefix{mine}) || cards[i].On != want || cards[i].Cable != want {
		t.Errorf("the card is %+v", cards[i])
	}
	routes, err := netlink.RouteGet(net.IPv4(192, 0, 2, 1))
	if want != (err == nil && len(routes) == 1 && routes[0].Gw.Equal(theirs.Addr().AsSlice())) {
		t.Errorf("to the world: %v, %v", routes, err)
	}
}

// named holds that names are asked for where the settings say.
func named(t *testing.T, n Network, c *testkit.Cable) {
	t.Helper()
	var conn *net.UDPConn
	c.There(func() (err error) {
		conn, err = net.ListenUDP("udp4", &net.UDPAddr{IP: theirs.Addr().AsSlice(), Port: 53})
		return err
	})
	answering(t, conn, answerName)
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		t.Fatal(err)
	}
	if err := unix.Mount(n.file(namesFile), "/"+namesFile, "", unix.MS_BIND, ""); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = unix.Unmount("/"+namesFile, 0) }()
	r := net.Resolver{PreferGo: true}
	got, err := r.LookupNetIP(t.Context(), "ip4", "oak.harbour.example")
	if err != nil || len(got) != 1 || got[0].Unmap() != other.Addr() {
		t.Errorf("the name stands for %v, %v", got, err)
	}
}

// answering answers what comes until the test ends; nil is no answer.
func answering(t *testing.T, conn net.PacketConn, answer func(asked []byte) []byte) {
	t.Helper()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		b := make([]byte, 1500)
		for {
			size, from, err := conn.ReadFrom(b)
			if err != nil {
				return
			}
			if a := answer(b[:size]); a != nil {
				_, _ = conn.WriteTo(a, from)
			}
		}
	}()
	t.Cleanup(func() { conn.Close(); <-ended })
}

// answerName answers that a name stands for the address that other has.
func answerName(asked []byte) []byte {
	var m dnsmessage.Message
	if m.Unpack(asked) != nil || len(m.Questions) != 1 {
		return nil
	}
	m.Response, m.Additionals = true, nil
	if q := m.Questions[0]; q.Type == dnsmessage.TypeA {
		m.Answers = []dnsmessage.Resource{{Header: dnsmessage.ResourceHeader{Name: q.Name, Class: q.Class, TTL: 60},
			Body: &dnsmessage.AResource{A: other.Addr().As4()}}}
	}
	b, _ := m.Pack()
	return b
}

// TestSilentCable: a cable that leads nowhere is told from one at which nobody gives addresses, and neither is waited
// for longer than somebody wishes.
func TestSilentCable(t *testing.T) {
	if !testkit.Apart(t) {
		return
	}
	c := testkit.Lay(t, "eth0", "port", netOf(theirs))
	n := Network{Root: t.TempDir()}
	if _, err := n.Automatic(t.Context(), "eth0", nil); !errors.Is(err, ErrNobody) {
		t.Errorf("nobody gives addresses: %v", err)
	}
	c.Pull("port", true)
	ctx, end := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer end()
	if _, err := n.Automatic(ctx, "eth0", nil); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("waited for no longer: %v", err)
	}
	if _, err := n.Automatic(t.Context(), "eth0", nil); !errors.Is(err, ErrCable) {
		t.Errorf("no cable: %v", err)
	}
	if _, err := n.Automatic(t.Context(), "eth7", nil); err == nil || !strings.Contains(err.Error(), "eth7") {
		t.Errorf("no card: %v", err)
	}
}

// TestTyped: what can't be an address is refused before a card gets it.
func TestTyped(t *testing.T) {
	s, err := Typed("eth0", " 192.168.7.20/24, 192.168.7.1 192.168.7.1 10.0.0.53")
	if err != nil || s.Address.String() != "192.168.7.20/24" || len(s.Routes) != 1 || len(s.Names) != 2 || s.Leased() {
		t.Errorf("%+v, %v", s, err)
	}
	if s, err = Typed("eth0", "192.168.7.20/31"); err != nil || len(s.Routes) != 0 {
		t.Errorf("%+v, %v", s, err)
	}
	for _, bad := range []string{"", "  ", "192.168.7.20", "192.168.7.0/24", "192.168.7.255/24", "127.0.0.1/8",
		"0.0.0.0/0", "224.0.0.1/4", "fe80::1/64", "192.168.7.20/24 10.0.0.1", "192.168.7.20/24 192.168.7.20",
		"192.168.7.20/24 harbour", "192.168.7.20/24 192.168.7.1 1.1.1.1 1.1.1.2 1.1.1.3 1.1.1.4", "192.168.7.20/40"} {
		if s, err := Typed("eth0", bad); !errors.Is(err, ErrTyped) {
			t.Errorf("%q: %+v, %v", bad, s, err)
		}
	}
}

// TestWhatServersTell: nothing that a DHCP server tells is set as it can't be.
func TestWhatServersTell(t *testing.T) {
	ack := func(mod ...dhcpv4.Modifier) *dhcpv4.DHCPv4 {
		m, err := dhcpv4.New(append([]dhcpv4.Modifier{dhcpv4.WithYourIP(given.Addr().AsSlice())}, mod...)...)
		if err != nil {
			t.Fatal(err)
		}
		return m
	}
	now := time.Now()
	s, err := settingsOf("eth0", ack(dhcpv4.WithRouter(theirs.Addr().AsSlice())), now)
	if err != nil || s.Address.Bits() != 8 || s.Until.Sub(now) != leastLease {
		t.Errorf("neither mask nor lease: %+v, %v", s, err)
	}
	if got := s.again(now.Add(time.Hour)); got != leastPause {
		t.Errorf("a lease that has ended is asked for after %v", got)
	}
	apart := &dhcpv4.Route{Dest: netOf(netip.MustParsePrefix("172.16.0.0/12")), Router: net.IPv4zero}
	s, err = settingsOf("eth0", ack(dhcpv4.WithRouter(theirs.Addr().AsSlice()),
		dhcpv4.WithOption(dhcpv4.OptClasslessStaticRoute(apart))), now)
	if err != nil || len(s.Routes) != 1 || s.Routes[0].Via.IsValid() || s.Routes[0].To.Bits() != 12 {
		t.Errorf("routes count before routers: %+v, %v", s, err)
	}
	for name, mod := range map[string]dhcpv4.Modifier{
		"loopback": dhcpv4.WithYourIP(net.IPv4(127, 0, 0, 1)), "nothing": dhcpv4.WithYourIP(net.IPv4zero),
		"no network": dhcpv4.WithNetmask(net.IPMask{0, 0, 0, 0}),
		"holes":      dhcpv4.WithNetmask(net.IPMask{255, 0, 255, 0}),
	} {
		if s, err := settingsOf("eth0", ack(mod), now); err == nil {
			t.Errorf("%s: %+v", name, s)
		}
	}
}

// timeServer tells a time that is so far ahead, as long as the test goes on (RFC 5905, figure 8).
func timeServer(t *testing.T, ahead time.Duration, stratum byte) string {
	t.Helper()
	conn, err := net.ListenPacket("udp4", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	answering(t, conn, func(asked []byte) []byte {
		if len(asked) < 48 {
			return nil
		}
		const begin = 2208988800 // 1970, in seconds from 1900
		out := make([]byte, 48)
		out[0], out[1], out[2] = 4<<3|4, stratum, 6
		copy(out[24:32], asked[40:48])
		now := time.Now().Add(ahead)
		for _, at := range []int{16, 32, 40} {
			binary.BigEndian.PutUint32(out[at:], uint32(now.Unix()+begin))
			binary.BigEndian.PutUint32(out[at+4:], uint32(int64(now.Nanosecond())<<32/1e9))
		}
		return out
	})
	return conn.LocalAddr().String()
}

// TestOffset: how far a clock is wrong, and servers that don't know themselves.
func TestOffset(t *testing.T) {
	got, err := Offset(t.Context(), timeServer(t, 49*time.Hour, 2))
	if err != nil || (got-49*time.Hour).Abs() > time.Minute {
		t.Errorf("%v, %v", got, err)
	}
	if got, err = Offset(t.Context(), timeServer(t, 49*time.Hour, 16)); !errors.Is(err, ErrNoTime) {
		t.Errorf("a server whose clock runs by nothing: %v, %v", got, err)
	}
	for _, bad := range []string{"", "127.0.0.1:1"} {
		if got, err = Offset(t.Context(), bad); !errors.Is(err, ErrNoTime) {
			t.Errorf("%q: %v, %v", bad, got, err)
		}
	}
}

// TestHold: what was set and doesn't hold any more is told from what does.
func TestHold(t *testing.T) {
	s := &Settings{Card: "eth0", Address: given}
	for name, c := range map[string]struct {
		cards []Card
		want  error
	}{
		"holds":   {[]Card{{Name: "eth1"}, {Name: "eth0", Cable: true, Addresses: []netip.Prefix{other, given}}}, nil},
		"gone":    {[]Card{{Name: "eth1", Cable: true, Addresses: []netip.Prefix{given}}}, ErrGone},
		"pulled":  {[]Card{{Name: "eth0", Addresses: []netip.Prefix{given}}}, ErrCable},
		"over":    {[]Card{{Name: "eth0", Cable: true, Addresses: []netip.Prefix{other}}}, ErrEnded},
		"nothing": {nil, ErrGone},
	} {
		if err := s.Hold(c.cards); !errors.Is(err, c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
