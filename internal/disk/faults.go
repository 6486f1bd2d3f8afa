package disk

import (
	"fmt"
	"sync"
	"time"

	"twinshelf/internal/span"
)

// Faults are what a stand-in for a failing drive does wrong. All stretches are in bytes.
type Faults struct {
	// Unreadable stretches can't be read; a read of one takes BadSeconds.
	Unreadable span.Set `json:"unreadable,omitzero"`
	BadSeconds float64  `json:"bad_seconds,omitempty"`
	// Weak stretches can't be read but at every WeakEvery-th try.
	Weak      span.Set `json:"weak,omitzero"`
	WeakEvery int      `json:"weak_every,omitempty"`
	// Slow stretches give and take SlowRate bytes a second, however many ask at the same time.
	Slow     span.Set `json:"slow,omitzero"`
	SlowRate int64    `json:"slow_rate,omitempty"`
	// In Stalling stretches a read hangs for StallSeconds and then comes.
	Stalling     span.Set `json:"stalling,omitzero"`
	StallSeconds float64  `json:"stall_seconds,omitempty"`
	// GoneAfter is after how many bytes the drive vanishes, each time that it was attached; 0 for never.
	GoneAfter int64 `json:"gone_after,omitempty"`
	// Wraps is how much room a counterfeit drive really has: what is beyond that is at its start again; 0 for one
	// that has what it says.
	Wraps int64 `json:"wraps,omitempty"`

	mu    sync.Mutex
	read  int64 // bytes, since it was attached
	tries int   // of weak stretches
	pace  pace  // of slow stretches
}

// ahead is for how long a drive reads ahead by itself, and holds what it has to write, while nobody asks for anything.
const ahead = 30 * time.Millisecond

// pace is how far a slow drive is with what it was asked for.
type pace struct {
	next int64     // where the last read or write ended
	free time.Time // when that is done
}

// until says when a read or write is done that takes so long; one that goes on where the last ended has been begun
// already.
func (p *pace) until(sp span.Span, takes time.Duration, now time.Time) time.Time {
	early := now
	if sp.Start == p.next {
		early = now.Add(-ahead)
	}
	if p.free.Before(early) {
		p.free = early
	}
	p.next, p.free = sp.End, p.free.Add(takes)
	return p.free
}

// before says what happens to a read of a stretch, after as long as it takes. Nothing happens to a drive without
// faults.
func (f *Faults) before(sp span.Span) error {
	if f == nil {
		return nil
	}
	if f.vanished(sp.Len()) {
		return fmt.Errorf("read at byte %d: %w", sp.Start, ErrGone)
	}
	if f.Stalling.Overlaps(sp) {
		time.Sleep(seconds(f.StallSeconds))
	}
	f.slowed(sp)
	hit := f.Unreadable.Clip(sp)
	if weak := f.Weak.Clip(sp); !weak.Empty() && !f.weakNow() {
		hit = hit.Union(weak)
	}
	if hit.Empty() {
		return nil
	}
	time.Sleep(seconds(f.BadSeconds))
	return fmt.Errorf("read at byte %d: %w", hit.Bounds().Start, ErrMedium)
}

// slowed returns when a read or write of a stretch would be done by a drive that is slow there.
func (f *Faults) slowed(sp span.Span) {
	if f == nil || f.SlowRate <= 0 {
		return
	}
	slow := f.Slow.Clip(sp).Total()
	if slow == 0 {
		return
	}
	f.mu.Lock()
	until := f.pace.until(sp, seconds(float64(slow)/float64(f.SlowRate)), time.Now())
	f.mu.Unlock()
	time.Sleep(time.Until(until))
}

// wrapped reads or writes p where the drive has it.
func (f *Faults) wrapped(do func(p []byte, off int64) (int, error), p []byte, off int64) (n int, err error) {
	if f == nil || f.Wraps <= 0 {
		return do(p, off)
	}
	for n < len(p) && err == nil {
		at := (off + int64(n)) % f.Wraps
		var done int
		done, err = do(p[n:min(int64(len(p)), int64(n)+f.Wraps-at)], at)
		n += done
	}
	return n, err
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

func (f *Faults) vanished(n int64) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.read += n
	return f.GoneAfter > 0 && f.read > f.GoneAfter
}

func (f *Faults) weakNow() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.tries++
	return f.WeakEvery > 0 && f.tries%f.WeakEvery == 0
}
