package server

import (
	"net"
	"path/filepath"
	"testing"

	"twinshelf/internal/store/backend"
	"twinshelf/internal/store/backend/backendtest"
	"twinshelf/internal/testkit"
)

// TestConformsBetweenNetworks: a server in another network keeps all its promises, over a cable and the kernel's own
// ways of sending.
func TestConformsBetweenNetworks(t *testing.T) {
	if !testkit.Apart(t) {
		return
	}
	mask := net.CIDRMask(24, 32)
	cable := testkit.Lay(t, "eth0", "port", &net.IPNet{IP: net.IPv4(10, 7, 0, 1), Mask: mask})
	cable.Join("eth0", &net.IPNet{IP: net.IPv4(10, 7, 0, 20), Mask: mask})
	var s *testkit.SSHServer
	cable.There(func() error {
		s = testkit.OpenSSHOn(t, "10.7.0.1")
		return nil
	})
	backendtest.Conform(t, func(t *testing.T) func() backend.Backend {
		dir := filepath.Join(t.TempDir(), "srv", "oak")
		return func() backend.Backend {
			f, err := Open(addressOf(s, dir), s.Person, Asks{}, nil)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { f.Close() })
			return f
		}
	})
}
