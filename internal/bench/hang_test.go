package bench

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/testkit"
)

// TestAHangingDisk: a disk that hangs is told as such in time, others are looked at, and once it answers again it is
// looked at like any other.
func TestAHangingDisk(t *testing.T) {
	dir := t.TempDir()
	for name, faults := range map[string]string{"a.img": `{"stalling": [[0, 512]], "stall_seconds": 0.5}`,
		"b.img": `{}`} {
		img := filepath.Join(dir, name)
		testkit.Sparse(t, img, 3<<20)
		label := `{"model": "Petrel P 32", "serial": "` + name + `", "faults": ` + faults + `}`
		if err := os.WriteFile(disk.LabelPath(img), []byte(label), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	b := &Bench{Images: []string{dir}, Patience: 100 * time.Millisecond}
	disks := b.List()
	begun := time.Now()
	b.Probe(t.Context(), disks[0])
	b.Probe(t.Context(), disks[1])
	if d := disks[0]; !strings.Contains(d.Problem, "it doesn't answer: a read hangs") || d.Survey != nil ||
		d.Device != nil {
		t.Errorf("%q after %v", d.Problem, time.Since(begun))
	}
	if d := disks[1]; d.Problem != "" || !d.Survey.Blank() {
		t.Errorf("the other: %q", d.Problem)
	}
	opened := b.List()[0]
	b.Open(t.Context(), opened)
	if opened.Problem != "" || opened.Survey != nil {
		t.Fatalf("opened: %q", opened.Problem)
	}
	if _, err := opened.Device.ReadAt(make([]byte, 512), 0); !errors.Is(err, disk.ErrStalled) {
		t.Errorf("a read of what was only opened: %v", err)
	}
	opened.Device.Close()
	b.Patience = time.Minute
	again := b.List()[0]
	b.Probe(t.Context(), again)
	if again.Problem != "" || !again.Survey.Blank() {
		t.Errorf("with more patience: %q", again.Problem)
	}
	time.Sleep(700 * time.Millisecond) // what was left behind ends
}
