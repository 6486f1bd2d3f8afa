package server

import (
	"testing"

	"twinshelf/internal/testkit"
)

// TestConformsBetweenNetworks: a server in another network, and a door of ours, keep all their promises over a cable
// and the kernel's own ways of sending.
func TestConformsBetweenNetworks(t *testing.T) {
	if !testkit.Apart(t) {
		return
	}
	cable, host := testkit.Neighbour(t)
	var s *testkit.SSHServer
	var d *served
	cable.There(func() error {
		s, d = testkit.OpenSSHOn(t, host), atDoorOn(t, host)
		return nil
	})
	t.Run("OpenSSH", func(t *testing.T) { serverConforms(t, s) })
	t.Run("door", func(t *testing.T) { doorConforms(t, d) })
}
