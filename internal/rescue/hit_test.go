package rescue_test

import (
	"strings"
	"sync/atomic"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/inside"
	"twinshelf/internal/rescue"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
)

// watched lets a look be taken at every read.
type watched struct {
	disk.Device
	look func()
}

func (w *watched) ReadAt(p []byte, off int64) (int, error) {
	w.look()
	return w.Device.ReadAt(p, off)
}

// TestHitFilesAreToldMeanwhile: while the work goes on it is said which files are hit so far; what is got later is
// taken back.
func TestHitFilesAreToldMeanwhile(t *testing.T) {
	img := crane(t)
	where, err := inside.Lying(t.Context(), opened(t, img), 0, []string{"2:lifts/01/log-01.dat",
		"2:lifts/02/log-22.dat"})
	if err != nil || where[0].Files != 1 || where[1].Files != 1 {
		t.Fatalf("%+v, %v", where, err)
	}
	// The neighbourhood of a bad place is doubtful at first: more files are hit then than at the end.
	bad := span.Of(span.At(where[1].Where.Bounds().Start+4096, 4096))
	var r atomic.Pointer[run.Run]
	told := map[string]bool{}
	d := &watched{Device: &dying{Device: plain{opened(t, img)}, bad: bad}}
	d.look = func() {
		if now := r.Load(); now != nil {
			told[strings.Join(now.Snapshot().Found, "\n")] = true
		}
	}
	p := planOf(newShelf(t), d)
	begin := make(chan struct{})
	begun := run.Start(t.Context(), "Rescue", rescue.Phases, nil, func(rc *run.Context) error {
		<-begin
		_, err := p.Run(rc)
		return err
	})
	r.Store(begun)
	close(begin)
	if err := begun.Wait(); err != nil {
		t.Fatal(err)
	}
	meanwhile := 0
	for s := range told {
		if strings.Contains(s, "so far: ") && strings.Contains(s, "2:lifts/02/log-22.dat") {
			meanwhile++
		}
	}
	notes := strings.Join(begun.Snapshot().Notes, "\n")
	if meanwhile == 0 || len(begun.Snapshot().Found) > 0 ||
		!strings.Contains(notes, "1 file hit: 2:lifts/02/log-22.dat (4.10 kB)") {
		t.Errorf("meanwhile %d times, at the end %q; all of it: %v", meanwhile, notes, told)
	}
}
