package workshop

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"twinshelf/internal/routine"
	"twinshelf/internal/run"
)

// Follower waits for a run, and shows meanwhile how it goes.
type Follower func(*run.Run) error

// RunRoutine does the work of a routine, for the time that it is due for, and keeps in its history what became of it;
// the error is what went wrong. Nobody else can run it meanwhile, but others see how it goes and can ask it to stop.
// What was missed before is noted too.
func (w *Workshop) RunRoutine(ctx context.Context, r *routine.Routine, d routine.Due,
	follow Follower) (e routine.Entry, err error) {
	b := w.Routines()
	lock, err := b.Lock(r.Name)
	if err != nil {
		return e, err
	}
	defer lock.Close()
	disks, err := b.LockDisks(r)
	if err != nil {
		return e, err
	}
	defer disks.Close()
	working := b.Working()
	defer working.Close()
	var notes []routine.Entry
	for _, at := range d.Missed {
		notes = append(notes, routine.Entry{Slot: at, Ended: time.Now(), Outcome: routine.Missed,
			Says: "nothing ran at that time; it was made up for later"})
	}
	e = routine.Entry{Slot: d.Slot, Try: d.Try, Began: time.Now(), Outcome: routine.Done}
	did := &routineRun{w: w, r: r, e: &e, follow: follow}
	err = did.attended(ctx)
	e.Ended = time.Now()
	switch {
	case err != nil && ctx.Err() != nil:
		e.Outcome, e.Says = routine.Cut, "the program was ended; it is made up for when it is due"
	case errors.Is(err, context.Canceled):
		e.Outcome, e.Says = routine.Stopped, "it was stopped"
	case err != nil:
		e.Outcome, e.Says = routine.Failed, err.Error()
		if d.Try < r.Failing.Times && !d.Slot.IsZero() {
			e.Log = append(e.Log, fmt.Sprintf("it is tried again at %s", e.Ended.Add(r.Failing.After).Format("15:04")))
		}
	case did.nothing:
		e.Outcome = routine.Nothing
	}
	e.Log = append(e.Log, w.tellRun(ctx, r, &e)...)
	return e, errors.Join(err, b.Note(r.Name, append(notes, e)...))
}

// routineRun is a routine at work.
type routineRun struct {
	w       *Workshop
	r       *routine.Routine
	e       *routine.Entry
	follow  Follower
	nothing bool // a capture found nothing new
	now     atomic.Pointer[run.Run]
}

func (x *routineRun) log(format string, args ...any) {
	said := fmt.Sprintf(format, args...)
	x.e.Log = append(x.e.Log, said)
	if x.e.Says != "" {
		said = x.e.Says + "; " + said
	}
	x.e.Says = said
}

// How often a run says how it goes, and looks whether somebody wants it to stop.
const showEvery = time.Second

// attended does all of it while others can see how it goes, and stop it.
func (x *routineRun) attended(ctx context.Context) error {
	ctx, stop := context.WithCancel(unattended(ctx))
	var showing sync.WaitGroup
	over := make(chan struct{})
	b := x.w.Routines()
	_ = b.EndLive(x.r.Name) // of a run that was cut off
	x.show(b)
	showing.Go(func() {
		tick := time.NewTicker(showEvery)
		defer tick.Stop()
		for {
			select {
			case <-over:
				return
			case <-tick.C:
			}
			if x.show(b); b.StopAsked(x.r.Name, x.e.Began) {
				stop()
			}
		}
	})
	err := x.all(ctx)
	close(over)
	showing.Wait()
	stop()
	_ = b.EndLive(x.r.Name) // a comfort: what is left of it is known as old by its time
	return err
}

// show says how it goes; nobody depends on it.
func (x *routineRun) show(b *routine.Book) {
	host, _ := os.Hostname()
	l := routine.Live{Began: x.e.Began, Seen: time.Now(), Process: os.Getpid(), Host: host}
	if r := x.now.Load(); r != nil {
		s := r.Snapshot()
		l.Title, l.Phase, l.Done, l.Total, l.Left = s.Title, s.Phase, s.Done, s.Total, s.LeftHigh
	}
	_ = b.Show(x.r.Name, l)
}

// all does one step after the other. A failure ends it, unless the routine says that it goes on.
func (x *routineRun) all(ctx context.Context) error {
	if slices.ContainsFunc(x.r.Steps, routine.Step.OnShelf) {
		if err := x.w.firstShelf(ctx, x.r); err != nil {
			return err
		}
	}
	var failed []error
	for _, s := range x.r.Steps {
		do := map[routine.Action]func(context.Context, routine.Step) error{routine.Capture: x.capture,
			routine.Prove: x.prove, routine.Check: x.check, routine.Thin: x.thin, routine.Carry: x.carry,
			routine.Copy: x.copy, routine.Sheet: x.sheet}[s.Action]
		err := do(ctx, s)
		if err == nil {
			continue
		}
		failed = append(failed, fmt.Errorf("%s: %w", s, err))
		if !x.r.Failing.GoOn || errors.Is(err, context.Canceled) || ctx.Err() != nil {
			break
		}
	}
	if len(failed) > 1 {
		return fmt.Errorf("%s: %w", "more than one step failed", errors.Join(failed...))
	}
	return errors.Join(failed...)
}

// wait follows a run and keeps its notes.
func (x *routineRun) wait(r *run.Run) error {
	x.now.Store(r)
	err := x.follow(r)
	x.e.Log = append(x.e.Log, r.Snapshot().Notes...)
	return err
}

type unattendedKey struct{}

// unattended is a context for work that no person began: it doesn't change which case a person has chosen.
func unattended(ctx context.Context) context.Context {
	return context.WithValue(ctx, unattendedKey{}, true)
}

func isUnattended(ctx context.Context) bool { return ctx.Value(unattendedKey{}) != nil }
