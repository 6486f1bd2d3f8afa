package capture

import (
	"context"
	"errors"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/survey"
	"twinshelf/internal/units"
)

func planOf(t *testing.T, machine string, rotational bool, devices ...disk.Device) *Plan {
	t.Helper()
	s, err := shelf.Create(t.Context(), filepath.Join(t.TempDir(), "oak"), store.New{Name: "Oak"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	p := &Plan{Shelf: s, Machine: machine, Tool: "test"}
	for _, d := range devices {
		sv, err := survey.Of(context.Background(), d, nil)
		if err != nil {
			t.Fatal(err)
		}
		p.Sources = append(p.Sources, Source{Survey: sv, Rotational: rotational})
	}
	return p
}

func carryOut(p *Plan) (t *shelf.Twin, err error) {
	err = run.Start(context.Background(), "t", Phases, nil, func(rc *run.Context) (err error) {
		t, err = p.Run(rc)
		return err
	}).Wait()
	return t, err
}

func TestEstimateLearnsFromEarlierTwins(t *testing.T) {
	d := disk.NewMemory(24*units.MiB, 512)
	for i := range d.Bytes {
		d.Bytes[i] = byte(i >> 8)
	}
	clear(d.Bytes[:4096])
	p := planOf(t, "Weighbridge", true, d)
	e, err := p.Estimate(t.Context())
	if err != nil || e.Read != d.Size() || e.Before != 0 || e.Likely != e.Read*6/10 ||
		e.Time != time.Duration(float64(e.Read)/rotatingRate*float64(time.Second)) {
		t.Errorf("%+v %v", e, err)
	}
	for i := range 3 {
		if _, err := carryOut(p); err != nil {
			t.Fatal(err)
		}
		d.Bytes[10*units.MiB+i] ^= 0xFF
		p.Now = p.Now.Add(time.Hour)
	}
	e, err = p.Estimate(t.Context())
	if err != nil || e.Before != 3 || e.Likely > 2*units.MiB {
		t.Errorf("after three twins: %+v %v", e, err)
	}
}

// TestEstimateKnowsWhatIsThere: a machine that was never captured, but whose contents are on the shelf, needs next to
// nothing.
func TestEstimateKnowsWhatIsThere(t *testing.T) {
	d := disk.NewMemory(64*units.MiB, 512)
	r := rand.New(rand.NewPCG(1, 9))
	for i := range d.Bytes {
		d.Bytes[i] = byte(r.Uint32())
	}
	clear(d.Bytes[:4096])
	p := planOf(t, "Weighbridge", false, d)
	if _, err := carryOut(p); err != nil {
		t.Fatal(err)
	}
	half := disk.NewMemory(d.Size(), 512)
	copy(half.Bytes, d.Bytes)
	for i := 32 * units.MiB; i < len(half.Bytes); i++ {
		half.Bytes[i] ^= 0xFF
	}
	for _, c := range []struct {
		of          *disk.Memory
		least, most int64
	}{{d, 0, units.MiB}, {half, 14 * units.MiB, 26 * units.MiB}} {
		other := planOf(t, "Kiosk", false, c.of)
		other.Shelf = p.Shelf
		if err := other.Sample(t.Context()); err != nil {
			t.Fatal(err)
		}
		e, err := other.Estimate(t.Context())
		if err != nil || e.Likely < c.least || e.Likely > c.most {
			t.Errorf("%d bytes are expected (%v)", e.Likely, err)
		}
	}
}

func TestCheckRefusesWhatCantWork(t *testing.T) {
	d := disk.NewMemory(units.MiB, 512)
	p := planOf(t, " ", false, d)
	if err := p.Check(t.Context()); err == nil || !strings.Contains(err.Error(), "no name") {
		t.Errorf("%v", err)
	}
	p = planOf(t, "Kiosk", false)
	if err := p.Check(t.Context()); err == nil || !strings.Contains(err.Error(), "no disk") {
		t.Errorf("%v", err)
	}
	// More than any shelf has room for.
	p = planOf(t, "Kiosk", false, huge{d})
	if err := p.Check(t.Context()); !errors.Is(err, ErrNoRoom) || !strings.Contains(err.Error(), "make room") {
		t.Errorf("%v", err)
	}
	if _, err := carryOut(p); !errors.Is(err, ErrNoRoom) {
		t.Errorf("it began all the same: %v", err)
	}
}

// huge is a disk of 8 EB that reads as a small one.
type huge struct{ *disk.Memory }

func (h huge) Size() int64 { return 8e18 }
func (h huge) ReadAt(p []byte, off int64) (int, error) {
	clear(p)
	if off > 0 && len(p) > 0 {
		p[0] = 1
	}
	return len(p), nil
}

func TestWordsOfTheEstimate(t *testing.T) {
	for _, c := range []struct {
		e    Estimate
		word string
	}{
		{Estimate{Likely: 10, Most: 20, Free: 30}, "it fits, even if"},
		{Estimate{Likely: 10, Most: 20, Free: 15}, "will probably fit"},
		{Estimate{Likely: 10, Most: 20, Free: 5}, "too little room"},
	} {
		if !strings.Contains(c.e.Words(), c.word) {
			t.Errorf("%+v: %s", c.e, c.e.Words())
		}
	}
}
