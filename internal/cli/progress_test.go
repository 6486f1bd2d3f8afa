package cli

import (
	"strings"
	"testing"
	"time"

	"twinshelf/internal/run"
	"twinshelf/internal/units"
)

// TestProgressLine: whatever the columns, the line fits, and what matters most stays longest.
func TestProgressLine(t *testing.T) {
	s := run.Snapshot{Phase: "disk 2: Read and store", Done: 40 * units.GB, Total: 100 * units.GB, Rate: 2e8,
		LeftLow: 5 * time.Minute, LeftHigh: 6 * time.Minute}
	for columns, want := range map[int][]string{0: {"40 %", "left", "40.0 GB of 100 GB", "200 MB/s"},
		79: {"40 %", "5 min 00 s to 6 min 00 s left"}, 40: {"40 %"}, 12: {"disk 2"}, 1: {"…"}} {
		line := progressLine(s, columns)
		if n := len([]rune(line)); columns > 0 && n > columns {
			t.Errorf("%d columns: %q has %d", columns, line, n)
		}
		for _, w := range want {
			if !strings.Contains(line, w) {
				t.Errorf("%d columns: no %q in %q", columns, w, line)
			}
		}
	}
	if line := took(run.Snapshot{Title: "Capture of Ticket desk", Elapsed: 65 * time.Second,
		Estimate: 50 * time.Second}); line != "Capture of Ticket desk took 1 min 05 s (about 50 s was expected)." {
		t.Error(line)
	}
}
