package disk

import (
	"errors"
	"fmt"
	"sync"
	"time"
)

// ErrStalled is what a read ended with that took too long.
var ErrStalled = errors.New("the drive didn't answer in time")

// Rests of a drive after a read that hung, as shares of the time that it may take: the first, and the longest that they
// grow to. With the usual 30 s they are 1 s and 2 min.
const (
	firstRest   = 1. / 30
	longestRest = 4.
)

// patience limits how long reads of a drive may take. One that takes too long is left to the kernel, which can't be
// made to end it; until it has ended, and the drive has had its rest, no other is begun.
type patience struct {
	limit   time.Duration // 0 for none
	reads   sync.WaitGroup
	buffers sync.Pool // of *[]byte: a read that hangs may write into its own at any time

	mu    sync.Mutex
	hung  <-chan struct{} // closed when the read that hangs has ended; nil for none
	rest  time.Duration   // after the next read that hangs ends
	until time.Time       // the end of the rest
}

// SetPatience has reads of a drive end with ErrStalled when they take longer than limit; 0 has them take as long as
// they take, as at the beginning. Image files but those of failing stand-ins aren't limited. It isn't called while the
// device is read.
func (d *File) SetPatience(limit time.Duration) {
	if d.block || d.at.Load().faults != nil {
		d.patience.limit = limit
	}
}

// limited reads in a thread of its own, and gives up waiting for it when it takes too long.
// p is lent or is never touched later.
func (d *File) limited(p []byte, off int64, lent bool) (int, error) {
	w := &d.patience
	if !w.rested() {
		return 0, fmt.Errorf("%s: read at byte %d: %w", d.Path(), off, ErrStalled)
	}
	b := &p
	if !lent {
		b = w.buffer(len(p))
	}
	var n int
	var err error
	done := make(chan struct{})
	w.reads.Go(func() {
		defer close(done)
		n, err = d.readAt((*b)[:len(p)], off)
	})
	limit := time.NewTimer(w.limit)
	defer limit.Stop()
	select {
	case <-done:
		if !lent {
			copy(p, (*b)[:n])
			w.buffers.Put(b)
		}
		w.wentWell()
		return n, err
	case <-limit.C:
		w.stalled(done)
		return 0, fmt.Errorf("%s: read at byte %d: %w", d.Path(), off, ErrStalled)
	}
}

func (w *patience) buffer(n int) *[]byte {
	if b, ok := w.buffers.Get().(*[]byte); ok && len(*b) >= n {
		return b
	}
	b := Aligned(n)
	return &b
}

// rested waits until no read hangs any more and the drive has had its rest; false when a read hangs too long.
func (w *patience) rested() bool {
	w.mu.Lock()
	hung := w.hung
	w.mu.Unlock()
	if hung != nil {
		limit := time.NewTimer(time.Duration(longestRest * float64(w.limit)))
		defer limit.Stop()
		select {
		case <-hung:
			w.ended(hung)
		case <-limit.C:
			return false
		}
	}
	w.mu.Lock()
	until := w.until
	w.mu.Unlock()
	time.Sleep(time.Until(until))
	return true
}

func (w *patience) stalled(done <-chan struct{}) {
	w.mu.Lock()
	defer w.mu.Unlock()
	limit := float64(w.limit)
	w.hung, w.rest = done, min(time.Duration(longestRest*limit), max(time.Duration(firstRest*limit), 2*w.rest))
}

// ended begins the rest after a read that hung.
func (w *patience) ended(hung <-chan struct{}) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.hung == hung {
		w.hung, w.until = nil, time.Now().Add(w.rest)
	}
}

// wentWell forgets how long the next rest would be.
func (w *patience) wentWell() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.hung == nil {
		w.rest = 0
	}
}

// wait waits, for a moment, until no read is under way. One that hangs in the kernel can't be ended, and is left to it.
func (w *patience) wait() {
	if w.limit == 0 {
		return
	}
	done := make(chan struct{})
	go func() { w.reads.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(time.Second):
	}
}
