package capture

import (
	"bytes"
	"math/rand/v2"
	"syscall"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys/fsystest"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
	"twinshelf/internal/store/backend/backendtest"
	"twinshelf/internal/survey"
)

// filledKiosk is a small disk whose unused room holds things that nobody needs.
func filledKiosk(t *testing.T) *disk.Memory {
	t.Helper()
	m := fsystest.Kiosk(t)
	r := rand.New(rand.NewPCG(13, 1))
	for i := 24 << 20; i < 25<<20; i++ { // after the parts, where all counts
		m.Bytes[i] = byte(r.Uint32())
	}
	return m
}

func onto(t *testing.T, s *shelf.Shelf, d disk.Device) (*shelf.Twin, error) {
	t.Helper()
	sv, err := survey.Of(t.Context(), d, nil)
	if err != nil {
		t.Fatal(err)
	}
	return carryOut(&Plan{Shelf: s, Machine: "Harbour kiosk", Tool: "test", Sources: []Source{{Survey: sv}}})
}

// holds compares a twin with what was captured, where it was used.
func holds(t *testing.T, s *shelf.Shelf, twin *shelf.Twin, d *disk.Memory, but span.Set) {
	t.Helper()
	got, err := s.OpenDisk(t.Context(), twin, 0)
	if err != nil {
		t.Fatal(err)
	}
	sv, err := survey.Of(t.Context(), d, nil)
	if err != nil {
		t.Fatal(err)
	}
	for p, err := range sv.Mapped().Pieces() {
		if err != nil {
			t.Fatal(err)
		}
		if p.Kind == disk.Undefined || but.Overlaps(p.Span) {
			continue
		}
		b := make([]byte, p.Len())
		if err := disk.ReadFull(got, b, p.Start); err != nil || !bytes.Equal(b, d.Bytes[p.Start:p.End]) {
			t.Fatalf("%v isn't what was captured: %v", p.Span, err)
		}
	}
}

// TestShelfThatFails: whichever call of the shelf's ground fails, and whether it happened all the same, a capture
// either says so or its twin is whole; nothing else is ever listed, and the next capture goes well.
func TestShelfThatFails(t *testing.T) {
	d := filledKiosk(t)
	failed, whole := 0, 0
	for call := 1; call <= 60; call++ {
		r := rand.New(rand.NewPCG(13, uint64(call)))
		b := backendtest.NewStorm(r)
		first, err := shelf.CreateAt(t.Context(), b.Process(), store.New{Name: "Oak", BlockSize: 64 << 10})
		if err != nil {
			t.Fatal(err)
		}
		first.Close()
		s, err := shelf.OpenAt(t.Context(), b.Process(), nil)
		if err != nil {
			t.Fatal(err)
		}
		s.LimitPacks(300 << 10)
		w := backendtest.Weather{FailAt: call, Err: []error{syscall.EIO, syscall.ENOSPC}[call%2]}
		if call%3 == 0 {
			w = backendtest.Weather{HappenAt: 1 + call/3}
		}
		b.Set(w)
		_, err = onto(t, s, d)
		b.Set(backendtest.Weather{})
		again, problem := shelf.OpenAt(t.Context(), b.Process(), nil)
		if problem != nil {
			t.Fatalf("call %d: %v", call, problem)
		}
		twins, problems := again.Twins(t.Context())
		if len(problems) > 0 || err == nil && len(twins) != 1 {
			t.Fatalf("call %d: %d twins, %v, after %v", call, len(twins), problems, err)
		}
		if err != nil {
			failed++
		}
		for _, tw := range twins {
			whole++
			holds(t, again, tw, d, span.Set{})
		}
		s.Close()
		next, problem := onto(t, again, d)
		if problem != nil {
			t.Fatalf("call %d: the next capture: %v", call, problem)
		}
		holds(t, again, next, d, span.Set{})
		again.Close()
	}
	if failed < 5 || whole < 5 {
		t.Errorf("%d captures failed, %d twins were whole: the calls aren't where they were", failed, whole)
	}
}

// TestSourceThatFails: what can't be read is named in the twin, to the step, and everything else is there.
func TestSourceThatFails(t *testing.T) {
	r := rand.New(rand.NewPCG(13, 2))
	for range 8 {
		d := filledKiosk(t)
		p := planOf(t, "Harbour kiosk", false, d)
		var bad span.Set
		for range 1 + r.IntN(3) {
			bad.Add(span.At(24<<20+r.Int64N(1<<20-512), 1+r.Int64N(512)))
		}
		sv := *p.Sources[0].Survey
		sv.Device = &disk.Faulty{Writable: d, BadRead: bad}
		p.Sources[0].Survey = &sv
		twin, err := carryOut(p)
		if err != nil {
			t.Fatal(err)
		}
		missing := twin.Disks[0].Missing
		for sp := range bad.All() {
			if !missing.Covers(sp) {
				t.Errorf("%v can't be read, and only %v are named", sp, missing)
			}
		}
		if n := missing.Total(); n > int64(bad.Count())*2*4096 {
			t.Errorf("%d bytes are named for %v", n, bad)
		}
		holds(t, p.Shelf, twin, d, missing)
	}
}
