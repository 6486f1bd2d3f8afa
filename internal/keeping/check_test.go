package keeping

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
)

func checkedFull(t testing.TB, s *shelf.Shelf, mend bool) *Report {
	t.Helper()
	rep, err := Check(t.Context(), s, CheckKind{Share: 1, Mend: mend}, nil)
	if err != nil {
		t.Fatal(err)
	}
	return rep
}

func onlyPack(t testing.TB, s *shelf.Shelf) string {
	t.Helper()
	names := shelftest.List(t, s, "packs")
	if len(names) != 1 {
		t.Fatalf("%v", names)
	}
	return filepath.Join(s.Place(), "packs/"+names[0])
}

// cellLen is the length of a cell of parity, in bytes.
const cellLen = 64 << 10

// parityOf is the parity file of a pack.
func parityOf(pack string) string {
	return strings.NewReplacer("/packs/", "/parity/", ".pack", ".parity").Replace(pack)
}

// cutInto says into how many groups a pack is cut, and how many cells of parity each has, by its parity file.
func cutInto(t testing.TB, pack string) (groups, parity int) {
	t.Helper()
	b, err := os.ReadFile(parityOf(pack))
	if err != nil {
		t.Fatal(err)
	}
	le := binary.LittleEndian
	return int(le.Uint32(b[store.HeaderLen+8:])), int(le.Uint32(b[store.HeaderLen+12:]))
}

// TestMending hurts a pack in every way that parity reaches, and in some that it doesn't.
func TestMending(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 2))
	for _, make := range []func(testing.TB) *shelf.Shelf{shelftest.New, shelftest.NewSealed} {
		blocks := shelftest.Content(150, 1)
		s := make(t)
		tw := shelftest.Commit(t, s, "Kiosk", blocks)
		pack := onlyPack(t, s)
		whole, err := os.ReadFile(pack)
		if err != nil {
			t.Fatal(err)
		}
		groups, parity := cutInto(t, pack)
		for what, c := range map[string]struct {
			hurt   func(b []byte) []byte
			beyond bool
		}{
			"a bit":      {func(b []byte) []byte { b[len(b)/2] ^= 4; return b }, false},
			"the header": {func(b []byte) []byte { clear(b[:store.HeaderLen]); return b }, false},
			"the table":  {func(b []byte) []byte { clear(b[len(b)-2000:]); return b }, false},
			"a sector":   {func(b []byte) []byte { clear(b[100_000:104_096]); return b }, false},
			"a cut tail": {func(b []byte) []byte { return b[:len(b)-cellLen*groups*parity+cellLen] }, false},
			"longer":     {func(b []byte) []byte { return append(b, 1, 2, 3) }, false},
			"a stretch": {func(b []byte) []byte {
				clear(b[cellLen*5 : cellLen*(5+groups*parity)])
				return b
			}, false},
			"a long stretch": {func(b []byte) []byte {
				clear(b[cellLen*5 : cellLen*(7+groups*(parity+1))])
				return b
			}, true},
			"half of it": {func(b []byte) []byte { return b[:len(b)/2] }, true},
		} {
			if err := os.WriteFile(pack, c.hurt(bytes.Clone(whole)), 0o600); err != nil {
				t.Fatal(err)
			}
			if rep := checkedFull(t, shelftest.Reopen(t, s), false); rep.Sound() {
				t.Errorf("%s: not found", what)
			}
			rep := checkedFull(t, shelftest.Reopen(t, s), true)
			now, _ := os.ReadFile(pack)
			switch {
			case !c.beyond && (!rep.Sound() || len(rep.Mended) != 1 || !bytes.Equal(now, whole)):
				t.Errorf("%s: not mended: %+v", what, rep)
			case c.beyond && (rep.Sound() || len(rep.Damage) == 0):
				t.Errorf("%s: %+v", what, rep)
			case c.beyond &&
				(rep.Damage[0].Machine != "Kiosk" || rep.Damage[0].Twin != tw.ID || rep.Damage[0].Disk != 1 ||
					!strings.Contains(rep.Damage[0].String(), "part 0")):
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
			if rep := checkedFull(t, shelftest.Reopen(t, s), true); !rep.Sound() {
				t.Errorf("at %d: %+v", at, rep)
			}
		}
		shelftest.Holds(t, shelftest.Reopen(t, s), tw, blocks)
		// The parity itself is made anew.
		shelftest.Flip(t, parityOf(pack), store.HeaderLen+100)
		if rep := checkedFull(t, s, true); !rep.Sound() || len(rep.Mended) != 1 {
			t.Errorf("%+v", rep)
		}
		if rep := checkedFull(t, s, false); !rep.Sound() || !rep.Whole || rep.Packs != 1 ||
			time.Since(rep.Oldest) > time.Hour {
			t.Errorf("%+v", rep)
		}
		shelftest.Flip(t, filepath.Join(s.Place(), "head"), 200)
		if rep := checkedFull(t, shelftest.Reopen(t, s), true); len(rep.Mended) != 1 || len(rep.Damage) != 0 {
			t.Errorf("head: %+v", rep)
		}
	}
}

// TestRefill: what is beyond parity comes from another shelf, or with the next capture.
func TestRefill(t *testing.T) {
	blocks := shelftest.Content(60, 1)
	s, other := shelftest.New(t), shelftest.NewSealed(t)
	tw := shelftest.Commit(t, s, "Kiosk", blocks)
	copied, err := Carry(t.Context(), s, other, []*shelf.Twin{tw}, nil)
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
		os.Remove(parityOf(pack))
		rep := checkedFull(t, s, true)
		if rep.Lost < 5 {
			t.Fatalf("%+v", rep)
		}
		return rep
	}
	rep := hurt()
	n, _, err := Refill(t.Context(), s, other, rep)
	if err != nil || n != rep.Lost {
		t.Fatalf("%d of %d: %v", n, rep.Lost, err)
	}
	shelftest.Holds(t, shelftest.Reopen(t, s), tw, blocks)
	// Even the block maps can be had back.
	b, err := os.ReadFile(pack)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(pack, b[:200_000], 0o600); err != nil {
		t.Fatal(err)
	}
	if n, _, err := Refill(t.Context(), s, other, checkedFull(t, s, true)); n < 10 || err != nil {
		t.Fatalf("%d: %v", n, err)
	}
	shelftest.Holds(t, shelftest.Reopen(t, s), tw, blocks)
	if n, _, err := Refill(t.Context(), s, shelftest.New(t),
		&Report{Damage: []Damage{{Twin: tw.ID, Disk: 1, Span: span.Span{End: 1 << 30}}}}); n != 0 || err != nil {
		t.Errorf("from a shelf without the twin: %d %v", n, err)
	}
	// The next capture of the same machine.
	s2 := shelftest.New(t)
	tw2 := shelftest.Commit(t, s2, "Kiosk", blocks)
	s, pack = s2, onlyPack(t, s2)
	if err := ForgetHurt(t.Context(), s, hurt()); err != nil {
		t.Fatal(err)
	}
	next := shelftest.Commit(t, s, "Kiosk", blocks)
	shelftest.Holds(t, shelftest.Reopen(t, s), next, blocks)
	shelftest.Holds(t, shelftest.Reopen(t, s), tw2, blocks)
}

// TestCheckInShares: a share each time reads everything in the end, the oldest first.
func TestCheckInShares(t *testing.T) {
	s := shelftest.New(t)
	for i := range uint64(10) {
		shelftest.Commit(t, s, "Kiosk", shelftest.Content(20, i))
	}
	total := 0
	for range 10 {
		rep, err := Check(t.Context(), s, CheckKind{Share: 0.1}, nil)
		if err != nil || !rep.Sound() || rep.Packs == 0 || rep.Packs > 2 {
			t.Fatalf("%+v %v", rep, err)
		}
		total += rep.Packs
	}
	if was := reads(t, s); len(was.Read) != 10 || total < 10 {
		t.Errorf("%d packs were read in %d readings", len(was.Read), total)
	}
	// Stopped in the middle it goes on where it was.
	stop := errors.New("stop")
	n := 0
	if _, err := Check(t.Context(), s, CheckKind{Share: 1}, func(int64, int64) error {
		if n++; n == 4 {
			return stop
		}
		return nil
	}); !errors.Is(err, stop) {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := Check(ctx, s, CheckKind{Share: 1}, nil); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	quick, err := Check(t.Context(), s, CheckKind{}, nil)
	if err != nil || quick.Bytes != 0 || !quick.Sound() {
		t.Errorf("%+v %v", quick, err)
	}
	names := shelftest.List(t, s, "packs")
	if err := os.Remove(filepath.Join(s.Place(), "packs", names[3])); err != nil {
		t.Fatal(err)
	}
	if rep := checkedFull(t, s, true); rep.Sound() || len(rep.Damage) == 0 {
		t.Errorf("a pack is gone: %+v", rep)
	}
}

// TestRefillSaysWhatItPassed: a twin of the other shelf that can't be read may have what is missing, so it is named.
func TestRefillSaysWhatItPassed(t *testing.T) {
	s, other := shelftest.New(t), shelftest.New(t)
	tw := shelftest.Commit(t, s, "Kiosk", shelftest.Content(6, 1))
	if _, err := Carry(t.Context(), s, other, []*shelf.Twin{tw}, nil); err != nil {
		t.Fatal(err)
	}
	shelftest.FlipBoth(t, other, shelftest.TwinFile(t, other, tw.ID), 40)
	n, passed, err := Refill(t.Context(), s, shelftest.Reopen(t, other),
		&Report{Damage: []Damage{{Twin: tw.ID, Disk: 1, Span: span.Span{End: 1 << 30}}}})
	if n != 0 || err != nil || len(passed) != 1 || !strings.Contains(passed[0], "passed over") {
		t.Errorf("%d, %q, %v", n, passed, err)
	}
}
