package cli

import (
	"fmt"
	"os"
	"time"

	"golang.org/x/term"

	"twinshelf/internal/run"
	"twinshelf/internal/units"
)

const (
	lineEvery = 10 * time.Second       // into a file
	overEvery = 200 * time.Millisecond // on a terminal
	usualWide = 80
)

// follow shows a run on standard error until it ends, how long it took, and returns its error.
func (o *options) follow(r *run.Run) error {
	if o.quiet {
		return r.Wait()
	}
	fd := int(os.Stderr.Fd())
	terminal := term.IsTerminal(fd)
	every := lineEvery
	if terminal {
		every = overEvery
	}
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case <-r.Ended():
			if terminal {
				fmt.Fprint(o.term, "\r\x1b[K")
			}
			s := r.Snapshot()
			for _, n := range s.Notes {
				fmt.Fprintln(o.err, "note: "+n)
			}
			if s.State == run.Done && !o.json {
				fmt.Fprintln(o.err, took(s))
			}
			return r.Wait()
		case <-tick.C:
			if !terminal {
				fmt.Fprintln(o.err, progressLine(r.Snapshot(), 0))
				continue
			}
			wide, _, err := term.GetSize(fd)
			if err != nil || wide < 1 {
				wide = usualWide
			}
			fmt.Fprint(o.term, "\r\x1b[K"+units.Visible(progressLine(r.Snapshot(), wide-1)))
		}
	}
}

// took says how long a run took, beside what was expected.
func took(s run.Snapshot) string {
	line := s.Title + " took " + units.Duration(s.Elapsed)
	if s.Estimate >= time.Second {
		line += " (about " + units.Duration(s.Estimate) + " was expected)"
	}
	return line + "."
}

// progressLine is a run's progress in so many columns; 0 for any number. What matters least goes first.
func progressLine(s run.Snapshot, columns int) string {
	var pieces []string
	if s.Total > 0 {
		pieces = append(pieces, units.Percent(s.Done, s.Total))
	}
	if s.LeftHigh > 0 {
		pieces = append(pieces, fmt.Sprintf("%s to %s left", units.Duration(s.LeftLow), units.Duration(s.LeftHigh)))
	}
	if s.Total > 0 {
		pieces = append(pieces, fmt.Sprintf("%s of %s", units.Bytes(s.Done), units.Bytes(s.Total)), units.Rate(s.Rate))
	}
	line := []rune(s.Phase)
	if s.Waits != "" {
		line = []rune("waits: " + s.Waits)
	}
	for _, p := range pieces {
		if longer := append(line[:len(line):len(line)], []rune("  "+p)...); columns == 0 || len(longer) <= columns {
			line = longer
		}
	}
	if columns > 0 && len(line) > columns {
		line = append(line[:columns-1:columns-1], '…')
	}
	return string(line)
}
