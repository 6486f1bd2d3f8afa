package shelf_test

import (
	"fmt"
	"net"
	"path/filepath"
	"testing"
	"time"

	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store/far"
	"twinshelf/internal/testkit"
)

// TestCablePulled: while a machine captures to a server at the other end of a cable, the cable is pulled out: for a
// while, which nobody notices, and for long, which ends the work; afterwards all goes on, and nothing is lost.
func TestCablePulled(t *testing.T) {
	if !testkit.Apart(t) {
		return
	}
	mask := net.CIDRMask(24, 32)
	cable := testkit.Lay(t, "eth0", "port", &net.IPNet{IP: net.IPv4(10, 7, 0, 1), Mask: mask})
	cable.Join("eth0", &net.IPNet{IP: net.IPv4(10, 7, 0, 20), Mask: mask})
	var ssh *testkit.SSHServer
	cable.There(func() error {
		ssh = testkit.OpenSSHOn(t, "10.7.0.1")
		return nil
	})
	dir := filepath.Join(t.TempDir(), "elm")
	b, err := far.Open(fmt.Sprintf("sftp://%s@%s:%d%s", ssh.User, ssh.Host, ssh.Port, dir),
		far.Means{SSH: ssh.Person, Cache: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	s := shelftest.At(t, b)
	content := map[string][][]byte{}
	capture := func(i int) error {
		blocks := shelftest.Content(3, uint64(i))
		c, err := s.Begin(t.Context(), fmt.Sprint("till ", i))
		if err != nil {
			return err
		}
		tw := shelftest.TwinOf(t, c, fmt.Sprint("till ", i), blocks, time.Now())
		if err := c.Commit(t.Context(), tw); err != nil {
			return err
		}
		content[tw.ID] = blocks
		return nil
	}
	if err := capture(0); err != nil {
		t.Fatal(err)
	}
	for i, out := range []time.Duration{time.Second, 3 * time.Second} {
		cable.Pull("port", true)
		back := time.AfterFunc(out, func() { cable.Pull("port", false) })
		if err := capture(i + 1); err != nil {
			t.Errorf("out for %v: %v", out, err)
		}
		back.Stop()
	}
	cable.Pull("port", true)
	begun := time.Now()
	err = capture(3)
	if took := time.Since(begun); err == nil || took > 2*time.Minute {
		t.Errorf("out for good: %v after %v", err, took)
	}
	t.Logf("out for good: %v after %v", err, time.Since(begun).Round(time.Second))
	cable.Pull("port", false)
	if err := capture(4); err != nil {
		t.Errorf("in again: %v", err)
	}
	twins, problems := s.Twins(t.Context())
	if len(twins) != len(content) || len(problems) > 0 {
		t.Errorf("%d twins of %d, %v", len(twins), len(content), problems)
	}
	for _, tw := range twins {
		shelftest.Holds(t, s, tw, content[tw.ID])
	}
}
