package network

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"regexp"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/insomniacslk/dhcp/dhcpv4/nclient4"
)

// ErrNobody means that no server gives addresses at the other end of a cable.
var ErrNobody = errors.New("nobody gives addresses there (no DHCP server answers)")

const (
	// waitAnswer is how long a server gets to answer, tries how often it is asked.
	waitAnswer = 4 * time.Second
	tries      = 3
	// leastLease is for how long an address is taken at least, however short a server makes it.
	leastLease = time.Minute
	// mostServers and mostRoutes bound what a server tells.
	mostServers = 8
	mostRoutes  = 64
)

// Automatic asks for an address for a card by DHCP, and uses it. before is what the card had; it is asked for again.
func (n Network) Automatic(ctx context.Context, card string, before *Settings) (*Settings, error) {
	if _, err := up(ctx, card); err != nil {
		return nil, err
	}
	s, err := ask(ctx, card, before)
	if err != nil {
		return nil, fmt.Errorf("%s has no address: %w", card, err)
	}
	return s, n.Use(ctx, s)
}

func ask(ctx context.Context, card string, before *Settings) (s *Settings, err error) {
	c, err := nclient4.New(card, nclient4.WithTimeout(waitAnswer), nclient4.WithRetry(tries))
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, c.Close()) }()
	with := []dhcpv4.Modifier{dhcpv4.WithRequestedOptions(dhcpv4.OptionSubnetMask, dhcpv4.OptionRouter,
		dhcpv4.OptionDomainNameServer, dhcpv4.OptionDomainName, dhcpv4.OptionNTPServers,
		dhcpv4.OptionClasslessStaticRoute)}
	if before != nil && before.Leased() && before.Card == card {
		with = append(with, dhcpv4.WithOption(dhcpv4.OptRequestedIPAddress(before.Address.Addr().AsSlice())))
	}
	asked := time.Now()
	lease, err := c.Request(ctx, with...)
	var no *nclient4.ErrNak
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case errors.As(err, &no):
		return nil, fmt.Errorf("the DHCP server refuses: %s", no.Nak.Message())
	case err != nil:
		return nil, fmt.Errorf("%w: %w", ErrNobody, err)
	}
	return settingsOf(card, lease.ACK, asked)
}

// settingsOf are the settings that a server acknowledged for an address that was asked for at a time.
func settingsOf(card string, ack *dhcpv4.DHCPv4, asked time.Time) (*Settings, error) {
	mine, ok := netip.AddrFromSlice(ack.YourIPAddr.To4())
	if !ok || !mine.IsGlobalUnicast() {
		return nil, fmt.Errorf("the DHCP server gives %v, which can't be the address of a machine", ack.YourIPAddr)
	}
	mask := ack.SubnetMask()
	if mask == nil {
		mask = ack.YourIPAddr.DefaultMask()
	}
	bits, size := mask.Size()
	if size != 32 || bits == 0 {
		return nil, fmt.Errorf("the DHCP server gives %s with the mask %v, which can't be", mine, mask)
	}
	lasts := max(leastLease, ack.IPAddressLeaseTime(0))
	s := &Settings{Card: card, Address: netip.PrefixFrom(mine, bits), Names: addresses(ack.DNS()),
		Clocks: addresses(ack.NTPServers()), Until: asked.Add(lasts), Renew: asked.Add(lasts / 2)} // RFC 2131, 4.4.5
	if d := ack.DomainName(); plainDomain.MatchString(d) {
		s.Domain = d
	}
	// Routes count before routers (RFC 3442).
	for _, r := range ack.ClasslessStaticRoute() {
		to, known := prefixOf(r.Dest)
		via, routed := netip.AddrFromSlice(r.Router.To4())
		if !known || !routed || len(s.Routes) == mostRoutes {
			continue
		}
		if via.IsUnspecified() {
			via = netip.Addr{}
		}
		s.Routes = append(s.Routes, Route{to, via})
	}
	if routers := addresses(ack.Router()); len(s.Routes) == 0 && len(routers) > 0 {
		s.Routes = []Route{{everywhere, routers[0]}}
	}
	return s, nil
}

// plainDomain is what may stand in the file of names: servers tell whatever they like.
var plainDomain = regexp.MustCompile(`^[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)*$`)

func addresses(all []net.IP) (out []netip.Addr) {
	for _, ip := range all[:min(len(all), mostServers)] {
		if a, ok := netip.AddrFromSlice(ip.To4()); ok && a.IsGlobalUnicast() {
			out = append(out, a)
		}
	}
	return out
}

// Renew waits until a lease is to be renewed, and renews it. It gives nil where the network was set in another way
// meanwhile.
func (n Network) Renew(ctx context.Context, s *Settings) (*Settings, error) {
	select {
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-time.After(s.again(time.Now())):
	}
	if now := n.Set(); now == nil || now.Address != s.Address {
		return nil, nil
	}
	return n.Automatic(ctx, s.Card, s)
}

// leastPause is how long is waited at least before a lease is asked for again.
const leastPause = 5 * time.Second

// again is how long to wait before a lease is renewed, or after that failed is tried again: half of what is left
// (RFC 2131, 4.4.5).
func (s *Settings) again(now time.Time) time.Duration {
	wait := s.Renew.Sub(now)
	if wait <= 0 {
		wait = s.Until.Sub(now) / 2
	}
	return max(leastPause, wait)
}
