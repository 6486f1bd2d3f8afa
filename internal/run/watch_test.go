package run

import (
	"context"
	"sync/atomic"
	"testing"
	"time"
)

// TestWatch: what the work waits for is said while it does, and no longer.
func TestWatch(t *testing.T) {
	var hangs atomic.Bool
	said := func(r *Run, want string) bool {
		for range 500 {
			if r.Snapshot().Waits == want {
				return true
			}
			time.Sleep(2 * time.Millisecond)
		}
		return false
	}
	begun, end := make(chan struct{}), make(chan struct{})
	r := Start(context.Background(), "t", nil, nil, func(c *Context) error {
		stop := c.watch(func() string {
			if hangs.Load() {
				return "the drive doesn't answer"
			}
			return ""
		}, time.Millisecond)
		close(begun)
		<-end
		stop()
		return nil
	})
	<-begun
	hangs.Store(true)
	if !said(r, "the drive doesn't answer") {
		t.Error("nothing is said while it hangs")
	}
	hangs.Store(false)
	if !said(r, "") {
		t.Error("it is still said")
	}
	hangs.Store(true)
	if !said(r, "the drive doesn't answer") {
		t.Error("nothing is said the second time")
	}
	close(end)
	if err := r.Wait(); err != nil || r.Snapshot().Waits != "" {
		t.Errorf("%v; at the end it waits: %q", err, r.Snapshot().Waits)
	}
}
