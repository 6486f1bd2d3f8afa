package settings

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"twinshelf/internal/disk"
)

func TestOutOfReachIsRemembered(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	s, err := Load(dir)
	if err != nil {
		t.Fatal(err)
	}
	oak := disk.Identity{Model: "Plover P5 2 TB", Serial: "PP5-1", Size: 2_000_398_934_016}
	other := oak
	other.Serial = "PP5-2"
	if s.IsOut(oak) {
		t.Error("out of reach before anybody said so")
	}
	if err := s.Toggle(oak); err != nil {
		t.Fatal(err)
	}
	if s, err = Load(dir); err != nil || !s.IsOut(oak) || s.IsOut(other) {
		t.Errorf("after a restart: %v %+v", err, s)
	}
	if err := s.Toggle(oak); err != nil {
		t.Fatal(err)
	}
	if s, err = Load(dir); err != nil || s.IsOut(oak) {
		t.Errorf("put back: %v %+v", err, s)
	}
}

// TestDamagedStateIsNotIgnored: a disk put out of reach must not come back within it silently.
func TestDamagedStateIsNotIgnored(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "state.json"), []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Load(dir); err == nil || !strings.Contains(err.Error(), "mend or remove") {
		t.Errorf("%v", err)
	}
}

// TestTwoProgramsMark: marks that two programs set at the same time are all there, and one that was set elsewhere
// counts at once.
func TestTwoProgramsMark(t *testing.T) {
	dir := t.TempDir()
	var programs []*State
	for range 4 {
		s, err := Load(dir)
		if err != nil {
			t.Fatal(err)
		}
		programs = append(programs, s)
	}
	var wg sync.WaitGroup
	for i, s := range programs {
		wg.Go(func() {
			for k := range 5 {
				if err := s.Toggle(disk.Identity{Serial: fmt.Sprintf("GANNET-%d-%d", i, k)}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	for i := range programs {
		for k := range 5 {
			if id := (disk.Identity{Serial: fmt.Sprintf("GANNET-%d-%d", i, k)}); !programs[(i+1)%4].IsOut(id) {
				t.Errorf("%s is within reach", id.Serial)
			}
		}
	}
}
