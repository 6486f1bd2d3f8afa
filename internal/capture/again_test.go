package capture

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/careful"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/survey"
	"twinshelf/internal/testkit"
)

// captured captures a drive, and gives what was noted.
func captured(t *testing.T, p *Plan) (notes string) {
	t.Helper()
	r := run.Start(context.Background(), "t", Phases, nil, func(rc *run.Context) error {
		_, err := p.Run(rc)
		return err
	})
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	return strings.Join(r.Snapshot().Notes, "\n")
}

// TestBadPlacesAreComeBackTo: what lies near bad places is jumped over and read at the end, so that just these are
// missing; a drive that hangs again and again is given up there, and everything else is kept.
func TestBadPlacesAreComeBackTo(t *testing.T) {
	m := filledKiosk(t)
	const at = 24 << 20
	bad := span.Of(span.At(at+4096, 4096), span.At(at+300<<10, 8192), span.At(at+700<<10, 4096))
	for name, c := range map[string]struct {
		faults *disk.Faults
		most   int64
		says   string
	}{
		"bad":     {&disk.Faults{Unreadable: bad}, bad.Total(), "can't be read"},
		"hanging": {&disk.Faults{Stalling: bad, StallSeconds: 0.25}, 1 << 20, "the drive hung"},
	} {
		t.Run(name, func(t *testing.T) {
			d := testkit.StandIn(t, m.Bytes, c.faults)
			s := oak(t)
			sv, err := survey.Of(t.Context(), d, nil)
			if err != nil {
				t.Fatal(err)
			}
			d.SetPatience(100 * time.Millisecond)
			notes := captured(t, &Plan{Shelf: s, Machine: "Harbour kiosk", Tool: "test",
				Sources: []Source{{Survey: sv}}})
			if !strings.Contains(notes, c.says) {
				t.Errorf("it says %q", notes)
			}
			twins, failed := s.Twins(t.Context())
			if len(failed) > 0 || len(twins) != 1 {
				t.Fatal(failed)
			}
			missing := twins[0].Disks[0].Missing
			if n := missing.Total(); n < bad.Total() || n > c.most || !bad.Subtract(missing).Empty() {
				t.Errorf("%d bytes are missing: %v", n, missing)
			}
			holds(t, s, twins[0], m, missing)
		})
	}
}

// TestBudget: a drive may hang so often and no oftener, what is bad costs nothing, and what is gone ends the work.
func TestBudget(t *testing.T) {
	var b careful.Budget
	var failed *careful.Failed
	for range careful.MostStalls {
		if err := b.Failed(512, disk.ErrMedium); !errors.As(err, &failed) || failed.At != 512 {
			t.Errorf("a bad place: %v", err)
		}
		if err := b.Failed(512, disk.ErrStalled); !errors.As(err, &failed) || b.Spent() {
			t.Errorf("a read that hangs: %v", err)
		}
	}
	if err := b.Failed(512, disk.ErrStalled); errors.As(err, &failed) || !b.Spent() {
		t.Errorf("one read more: %v", err)
	}
	if err := b.Failed(512, disk.ErrGone); errors.As(err, &failed) || !disk.Gone(err) {
		t.Errorf("a drive that is gone: %v", err)
	}
}
