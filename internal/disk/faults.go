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
	// Slow stretches give SlowRate bytes a second.
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
	if slow := f.Slow.Clip(sp).Total(); slow > 0 && f.SlowRate > 0 {
		time.Sleep(seconds(float64(slow) / float64(f.SlowRate)))
	}
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
