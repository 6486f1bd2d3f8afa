package run

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/span"
)

func until(t *testing.T, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); !ok(); time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("waited for " + what)
		}
	}
}

func TestPhasesAndProgress(t *testing.T) {
	r := Start(context.Background(), "a run", []string{"one", "two"}, Expected{time.Minute}, func(c *Context) error {
		c.Phase("one", 100)
		c.Rails(1000, 0)
		c.Step(40)
		c.Skip(60)
		c.MarkRead(span.At(0, 10), Finished)
		c.MarkRead(span.At(990, 10), Unreadable)
		c.MarkRead(span.At(980, 20), Finished) // doesn't hide what can't be read
		c.Phase("two", 10)
		c.Step(10)
		c.Note("part %d is short", 3)
		return nil
	})
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	s := r.Snapshot()
	if s.State != Done || !s.Over() || s.Phase != "two" || s.PhaseNo != 2 || s.Done != 10 || s.Total != 10 ||
		s.All != 50 || s.Skipped != 60 || s.Estimate != time.Minute {
		t.Errorf("%+v", s)
	}
	if s.Read[0] != Finished || s.Read[Cells-1] != Unreadable || s.Read[Cells/2] != Idle || s.Written != nil {
		t.Errorf("rails: %v %v", s.Read[:3], s.Written)
	}
	if len(s.Notes) != 1 || s.Notes[0] != "part 3 is short" {
		t.Errorf("%q", s.Notes)
	}
}

func TestPauseAndCancel(t *testing.T) {
	steps := make(chan struct{}, 1000)
	r := Start(context.Background(), "t", nil, nil, func(c *Context) error {
		c.Phase("p", 1<<40)
		for {
			if err := c.Step(1); err != nil {
				return err
			}
			steps <- struct{}{}
			time.Sleep(time.Millisecond)
		}
	})
	<-steps
	r.TogglePause()
	if r.Snapshot().State != Paused {
		t.Fatalf("state %s", r.Snapshot().State)
	}
	time.Sleep(20 * time.Millisecond)
	was := r.Snapshot().Done
	time.Sleep(30 * time.Millisecond)
	if now := r.Snapshot().Done; now > was+1 {
		t.Errorf("it went on while paused: %d after %d", now, was)
	}
	r.TogglePause()
	until(t, "going on", func() bool { return r.Snapshot().Done > was+1 })
	r.TogglePause()
	r.Cancel() // also out of a pause
	if err := r.Wait(); !errors.Is(err, context.Canceled) || r.Snapshot().State != Cancelled {
		t.Errorf("%v %s", err, r.Snapshot().State)
	}
	p := r.Snapshot().Pauses
	if len(p) != 2 || p[0].To-p[0].From < 50*time.Millisecond || p[1].From < p[0].To || p[1].To != 0 {
		t.Errorf("paused %v", p)
	}
}

// TestWhenThingsHappened: beginnings of phases, misses and the last stretch of a phase are kept, and few of each.
func TestWhenThingsHappened(t *testing.T) {
	r := Start(t.Context(), "t", []string{"p", "q"}, nil, func(c *Context) error {
		c.Rails(1000, 0)
		c.Phase("p", 100)
		time.Sleep(2 * leastSample)
		c.Step(100)
		for range 2 * keepEvents {
			c.Phase("q", 100)
			c.MarkRead(span.At(0, 7), Unreadable)
		}
		return nil
	})
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	s := r.Snapshot()
	sum := int64(0)
	for _, m := range s.Misses {
		sum += m.Bytes
	}
	if sum != 7*2*keepEvents || len(s.Misses) > keepEvents || len(s.Begun) != keepEvents || s.Begun[1].Phase != "q" ||
		len(s.Samples) != 1 || s.Samples[0].Rate <= 0 || s.Samples[0].Rate > 100/leastSample.Seconds() {
		t.Errorf("%d bytes in %d misses, %d beginnings, samples %v", sum, len(s.Misses), len(s.Begun), s.Samples)
	}
}

func TestFailuresAndPanics(t *testing.T) {
	boom := errors.New("no such device")
	r := Start(context.Background(), "t", nil, nil, func(*Context) error { return boom })
	if err := r.Wait(); !errors.Is(err, boom) || r.Snapshot().State != Failed {
		t.Errorf("%v", err)
	}
	r = Start(context.Background(), "t", nil, nil, func(*Context) error { panic("of all things") })
	if err := r.Wait(); err == nil || !strings.Contains(err.Error(), "of all things") || r.Snapshot().State != Failed {
		t.Errorf("%v", err)
	}
	<-r.Ended()
}

func TestTimeLeftIsARange(t *testing.T) {
	hold := make(chan struct{})
	r := Start(context.Background(), "t", nil, nil, func(c *Context) error {
		c.Phase("p", 1000)
		time.Sleep(20 * time.Millisecond)
		c.Step(500)
		<-hold
		return nil
	})
	until(t, "half", func() bool { return r.Snapshot().Done == 500 })
	s := r.Snapshot()
	if s.LeftLow <= 0 || s.LeftHigh <= s.LeftLow || s.Average <= 0 {
		t.Errorf("%v to %v at %f", s.LeftLow, s.LeftHigh, s.Average)
	}
	close(hold)
	r.Wait()
	if s := r.Snapshot(); s.LeftHigh != 0 {
		t.Errorf("time left after the end: %v", s.LeftHigh)
	}
}

// TestPausedRunWhoseParentEnds: a paused run ends with its parent's context.
func TestPausedRunWhoseParentEnds(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	started := make(chan struct{})
	r := Start(ctx, "x", []string{"a"}, nil, func(c *Context) error {
		close(started)
		for {
			if err := c.Step(1); err != nil {
				return err
			}
			time.Sleep(time.Millisecond)
		}
	})
	<-started
	r.TogglePause()
	cancel()
	if err := r.Wait(); !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
}

// TestNotesBeyondTheLastKept: they are counted, never dropped without a word.
func TestNotesBeyondTheLastKept(t *testing.T) {
	r := Start(context.Background(), "x", []string{"a"}, nil, func(c *Context) error {
		for i := range keepNotes + 5 {
			c.Note("sector %d", i)
		}
		return nil
	})
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	notes := r.Snapshot().Notes
	if len(notes) != keepNotes+1 || !strings.Contains(notes[keepNotes], "5 more") {
		t.Errorf("%d notes, the last %q", len(notes), notes[len(notes)-1])
	}
}

// TestRailsSayWhatIsExpected: where there is nothing to do is told apart from what is still to come, the place at work
// from what is done, and at a good end nothing is still to come.
func TestRailsSayWhatIsExpected(t *testing.T) {
	const size = Cells * 1000
	at := func(cell, n int64) span.Span { return span.At(cell*1000, n*1000) }
	marked, on := make(chan struct{}), make(chan struct{})
	r := Start(context.Background(), "a run", []string{"one"}, nil, func(c *Context) error {
		c.Phase("one", size)
		c.Rails(size, size)
		c.ExpectRead(slices.Values([]span.Span{at(10, 5), at(100, 1)}))
		c.MarkRead(at(10, 2), Finished)
		close(marked)
		<-on
		return nil
	})
	<-marked
	s := r.Snapshot()
	for cell, want := range map[int]Cell{0: Idle, 10: Finished, 11: Busy, 12: ToCome, 14: ToCome, 15: Idle,
		100: ToCome} {
		if s.Read[cell] != want {
			t.Errorf("cell %d is %d, not %d", cell, s.Read[cell], want)
		}
	}
	if s.Written[0] != ToCome {
		t.Error("a rail of which nothing is known has nothing to do")
	}
	close(on)
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	s = r.Snapshot()
	if s.Read[12] != Idle || s.Read[11] != Finished || s.Ended.IsZero() {
		t.Errorf("at the end: %d %d %v", s.Read[12], s.Read[11], s.Ended)
	}
}

// TestDoneAbout: what is left of the last phase is measured, what comes before it is estimated too.
func TestDoneAbout(t *testing.T) {
	now := time.Date(2026, 11, 28, 16, 0, 0, 0, time.UTC)
	s := Snapshot{State: Running, Phases: []string{"a", "b"}, PhaseNo: 2, LeftLow: 8 * time.Minute,
		LeftHigh: 12 * time.Minute, Expected: Expected{30 * time.Minute, 30 * time.Minute},
		Took: []time.Duration{20 * time.Minute, 0}}
	if at, ok := s.DoneAbout(now); !ok || at.Sub(now) != 10*time.Minute {
		t.Errorf("%v %v", at, ok)
	}
	s.PhaseNo = 1
	if at, ok := s.DoneAbout(now); !ok || at.Sub(now) != 40*time.Minute {
		t.Errorf("%v %v", at, ok)
	}
	s.LeftLow, s.LeftHigh = 0, 0 // nothing measured yet
	if at, ok := s.DoneAbout(now); !ok || at.Sub(now) != 40*time.Minute {
		t.Errorf("%v %v", at, ok)
	}
	s.Expected = nil
	if _, ok := s.DoneAbout(now); ok {
		t.Error("it is known without anything to know it from")
	}
	s.Expected = Expected{0, time.Minute}
	s.State = Paused
	if _, ok := s.DoneAbout(now); ok {
		t.Error("a paused run knows when it is done")
	}
}
