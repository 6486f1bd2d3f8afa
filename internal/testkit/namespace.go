package testkit

import (
	"errors"
	"net"
	"os"
	"os/exec"
	"runtime"
	"syscall"
	"testing"

	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"
)

// apart is the variable by which a test knows that it has a network of its own.
const apart = "TWINSHELF_TEST_APART"

// Neighbour lays a cable to another machine, and gives its address. It belongs in a test that is Apart.
func Neighbour(t testing.TB) (c *Cable, host string) {
	t.Helper()
	mask := net.CIDRMask(24, 32)
	c = Lay(t, "eth0", "port", &net.IPNet{IP: net.IPv4(10, 7, 0, 1), Mask: mask})
	c.Join("eth0", &net.IPNet{IP: net.IPv4(10, 7, 0, 20), Mask: mask})
	return c, "10.7.0.1"
}

// Apart runs a test once more in a process with a network and mounts of its own, where it may do with them as it likes,
// and says whether this is that process.
func Apart(t *testing.T) bool {
	t.Helper()
	if os.Getenv(apart) != "" {
		return true
	}
	Root(t)
	c := exec.CommandContext(t.Context(), os.Args[0], "-test.run=^"+t.Name()+"$", "-test.v", "-test.timeout=10m")
	c.Env = append(os.Environ(), apart+"=1")
	c.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET | syscall.CLONE_NEWNS}
	out, err := c.CombinedOutput()
	if err != nil {
		t.Fatalf("%v:\n%s", err, out)
	}
	t.Logf("%s", out)
	return false
}

// Cable leads from a card of this process's network to another network, as a machine of its own would be there.
type Cable struct {
	t           testing.TB
	here, there netns.NsHandle
}

// Lay lays a cable from a card to one at its other end, which is on and has an address. It belongs in a test that is
// Apart.
func Lay(t testing.TB, card, far string, address *net.IPNet) *Cable {
	t.Helper()
	c := &Cable{t: t}
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	var err error
	if c.here, err = netns.Get(); err == nil {
		c.there, err = netns.New() // this thread is there now
	}
	if err == nil {
		err = netns.Set(c.here)
	}
	if err == nil {
		err = netlink.LinkAdd(&netlink.Veth{LinkAttrs: netlink.LinkAttrs{Name: card}, PeerName: far,
			PeerNamespace: netlink.NsFd(c.there)})
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.here.Close(); c.there.Close() })
	c.There(func() error {
		l, err := netlink.LinkByName(far)
		if err == nil {
			err = netlink.AddrAdd(l, &netlink.Addr{IPNet: address})
		}
		if err == nil {
			err = netlink.LinkSetUp(l)
		}
		return errors.Join(err, loopback())
	})
	if err := loopback(); err != nil {
		t.Fatal(err)
	}
	return c
}

// loopback has a network's machine reach itself.
func loopback() error {
	lo, err := netlink.LinkByName("lo")
	if err == nil {
		err = netlink.LinkSetUp(lo)
	}
	return err
}

// Join gives the card at this end an address, and switches it on.
func (c *Cable) Join(card string, address *net.IPNet) {
	c.t.Helper()
	l, err := netlink.LinkByName(card)
	if err == nil {
		err = netlink.AddrAdd(l, &netlink.Addr{IPNet: address})
	}
	if err == nil {
		err = netlink.LinkSetUp(l)
	}
	if err != nil {
		c.t.Fatal(err)
	}
}

// There does something at the other end: sockets and processes that it opens are there.
func (c *Cable) There(do func() error) {
	c.t.Helper()
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	err := netns.Set(c.there)
	if err == nil {
		err = errors.Join(do(), netns.Set(c.here))
	}
	if err != nil {
		c.t.Fatal(err)
	}
}

// Pull pulls the cable out at the other end, or puts it in again.
func (c *Cable) Pull(far string, out bool) {
	c.t.Helper()
	c.There(func() error {
		l, err := netlink.LinkByName(far)
		if err != nil {
			return err
		}
		if out {
			return netlink.LinkSetDown(l)
		}
		return netlink.LinkSetUp(l)
	})
}
