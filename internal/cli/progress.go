package cli

import (
	"fmt"
	"os"
	"time"

	"twinshelf/internal/run"
	"twinshelf/internal/units"
)

// follow shows a run's progress on standard error until it ends: a line that is
// rewritten on a terminal, otherwise a line every ten seconds.
func (o *options) follow(r *run.Run) error {
	st, err := os.Stderr.Stat()
	terminal := err == nil && st.Mode()&os.ModeCharDevice != 0
	every := 10 * time.Second
	if terminal {
		every = 200 * time.Millisecond
	}
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case <-r.Ended():
			if terminal {
				fmt.Fprint(o.term, "\r\x1b[K")
			}
			for _, n := range r.Snapshot().Notes {
				fmt.Fprintln(o.err, "note: "+n)
			}
			return r.Wait()
		case <-tick.C:
			line := progressLine(r.Snapshot())
			if terminal {
				fmt.Fprint(o.term, "\r\x1b[K"+units.Visible(line))
			} else {
				fmt.Fprintln(o.err, line)
			}
		}
	}
}

func progressLine(s run.Snapshot) string {
	line := s.Phase
	if s.Total > 0 {
		line += fmt.Sprintf("  %s of %s (%s)  %s", units.Bytes(s.Done), units.Bytes(s.Total), units.Percent(s.Done, s.Total), units.Rate(s.Rate))
	}
	if s.LeftHigh > 0 {
		line += fmt.Sprintf("  %s to %s left", units.Duration(s.LeftLow), units.Duration(s.LeftHigh))
	}
	return line
}
