package run

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"
)

// partOf is a part of n steps of a byte; it fails at the end with err.
func partOf(name string, n int64, step time.Duration, err error) Part {
	return Part{Name: name + ": ", Title: name, Phases: []string{"all"}, Come: func(s Snapshot) int64 { return s.Done },
		Work: func(c *Context) error {
			c.Phase("all", n)
			c.Note("begun")
			for range n {
				if err := c.Step(1); err != nil {
					return err
				}
				time.Sleep(step)
			}
			return err
		}}
}

func stands(i int, s Snapshot) string { return fmt.Sprint(i, " ", s.State) }

// TestParts: the whole shows the sum of its parts and how each stands; one that fails holds none of the others up.
func TestParts(t *testing.T) {
	broken := errors.New("broken")
	var errs []error
	r := Start(t.Context(), "t", []string{"both"}, nil, func(c *Context) error {
		c.Phase("both", 300)
		errs = c.Parts([]Part{partOf("a", 100, time.Millisecond, nil), partOf("b", 200, 0, broken)}, stands)
		return nil
	})
	if err := r.Wait(); err != nil || len(errs) != 2 || errs[0] != nil || !errors.Is(errs[1], broken) {
		t.Fatalf("%v, %v", err, errs)
	}
	s := r.Snapshot()
	if s.Done != 300 || s.All != 300 || strings.Join(s.Found, ", ") != "0 done, 1 failed" ||
		strings.Join(s.Notes, ", ") != "a: begun, b: begun" {
		t.Errorf("%d, %d, %q, %q", s.Done, s.All, s.Found, s.Notes)
	}
}

// TestPartsPause: pausing the whole pauses each part, and cancelling it ends each.
func TestPartsPause(t *testing.T) {
	var errs []error
	r := Start(t.Context(), "t", []string{"both"}, nil, func(c *Context) error {
		c.Phase("both", 1<<20)
		errs = c.Parts([]Part{partOf("a", 1<<20, time.Millisecond, nil), partOf("b", 1<<20, time.Millisecond, nil)},
			stands)
		return errors.Join(errs...)
	})
	for r.Snapshot().Done == 0 {
		time.Sleep(time.Millisecond)
	}
	r.TogglePause()
	halted := func() string { return strings.Join(r.Snapshot().Found, ", ") }
	for halted() != "0 paused, 1 paused" {
		time.Sleep(time.Millisecond)
	}
	at := r.Snapshot().Done
	time.Sleep(3 * partsEvery)
	if now := r.Snapshot().Done; now > at+2 {
		t.Errorf("%d bytes while it was paused", now-at)
	}
	r.TogglePause()
	for r.Snapshot().Done < at+10 {
		time.Sleep(time.Millisecond)
	}
	r.Cancel()
	if err := r.Wait(); !errors.Is(err, context.Canceled) || !errors.Is(errs[0], context.Canceled) ||
		!errors.Is(errs[1], context.Canceled) {
		t.Errorf("%v, %v", err, errs)
	}
}
