package disk

import (
	"os"
	"path/filepath"
	"testing"
)

// TestNumberLost: a device that the kernel gave up is gone, whatever its reads end with; where nothing can be told
// nothing is said.
func TestNumberLost(t *testing.T) {
	sys := t.TempDir()
	if numberLost(sys, 8, 16) {
		t.Error("a machine without such a list")
	}
	dir := filepath.Join(sys, "dev/block/8:16/device")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	if !numberLost(sys, 8, 32) {
		t.Error("a number that the kernel doesn't know")
	}
	if numberLost(sys, 8, 16) {
		t.Error("a device without a state")
	}
	for state, want := range map[string]bool{"running": false, "live": false, "blocked": false, "offline": true,
		"transport-offline": true, "deleted": true, "dead": true, "resetting": false} {
		if err := os.WriteFile(filepath.Join(dir, "state"), []byte(state+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		if got := numberLost(sys, 8, 16); got != want {
			t.Errorf("%s: %v", state, got)
		}
	}
}
