package restore

import (
	"context"
	"errors"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/careful"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
)

// hanging is a source that hangs in a stretch, and calls what is wanted at its last hang that counts.
type hanging struct {
	mapped
	dead  span.Span
	hangs int
	last  func()
}

func (h *hanging) ReadAt(p []byte, off int64) (int, error) {
	if !span.At(off, int64(len(p))).Overlaps(h.dead) {
		return h.mapped.ReadAt(p, off)
	}
	if h.hangs++; h.hangs > careful.MostStalls {
		h.last()
	}
	return 0, disk.ErrStalled
}

// TestHangsAreGivenUpOnlyByThemselves: a source that hangs too often is given up, and what it didn't give is missing;
// one that is cancelled at that moment loses nothing: the next run tries all of it.
func TestHangsAreGivenUpOnlyByThemselves(t *testing.T) {
	for _, cancelled := range []bool{false, true} {
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		src := noise(8 << 20)
		h := &hanging{mapped: mapped{src}, dead: span.At(2<<20, 1<<20), last: func() {}}
		if cancelled {
			h.last = cancel
		}
		p := plannedFrom(t, src, h)
		p.Lenient = true
		later := span.Of(span.At(2<<20, 2<<20))
		p.came.Later = later
		h.hangs = 0 // those of the planning don't count
		target := disk.NewMemory(src.Size(), 512)
		err := run.Start(ctx, "t", Phases, nil, func(rc *run.Context) error {
			rc.Rails(src.Size(), src.Size())
			return (&writer{Restore: p, rc: rc, w: target}).again()
		}).Wait()
		switch {
		case cancelled && (!errors.Is(err, context.Canceled) || !p.Missing().Empty() || !p.came.Later.Equal(later)):
			t.Errorf("cancelled: %v, missing %v, later %v", err, p.Missing(), p.came.Later)
		case !cancelled && (err != nil || p.Missing().Empty() || !p.came.Later.Empty()):
			t.Errorf("%v, missing %v, later %v", err, p.Missing(), p.came.Later)
		}
		if h.hangs > careful.MostStalls+1 && !cancelled {
			t.Errorf("it was read %d times", h.hangs)
		}
	}
}
