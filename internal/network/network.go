// Package network brings up the wired network of a machine that was started from a stick: its cards, an address by
// DHCP (RFC 2131) or as somebody types it, servers of names, and the time by NTP. The kernel is asked by netlink.
// Nothing of it outlives the machine.
package network

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/vishvananda/netlink"
)

// Network is the one of the machine whose files lie below a folder; "" stands for "/".
type Network struct{ Root string }

// Card is a wired network card.
type Card struct {
	Name     string // as the kernel calls it: eth0
	Hardware string // its address: six bytes, hexadecimal, with colons
	// Cable says that something answers at the other end of its cable. A card that is off can't tell.
	Cable     bool
	On        bool
	Addresses []netip.Prefix // version 4, and those of version 6 that reach beyond the cable
}

// ErrCable means that a card has no cable in it, or that nothing answers at its other end.
var ErrCable = errors.New("no cable, or nothing that answers at its other end")

const (
	// mostCards bounds the cards that are told of.
	mostCards = 64
	// waitCable is how long two ends of a cable take to agree on a speed, and lookAgain how often is looked whether.
	waitCable = 10 * time.Second
	lookAgain = 100 * time.Millisecond
)

// Cards are the wired cards, by name.
func (n Network) Cards() ([]Card, error) {
	links, err := netlink.LinkList()
	if err != nil {
		return nil, fmt.Errorf("the kernel doesn't tell its network cards: %w", err)
	}
	var out []Card
	for _, l := range links {
		if !n.wired(l) || len(out) == mostCards {
			continue
		}
		c, err := cardOf(l)
		if err != nil {
			return nil, err
		}
		out = append(out, *c)
	}
	slices.SortFunc(out, func(a, b Card) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// wired says whether a link is a card with a cable: an Ethernet card that has no radio.
func (n Network) wired(l netlink.Link) bool {
	a := l.Attrs()
	if a.EncapType != "ether" || a.Flags&net.FlagLoopback != 0 || l.Type() != "device" && l.Type() != "veth" {
		return false
	}
	_, err := os.Stat(filepath.Join("/", n.Root, "sys/class/net", a.Name, "phy80211"))
	return errors.Is(err, os.ErrNotExist)
}

func cardOf(l netlink.Link) (*Card, error) {
	a := l.Attrs()
	c := &Card{Name: a.Name, Hardware: a.HardwareAddr.String(), On: a.Flags&net.FlagUp != 0,
		Cable: a.OperState == netlink.OperUp}
	all, err := netlink.AddrList(l, netlink.FAMILY_ALL)
	if err != nil {
		return nil, fmt.Errorf("the kernel doesn't tell the addresses of %s: %w", a.Name, err)
	}
	for _, x := range all {
		if p, ok := prefixOf(x.IPNet); ok && p.Addr().IsGlobalUnicast() {
			c.Addresses = append(c.Addresses, p)
		}
	}
	return c, nil
}

func prefixOf(n *net.IPNet) (netip.Prefix, bool) {
	if n == nil {
		return netip.Prefix{}, false
	}
	a, ok := netip.AddrFromSlice(n.IP)
	bits, _ := n.Mask.Size()
	return netip.PrefixFrom(a.Unmap(), bits), ok
}

// up switches a card on, and waits until its cable has two ends.
func up(ctx context.Context, card string) (netlink.Link, error) {
	l, err := netlink.LinkByName(card)
	if err != nil {
		return nil, fmt.Errorf("there is no network card %s: %w", card, err)
	}
	if err := netlink.LinkSetUp(l); err != nil {
		return nil, fmt.Errorf("%s can't be switched on: %w", card, err)
	}
	for until := time.Now().Add(waitCable); ; {
		if l, err = netlink.LinkByName(card); err != nil {
			return nil, fmt.Errorf("%s is gone: %w", card, err)
		}
		if l.Attrs().OperState == netlink.OperUp {
			return l, nil
		}
		if time.Now().After(until) {
			return nil, fmt.Errorf("%s: %w; look at both ends of it, then try again", card, ErrCable)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(lookAgain):
		}
	}
}

// Off takes the addresses from a card and switches it off; names aren't asked for any more.
func (n Network) Off(card string) error {
	l, err := netlink.LinkByName(card)
	if err != nil {
		return fmt.Errorf("there is no network card %s: %w", card, err)
	}
	err = keepOnly(l, netip.Prefix{})
	if err == nil {
		err = netlink.LinkSetDown(l)
	}
	if err != nil {
		return fmt.Errorf("%s can't be switched off: %w", card, err)
	}
	return n.forget()
}

// keepOnly takes all addresses of version 4 from a card but one.
func keepOnly(l netlink.Link, one netip.Prefix) error {
	all, err := netlink.AddrList(l, netlink.FAMILY_V4)
	if err != nil {
		return err
	}
	for _, a := range all {
		if p, ok := prefixOf(a.IPNet); ok && p == one {
			continue
		}
		if err := netlink.AddrDel(l, &a); err != nil {
			return err
		}
	}
	return nil
}
