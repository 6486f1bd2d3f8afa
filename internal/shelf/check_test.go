package shelf

import (
	"bytes"
	"context"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/span"
)

func checkedFull(t testing.TB, s *Shelf, mend bool) *Report {
	t.Helper()
	rep, err := s.Check(context.Background(), CheckKind{Share: 1, Mend: mend}, nil)
	if err != nil {
		t.Fatal(err)
	}
	return rep
}

func onlyPack(t testing.TB, s *Shelf) string {
	t.Helper()
	names, err := s.b.List("packs")
	if err != nil || len(names) != 1 {
		t.Fatalf("%v %v", names, err)
	}
	return s.b.(folder).path("packs/" + names[0])
}

// TestMending hurts a pack in every way that parity reaches, and in some that it doesn't.
func TestMending(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 2))
	for _, make := range []func(testing.TB) *Shelf{newTest, newSealed} {
		blocks := content(150, 1)
		s := make(t)
		tw := commit(t, s, "Kiosk", blocks)
		pack := onlyPack(t, s)
		whole, err := os.ReadFile(pack)
		if err != nil {
			t.Fatal(err)
		}
		sh := shapeOf(int64(len(whole)), DefaultParity)
		for what, c := range map[string]struct {
			hurt   func(b []byte) []byte
			beyond bool
		}{
			"a bit":          {func(b []byte) []byte { b[len(b)/2] ^= 4; return b }, false},
			"the header":     {func(b []byte) []byte { clear(b[:headerLen]); return b }, false},
			"the table":      {func(b []byte) []byte { clear(b[len(b)-2000:]); return b }, false},
			"a sector":       {func(b []byte) []byte { clear(b[100_000:104_096]); return b }, false},
			"a cut tail":     {func(b []byte) []byte { return b[:len(b)-cellLen*sh.groups*sh.parity+cellLen] }, false},
			"longer":         {func(b []byte) []byte { return append(b, 1, 2, 3) }, false},
			"a stretch":      {func(b []byte) []byte { clear(b[cellLen*5 : cellLen*(5+sh.groups*sh.parity)]); return b }, false},
			"a long stretch": {func(b []byte) []byte { clear(b[cellLen*5 : cellLen*(7+sh.groups*(sh.parity+1))]); return b }, true},
			"half of it":     {func(b []byte) []byte { return b[:len(b)/2] }, true},
		} {
			if err := os.WriteFile(pack, c.hurt(bytes.Clone(whole)), 0o600); err != nil {
				t.Fatal(err)
			}
			if rep := checkedFull(t, unsealed(t, s, phrase), false); rep.Sound() {
				t.Errorf("%s: not found", what)
			}
			rep := checkedFull(t, unsealed(t, s, phrase), true)
			now, _ := os.ReadFile(pack)
			switch {
			case !c.beyond && (!rep.Sound() || len(rep.Mended) != 1 || !bytes.Equal(now, whole)):
				t.Errorf("%s: not mended: %+v", what, rep)
			case c.beyond && (rep.Sound() || len(rep.Damage) == 0):
				t.Errorf("%s: %+v", what, rep)
			case c.beyond && (rep.Damage[0].Machine != "Kiosk" || rep.Damage[0].Twin != tw.ID || rep.Damage[0].Disk != 1 || !strings.Contains(rep.Damage[0].String(), "part 0")):
				t.Errorf("%s: %v", what, rep.Damage[0])
			}
			if err := os.WriteFile(pack, whole, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		// Random flipped bits, one cell at a time.
		for range 20 {
			b := bytes.Clone(whole)
			at := r.IntN(len(b) - 64)
			for i := range 64 {
				b[at+i] ^= byte(r.Uint32())
			}
			os.WriteFile(pack, b, 0o600)
			if rep := checkedFull(t, unsealed(t, s, phrase), true); !rep.Sound() {
				t.Errorf("at %d: %+v", at, rep)
			}
		}
		holds(t, unsealed(t, s, phrase), tw, blocks)
		// The parity itself is made anew.
		flip(t, strings.NewReplacer("/packs/", "/parity/", ".pack", ".parity").Replace(pack), headerLen+100)
		if rep := checkedFull(t, s, true); !rep.Sound() || len(rep.Mended) != 1 {
			t.Errorf("%+v", rep)
		}
		if rep := checkedFull(t, s, false); !rep.Sound() || !rep.Whole || rep.Packs != 1 || time.Since(rep.Oldest) > time.Hour {
			t.Errorf("%+v", rep)
		}
		flip(t, s.b.(folder).path("head"), 200)
		if rep := checkedFull(t, unsealed(t, s, phrase), true); len(rep.Mended) != 1 || len(rep.Damage) != 0 {
			t.Errorf("head: %+v", rep)
		}
	}
}

// TestRefill: what is beyond parity comes from another shelf, or with the next capture.
func TestRefill(t *testing.T) {
	blocks := content(60, 1)
	s, other := newTest(t), newSealed(t)
	tw := commit(t, s, "Kiosk", blocks)
	copied, err := Carry(context.Background(), s, other, []*Twin{tw}, nil)
	if err != nil || copied.Twins != 1 {
		t.Fatalf("%+v %v", copied, err)
	}
	pack := onlyPack(t, s)
	hurt := func() *Report {
		b, err := os.ReadFile(pack)
		if err != nil {
			t.Fatal(err)
		}
		clear(b[300_000:2_000_000])
		if err := os.WriteFile(pack, b, 0o600); err != nil {
			t.Fatal(err)
		}
		os.Remove(strings.NewReplacer("/packs/", "/parity/", ".pack", ".parity").Replace(pack))
		rep := checkedFull(t, s, true)
		if rep.Lost < 5 {
			t.Fatalf("%+v", rep)
		}
		return rep
	}
	rep := hurt()
	n, err := s.Refill(context.Background(), other, rep)
	if err != nil || n != rep.Lost {
		t.Fatalf("%d of %d: %v", n, rep.Lost, err)
	}
	holds(t, reopen(t, s), tw, blocks)
	// Even the block maps can be had back.
	b, err := os.ReadFile(pack)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(pack, b[:200_000], 0o600); err != nil {
		t.Fatal(err)
	}
	if n, err := s.Refill(context.Background(), other, checkedFull(t, s, true)); n < 10 || err != nil {
		t.Fatalf("%d: %v", n, err)
	}
	holds(t, reopen(t, s), tw, blocks)
	if n, err := s.Refill(context.Background(), newTest(t), &Report{Damage: []Damage{{Twin: tw.ID, Disk: 1, Span: span.Span{End: 1 << 30}}}}); n != 0 || err != nil {
		t.Errorf("from a shelf without the twin: %d %v", n, err)
	}
	// The next capture of the same machine.
	s2 := newTest(t)
	tw2 := commit(t, s2, "Kiosk", blocks)
	s, pack = s2, onlyPack(t, s2)
	if err := s.ForgetHurt(hurt()); err != nil {
		t.Fatal(err)
	}
	next := commit(t, s, "Kiosk", blocks)
	holds(t, reopen(t, s), next, blocks)
	holds(t, reopen(t, s), tw2, blocks)
}

// TestCheckInShares: a share each time reads everything in the end, the oldest first.
func TestCheckInShares(t *testing.T) {
	s := newTest(t)
	for i := range uint64(10) {
		commit(t, s, "Kiosk", content(20, i))
	}
	total := 0
	for range 10 {
		rep, err := s.Check(context.Background(), CheckKind{Share: 0.1}, nil)
		if err != nil || !rep.Sound() || rep.Packs == 0 || rep.Packs > 2 {
			t.Fatalf("%+v %v", rep, err)
		}
		total += rep.Packs
	}
	var was checked
	if _, err := s.readNote(checkedFile, &was); err != nil || len(was.Read) != 10 || total < 10 {
		t.Errorf("%d packs were read in %d readings: %v", len(was.Read), total, err)
	}
	// Stopped in the middle it goes on where it was.
	stop := errors.New("stop")
	n := 0
	if _, err := s.Check(context.Background(), CheckKind{Share: 1}, func(int64, int64) error {
		if n++; n == 4 {
			return stop
		}
		return nil
	}); !errors.Is(err, stop) {
		t.Fatal(err)
	}
	later := was
	if _, err := s.readNote(checkedFile, &later); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := s.Check(ctx, CheckKind{Share: 1}, nil); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	quick, err := s.Check(context.Background(), CheckKind{}, nil)
	if err != nil || quick.Bytes != 0 || !quick.Sound() {
		t.Errorf("%+v %v", quick, err)
	}
	names, _ := s.b.List("packs")
	if err := os.Remove(filepath.Join(s.Place(), "packs", names[3])); err != nil {
		t.Fatal(err)
	}
	if rep := checkedFull(t, s, true); rep.Sound() || len(rep.Damage) == 0 {
		t.Errorf("a pack is gone: %+v", rep)
	}
}

func FuzzParity(f *testing.F) {
	s, err := Create(filepath.Join(f.TempDir(), "oak"), "Oak", 64<<10)
	if err != nil {
		f.Fatal(err)
	}
	commit(f, s, "Kiosk", content(3, 1))
	names, _ := s.b.List("parity")
	b, err := os.ReadFile(s.b.(folder).path("parity/" + names[0]))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b[:headerLen+500])
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		if p, err := readParity("parity", memory{bytes.NewReader(b)}); err == nil {
			p.hurt(nothing{})
			_ = p.mend(nothing{}, &bytes.Buffer{})
		}
	})
}
