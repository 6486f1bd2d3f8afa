// Package run is the engine for long work: phases, progress, an honest
// estimate, pause and cancel. It knows no screen: whoever shows a run asks for
// a Snapshot when it has time.
package run

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"slices"
	"sync"
	"time"
)

// State is where a run stands.
type State string

const (
	Running   State = "running"
	Paused    State = "paused"
	Done      State = "done"
	Failed    State = "failed"
	Cancelled State = "cancelled"
)

// Sample is the rate in one stretch of time.
type Sample struct {
	At   time.Duration // since the start
	Rate float64       // bytes per second
}

// Beginning is when a phase began, since the start of the run.
type Beginning struct {
	Phase string
	At    time.Duration
}

// Pause is when a run was paused and when it went on, since its start; To is 0 while the pause lasts.
type Pause struct{ From, To time.Duration }

// Miss is when some bytes couldn't be read or written, since the start of the run.
type Miss struct {
	At    time.Duration
	Bytes int64
}

// keepEvents bounds the beginnings, pauses and misses that are kept; later misses count with the last one.
const keepEvents = 240

// Snapshot is a run at one moment.
type Snapshot struct {
	Title    string
	State    State
	Phase    string
	PhaseNo  int
	Phases   []string
	Done     int64 // bytes, in this phase
	Total    int64 // bytes, of this phase
	All      int64 // bytes moved in all phases
	Skipped  int64 // bytes in all phases that needed no moving
	Elapsed  time.Duration
	Estimate time.Duration // said at the start, for all phases
	Expected Expected      // said at the start, for each phase
	// Took is how long each phase took so far, in the order of Phases.
	Took    []time.Duration
	Rate    float64 // bytes per second, lately
	Average float64
	// LeftLow and LeftHigh are the time left in this phase; both 0 when nothing can be said.
	LeftLow, LeftHigh time.Duration
	// Ended is when it ended; zero while it is on.
	Ended   time.Time
	Notes   []string
	Samples []Sample
	Begun   []Beginning // of its phases
	Pauses  []Pause
	Misses  []Miss
	// Waits is why the work waits for something outside, in words; empty while it goes on.
	Waits string
	// Found is what the work has found out so far, in words; what it finds later replaces it.
	Found         []string
	Read, Written []Cell // progress on the rails; nil when not in use
	RailNo        int    // how many times the rails were set: which of several disks it is at
	Err           error
}

// Expected is how long each phase will probably take, in the order of the phases; 0 or none where nothing can be said.
type Expected []time.Duration

// Of is how long phase i will probably take, counted from 0.
func (e Expected) Of(i int) time.Duration {
	if i < 0 || i >= len(e) {
		return 0
	}
	return e[i]
}

// Total is how long all phases will probably take.
func (e Expected) Total() time.Duration {
	sum := time.Duration(0)
	for _, d := range e {
		sum += d
	}
	return sum
}

// DoneAbout is when the run will probably be done; false when nothing can be said. What is left of this phase is
// measured as soon as that can be; what comes after it is what was expected at the start.
func (s Snapshot) DoneAbout(now time.Time) (time.Time, bool) {
	at := s.PhaseNo - 1
	left := (s.LeftLow + s.LeftHigh) / 2
	if left == 0 && at >= 0 && at < len(s.Took) {
		left = max(0, s.Expected.Of(at)-s.Took[at])
	}
	for i := at + 1; at >= 0 && i < len(s.Phases); i++ {
		left += s.Expected.Of(i)
	}
	return now.Add(left), left > 0 && s.State == Running
}

// Over says whether the run has ended.
func (s Snapshot) Over() bool { return s.State == Done || s.State == Failed || s.State == Cancelled }

const (
	sampleEvery = 250 * time.Millisecond
	keepSamples = 240
	recent      = 20 // samples that make up the rate "lately"
)

// Run is one long operation.
type Run struct {
	cancel context.CancelFunc
	ended  chan struct{}

	mu         sync.Mutex
	resumed    *sync.Cond
	snap       Snapshot
	start      time.Time
	phaseStart time.Time
	pausedFor  time.Duration // in this phase
	pausedAt   time.Time
	lastAt     time.Time
	lastDone   int64
	// phaseSkipped is how much of this phase needed no moving, in bytes.
	phaseSkipped int64
	read, wr     rail
	moreNotes    int // that weren't kept
}

// Context is what the work gets: the run's context and its progress.
type Context struct {
	context.Context
	r *Run
	// name stands before the names of phases.
	name string
}

// Named is the same context for a part of the work: its phases carry the name.
func (c *Context) Named(name string) *Context { return &Context{c.Context, c.r, c.name + name} }

// Start begins work in a goroutine. phases are the names of what it will do, in
// order, expected how long they will probably take. A panic in the work ends the run as a failure.
func Start(ctx context.Context, title string, phases []string, expected Expected, work func(*Context) error) *Run {
	ctx, cancel := context.WithCancel(ctx)
	now := time.Now()
	r := &Run{cancel: cancel, ended: make(chan struct{}), start: now, phaseStart: now, lastAt: now,
		snap: Snapshot{Title: title, State: Running, Phases: phases, Estimate: expected.Total(), Expected: expected,
			Took: make([]time.Duration, len(phases))}}
	r.resumed = sync.NewCond(&r.mu)
	slog.Info("begins", "work", title, "expected", expected.Total().Round(time.Second))
	stop := context.AfterFunc(ctx, r.wake) // a paused run must notice too
	go func() {
		defer stop()
		err := r.guarded(ctx, work)
		cancel()
		r.finish(ctx, err)
	}()
	return r
}

func (r *Run) guarded(ctx context.Context, work func(*Context) error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("the program made a mistake and stopped this run: %v\n%s", p, debug.Stack())
		}
	}()
	return work(&Context{ctx, r, ""})
}

func (r *Run) finish(ctx context.Context, err error) {
	r.mu.Lock()
	r.snap.Err = err
	r.endPhase()
	r.snap.Elapsed, r.snap.Ended = time.Since(r.start), time.Now()
	switch {
	case err == nil:
		r.snap.State = Done
	case errors.Is(err, context.Canceled):
		r.snap.State = Cancelled
	default:
		r.snap.State = Failed
	}
	r.mu.Unlock()
	s := r.Snapshot()
	level := slog.LevelInfo
	if s.State == Failed {
		level = slog.LevelError
	}
	for _, n := range s.Notes {
		slog.Warn("note", "work", s.Title, "note", n)
	}
	slog.Log(ctx, level, "ends", "work", s.Title, "state", s.State, "took", s.Elapsed.Round(time.Millisecond),
		"moved", s.All, "phase", s.Phase, "error", err)
	close(r.ended)
}

// Wait returns when the run has ended, with its error.
func (r *Run) Wait() error {
	<-r.ended
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.snap.Err
}

// Ended is closed when the run has ended.
func (r *Run) Ended() <-chan struct{} { return r.ended }

// Cancel asks the run to stop; it stops at the next block.
func (r *Run) Cancel() { r.cancel() }

// wake lets a paused run look at its context.
func (r *Run) wake() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.resumed.Broadcast()
}

// TogglePause pauses a running run and lets a paused one go on.
func (r *Run) TogglePause() {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch r.snap.State {
	case Running:
		r.snap.State, r.pausedAt = Paused, time.Now()
		if len(r.snap.Pauses) < keepEvents {
			r.snap.Pauses = append(r.snap.Pauses, Pause{From: time.Since(r.start)})
		}
	case Paused:
		r.snap.State = Running
		if n := len(r.snap.Pauses); r.snap.Pauses[n-1].To == 0 {
			r.snap.Pauses[n-1].To = time.Since(r.start)
		}
		r.pausedFor += time.Since(r.pausedAt)
		r.lastAt, r.lastDone = time.Now(), r.snap.Done
		r.resumed.Broadcast()
	}
}

// Snapshot gives the run as it is now.
func (r *Run) Snapshot() Snapshot {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.snap
	if !s.Over() {
		s.Elapsed = time.Since(r.start)
	}
	if s.Total > 0 {
		s.Done = min(s.Done, s.Total) // a total is planned; what a phase meets may be more
	}
	s.Notes, s.Samples = slices.Clone(s.Notes), slices.Clone(s.Samples)
	s.Took = slices.Clone(s.Took)
	s.Begun, s.Pauses, s.Misses = slices.Clone(s.Begun), slices.Clone(s.Pauses), slices.Clone(s.Misses)
	if i := s.PhaseNo - 1; i >= 0 && !s.Over() {
		s.Took[i] += time.Since(r.phaseStart)
	}
	s.Read, s.Written = r.read.shown(s.State), r.wr.shown(s.State)
	r.rates(&s)
	return s
}

func (r *Run) rates(s *Snapshot) {
	busy := time.Since(r.phaseStart) - r.pausedFor
	done := s.Done - r.phaseSkipped
	if s.Over() {
		busy, done = s.Elapsed, s.All
	}
	if busy > 0 {
		s.Average = float64(done) / busy.Seconds()
	}
	s.Rate = s.Average
	if n := len(s.Samples); n > 0 {
		last := s.Samples[max(0, n-recent):]
		sum := 0.0
		for _, x := range last {
			sum += x.Rate
		}
		s.Rate = sum / float64(len(last))
	}
	left := float64(s.Total - s.Done)
	if s.Over() || left <= 0 || done == 0 || s.Rate <= 0 || s.Average <= 0 {
		return
	}
	s.LeftLow = time.Duration(left / max(s.Rate, s.Average) * float64(time.Second))
	s.LeftHigh = time.Duration(left / min(s.Rate, s.Average) * 1.1 * float64(time.Second))
}

// leastSample is how long the last stretch of a phase is at least, so that its rate says something.
const leastSample = 10 * time.Millisecond

// endPhase notes how long the present phase took, and the rate of its last stretch.
func (r *Run) endPhase() {
	if now := time.Now(); r.snap.Done > r.lastDone && now.Sub(r.lastAt) >= leastSample {
		r.sample(now)
	}
	if i := r.snap.PhaseNo - 1; i >= 0 {
		r.snap.Took[i] += time.Since(r.phaseStart)
	}
}

// Phase begins the next phase, of total bytes.
func (c *Context) Phase(name string, total int64) {
	r, name := c.r, c.name+name
	r.mu.Lock()
	defer r.mu.Unlock()
	r.endPhase()
	r.snap.Phase, r.snap.Done, r.snap.Total = name, 0, total
	r.snap.PhaseNo = slices.Index(r.snap.Phases, name) + 1
	if len(r.snap.Begun) < keepEvents {
		r.snap.Begun = append(r.snap.Begun, Beginning{name, time.Since(r.start)})
	}
	r.phaseStart, r.pausedFor, r.phaseSkipped = time.Now(), 0, 0
	r.lastAt, r.lastDone = r.phaseStart, 0
}

// Waits says why the work waits for something outside; empty when it goes on.
func (c *Context) Waits(why string) {
	c.r.mu.Lock()
	defer c.r.mu.Unlock()
	c.r.snap.Waits = why
}

// Found says what the work has found out so far, in place of what it said before.
func (c *Context) Found(lines []string) {
	c.r.mu.Lock()
	defer c.r.mu.Unlock()
	c.r.snap.Found = slices.Clone(lines)
}

// Snapshot gives the run as it is now.
func (c *Context) Snapshot() Snapshot { return c.r.Snapshot() }

// Come is how far the present phase has come, in bytes.
func (c *Context) Come() (done, total int64) {
	c.r.mu.Lock()
	defer c.r.mu.Unlock()
	return c.r.snap.Done, c.r.snap.Total
}

// Step adds n bytes to the progress, waits while the run is paused, and
// returns the context's error once it was cancelled.
func (c *Context) Step(n int64) error {
	r := c.r
	r.mu.Lock()
	defer r.mu.Unlock()
	r.snap.Done += n
	r.snap.All += n
	if now := time.Now(); now.Sub(r.lastAt) >= sampleEvery {
		r.sample(now)
	}
	for r.snap.State == Paused && c.Err() == nil {
		r.resumed.Wait()
	}
	return c.Err()
}

// sample takes the rate since the last sample.
func (r *Run) sample(now time.Time) {
	rate := float64(r.snap.Done-r.lastDone) / now.Sub(r.lastAt).Seconds()
	r.snap.Samples = append(r.snap.Samples, Sample{now.Sub(r.start), rate})
	if len(r.snap.Samples) > keepSamples { // halve the resolution, keep the whole story
		half := r.snap.Samples[:0]
		for i := 0; i+1 < len(r.snap.Samples); i += 2 {
			a, b := r.snap.Samples[i], r.snap.Samples[i+1]
			half = append(half, Sample{b.At, (a.Rate + b.Rate) / 2})
		}
		r.snap.Samples = half
	}
	r.lastAt, r.lastDone = now, r.snap.Done
}

// Skip adds n bytes to the progress that needed no reading or writing: they
// count as done and not for any rate.
func (c *Context) Skip(n int64) error {
	c.r.mu.Lock()
	c.r.snap.Done += n
	c.r.snap.Skipped += n
	c.r.lastDone += n
	c.r.phaseSkipped += n
	c.r.mu.Unlock()
	return c.Step(0)
}

// missed notes that some bytes couldn't be read or written.
func (r *Run) missed(n int64) {
	now := time.Since(r.start)
	if k := len(r.snap.Misses); k > 0 && (k == keepEvents || now-r.snap.Misses[k-1].At < sampleEvery) {
		r.snap.Misses[k-1].Bytes += n
		return
	}
	r.snap.Misses = append(r.snap.Misses, Miss{now, n})
}

// keepNotes bounds the memory of notes; those beyond are counted.
const keepNotes = 10_000

// Note adds a sentence for the person.
func (c *Context) Note(format string, args ...any) {
	c.r.mu.Lock()
	defer c.r.mu.Unlock()
	r := c.r
	if len(r.snap.Notes) < keepNotes {
		r.snap.Notes = append(r.snap.Notes, fmt.Sprintf(format, args...))
		return
	}
	if r.moreNotes++; r.moreNotes == 1 {
		r.snap.Notes = append(r.snap.Notes, "")
	}
	r.snap.Notes[keepNotes] = fmt.Sprintf("and %d more notes like these", r.moreNotes)
}

// CutOff is the end of work that was cancelled from outside, with the state that it leaves, in words.
type CutOff struct {
	Leaves string
	Err    error
}

func (c *CutOff) Error() string { return "cancelled: " + c.Leaves }

// Unwrap gives the error that the work ended with.
func (c *CutOff) Unwrap() error { return c.Err }
