package run

import (
	"context"
	"time"
)

// Part is a part of a run that goes on beside the others.
type Part struct {
	// Name stands before its notes.
	Name string
	// Title and Phases are those of the run that it is.
	Title  string
	Phases []string
	Work   func(*Context) error
	// Come is how many bytes of the whole were dealt with, by how the part stands.
	Come func(Snapshot) int64
}

// partsEvery is how often it is looked how the parts stand.
const partsEvery = 100 * time.Millisecond

// Parts carries out parts of the work at the same time, in the present phase, and gives their errors in their order.
// One that fails holds none of the others up. The run shows their sum, the rails of the first that isn't over, and what
// words says of each; pausing and cancelling it does so with each.
func (c *Context) Parts(parts []Part, words func(i int, s Snapshot) string) []error {
	ctx, stop := context.WithCancel(c)
	defer stop()
	all := make([]*part, len(parts))
	for i, p := range parts {
		all[i] = &part{Part: p, run: Start(ctx, p.Title, p.Phases, nil, p.Work)}
	}
	tick := time.NewTicker(partsEvery)
	defer tick.Stop()
	for over := false; !over; {
		<-tick.C
		over = true
		lines := make([]string, len(all))
		var shown *Run
		for i, p := range all {
			s := p.run.Snapshot()
			lines[i] = words(i, s)
			c.takeOver(p, s)
			if !s.Over() {
				over = false
				if shown == nil {
					shown = p.run
				}
			}
		}
		c.Found(lines)
		if shown != nil {
			c.showRails(shown)
		}
	}
	errs := make([]error, len(all))
	for i, p := range all {
		errs[i] = p.run.Wait()
	}
	return errs
}

// part is one that is under way, and how it stood the last time.
type part struct {
	Part
	run           *Run
	come, skipped int64
	notes         int
}

// takeOver adds what a part did since the last time, and pauses it where the whole is paused.
func (c *Context) takeOver(p *part, s Snapshot) {
	r := c.r
	r.mu.Lock()
	paused := r.snap.State == Paused
	come := max(0, p.Come(s)-p.come)
	skipped := min(come, max(0, s.Skipped-p.skipped))
	r.snap.Done += come
	r.snap.All += come - skipped
	r.snap.Skipped += skipped
	r.lastDone += skipped
	r.phaseSkipped += skipped
	if now := time.Now(); now.Sub(r.lastAt) >= sampleEvery {
		r.sample(now)
	}
	r.mu.Unlock()
	p.come, p.skipped = p.come+come, s.Skipped
	for _, n := range s.Notes[p.notes:] {
		c.Note("%s%s", p.Name, n)
	}
	p.notes = len(s.Notes)
	if !s.Over() && paused != (s.State == Paused) {
		p.run.TogglePause()
	}
}

// showRails has the run show the rails of another one.
func (c *Context) showRails(of *Run) {
	of.mu.Lock()
	read, written := of.read, of.wr
	of.mu.Unlock()
	c.r.mu.Lock()
	defer c.r.mu.Unlock()
	c.r.read, c.r.wr = read, written
	if c.r.snap.RailNo == 0 {
		c.r.snap.RailNo = 1
	}
}
