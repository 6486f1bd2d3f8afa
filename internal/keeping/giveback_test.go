package keeping

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store"
	"twinshelf/internal/testkit"
)

func gaveBack(t testing.TB, s *shelf.Shelf, dry bool) Freed {
	t.Helper()
	do := GiveBack
	if dry {
		do = func(ctx context.Context, s *shelf.Shelf, _ store.Step) (Freed, error) { return Foreknow(ctx, s) }
	}
	f, err := do(t.Context(), s, nil)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

func sizeOf(t testing.TB, s *shelf.Shelf) int64 {
	t.Helper()
	n := int64(0)
	for _, f := range files(t, s) {
		st, err := os.Stat(f)
		if err != nil {
			t.Fatal(err)
		}
		n += st.Size()
	}
	return n
}

func TestDiscardAndGiveBack(t *testing.T) {
	for _, make := range []func(testing.TB) *shelf.Shelf{shelftest.New, shelftest.NewSealed} {
		s := make(t)
		first, second, third := shelftest.Content(60, 1), shelftest.Content(60, 2), shelftest.Content(60, 3)
		shared := append(append([][]byte{}, first[:30]...), second[:30]...)
		a, b, c := shelftest.Commit(t, s, "Kiosk", first), shelftest.Commit(t, s, "Kiosk", shared),
			shelftest.Commit(t, s, "Ticket desk", third)
		reader := shelftest.Reopen(t, s) // opened before, reads on
		shelftest.Holds(t, reader, b, shared)
		if f := gaveBack(t, s, false); f.Bytes != 0 || f.Unneeded != 0 || f.Removed != 0 {
			t.Errorf("nothing is unneeded: %+v", f)
		}
		if err := s.Keep(t.Context(), a.ID, "as it came"); err != nil {
			t.Fatal(err)
		}
		if err := s.Discard(t.Context(), a, "tidying"); err == nil || !strings.Contains(err.Error(), "as it came") {
			t.Errorf("kept for ever: %v", err)
		}
		if err := errors.Join(s.Unkeep(t.Context(), a.ID), s.Discard(t.Context(), a, "tidying"),
			s.Discard(t.Context(), c, "machine was scrapped")); err != nil {
			t.Fatal(err)
		}
		before := sizeOf(t, s)
		dry := gaveBack(t, s, true)
		if sizeOf(t, s) != before {
			t.Error("a dry run changed something")
		}
		did := gaveBack(t, s, false)
		if dry != did || did.Removed != 1 || did.Rewritten != 1 || did.Bytes == 0 {
			t.Errorf("said %+v, did %+v", dry, did)
		}
		if came := before - sizeOf(t, s); came < did.Bytes/2 || came > 2*did.Bytes+1<<20 {
			t.Errorf("%d bytes came back, said %d", came, did.Bytes)
		}
		shelftest.Holds(t, s, b, shared)
		shelftest.Holds(t, reader, b, shared)
		shelftest.Holds(t, shelftest.Reopen(t, s), b, shared)
		if twins, _ := s.Twins(t.Context()); len(twins) != 1 {
			t.Errorf("%d twins", len(twins))
		}
		events, _ := s.Journal(t.Context())
		if len(events) != 3 || events[0].What != "gave back space" || events[1].Why != "machine was scrapped" ||
			events[2].Twin != a.ID {
			t.Errorf("%+v", events)
		}
		if f := gaveBack(t, s, false); f.Bytes != 0 {
			t.Errorf("a second time: %+v", f)
		}
		d := shelftest.Commit(t, s, "Kiosk", first) // what came back is stored again
		shelftest.Holds(t, shelftest.Reopen(t, s), d, first)
		if rep, err := Check(t.Context(), s, CheckKind{Share: 1}, nil); err != nil || !rep.Sound() {
			t.Errorf("%v %+v", err, rep)
		}
	}
}

func TestGiveBackWhenUnsure(t *testing.T) {
	s := shelftest.New(t)
	a, b := shelftest.Commit(t, s, "Kiosk", shelftest.Content(20, 1)),
		shelftest.Commit(t, s, "Kiosk", shelftest.Content(20, 2))
	if err := s.Discard(t.Context(), a, "x"); err != nil {
		t.Fatal(err)
	}
	shelftest.FlipBoth(t, s, shelftest.TwinFile(t, s, b.ID), 200)
	before := sizeOf(t, s)
	if _, err := GiveBack(t.Context(), s, nil); !errors.Is(err, ErrUnsure) {
		t.Errorf("with a twin that can't be read: %v", err)
	}
	if sizeOf(t, s) < before {
		t.Error("something was removed")
	}
	c := shelftest.Begin(t, s, "Kiosk")
	if _, err := GiveBack(t.Context(), s, nil); !errors.Is(err, store.ErrBusy) {
		t.Errorf("beside a capture: %v", err)
	}
	c.Abort(t.Context())
}

// TestGiveBackStopped: whatever step it is stopped at, the twins are whole and a later one ends it.
func TestGiveBackStopped(t *testing.T) {
	stop := errors.New("stopped")
	for at := 1; at < 30; at += 4 {
		s := shelftest.New(t)
		first, second := shelftest.Content(60, 1), shelftest.Content(60, 2)
		shared := append(append([][]byte{}, first[:30]...), second[:30]...)
		a, b := shelftest.Commit(t, s, "Kiosk", first), shelftest.Commit(t, s, "Kiosk", shared)
		if err := s.Discard(t.Context(), a, "x"); err != nil {
			t.Fatal(err)
		}
		n := 0
		_, err := GiveBack(t.Context(), s, func(int64, int64) error {
			if n++; n == at {
				return stop
			}
			return nil
		})
		if !errors.Is(err, stop) {
			t.Fatalf("step %d: %v", at, err)
		}
		shelftest.Holds(t, shelftest.Reopen(t, s), b, shared)
		gaveBack(t, s, false)
		shelftest.Holds(t, shelftest.Reopen(t, s), b, shared)
		if left := shelftest.List(t, s, "tmp"); len(left) > 0 {
			t.Errorf("left: %v", left)
		}
	}
}

func TestKeptForEver(t *testing.T) {
	s := shelftest.New(t)
	a := shelftest.Commit(t, s, "Kiosk", shelftest.Content(2, 1))
	if err := s.Keep(t.Context(), "20000101T000000Z-abcdef", "x"); !errors.Is(err, shelf.ErrNoTwin) {
		t.Errorf("%v", err)
	}
	if err := s.Keep(t.Context(), a.ID, "the last one with the old till"); err != nil {
		t.Fatal(err)
	}
	m, err := shelftest.Reopen(t, s).Pins(t.Context())
	if err != nil || m[a.ID].Note != "the last one with the old till" || time.Since(m[a.ID].When) > time.Hour {
		t.Errorf("%v %v", m, err)
	}
	shelftest.FlipBoth(t, s, shelf.PinPath(a.ID), 140)
	if m, _ := s.Pins(t.Context()); !strings.Contains(m[a.ID].Note, "can't be read") {
		t.Errorf("a hurt mark doesn't keep: %v", m)
	}
}

// TestFullShelfGoesOn: after the room ran out, finished packs wait for the next try.
func TestFullShelfGoesOn(t *testing.T) {
	_, s := onSmallDrive(t, "12m")
	var err error
	old := shelftest.Commit(t, s, "Ticket desk", shelftest.Content(60, 9))
	blocks := shelftest.Content(250, 1)
	c := shelftest.Begin(t, s, "Kiosk")
	for _, b := range blocks {
		if _, _, err = c.Put(t.Context(), b); err != nil {
			break
		}
	}
	if err == nil {
		err = c.Finish(t.Context())
	}
	if !errors.Is(err, unix.ENOSPC) {
		t.Fatalf("it isn't full: %v", err)
	}
	c.Abort(t.Context())
	again := shelftest.Reopen(t, s)
	if n := len(spared(t, again)); n < 2 {
		t.Fatalf("%d packs wait", n)
	}
	if err := again.Discard(t.Context(), old, "room"); err != nil {
		t.Fatal(err)
	}
	if f := gaveBack(t, again, false); f.Removed == 0 {
		t.Errorf("%+v", f)
	}
	// Half of it fits now; it mostly is there.
	c = shelftest.Begin(t, again, "Kiosk")
	added := int64(0)
	for _, b := range blocks[:100] {
		_, n, err := c.Put(t.Context(), b)
		if err != nil {
			t.Fatal(err)
		}
		added += n
	}
	if added > 1<<20 {
		t.Errorf("%d bytes were stored again", added)
	}
	tw := shelftest.TwinOf(t, c, "Kiosk", blocks[:100], time.Now())
	if err := c.Commit(t.Context(), tw); err != nil {
		t.Fatal(err)
	}
	shelftest.Holds(t, shelftest.Reopen(t, s), tw, blocks[:100])
	if len(spared(t, again)) != 0 {
		t.Error("packs still wait")
	}
}

func spared(t *testing.T, s *shelf.Shelf) map[string]bool {
	t.Helper()
	packs, err := s.Spared(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return packs
}

// TestUnlistedFolders: a folder that can't be listed isn't an empty one; nothing is removed, and a check says so.
func TestUnlistedFolders(t *testing.T) {
	s := shelftest.New(t)
	old := shelftest.Commit(t, s, "Kiosk", shelftest.Content(40, 1))
	if err := s.Discard(t.Context(), old, "room"); err != nil {
		t.Fatal(err)
	}
	for _, folder := range []string{"unfinished", "proofs"} {
		at := filepath.Join(s.Place(), folder)
		if err := os.RemoveAll(at); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(at, nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	before := shelftest.List(t, s, "packs")
	if _, err := GiveBack(t.Context(), s, nil); !errors.Is(err, ErrUnsure) {
		t.Errorf("given back: %v", err)
	}
	if after := shelftest.List(t, s, "packs"); !slices.Equal(before, after) {
		t.Errorf("%v of %v are left", after, before)
	}
	rep, err := Check(t.Context(), s, CheckKind{}, nil)
	if err != nil || !slices.ContainsFunc(rep.Hurt, func(h string) bool {
		return strings.Contains(h, "the proofs can't be listed")
	}) {
		t.Errorf("%v %v", rep, err)
	}
}

// onSmallDrive is a shelf on a drive of its own, of a size as mount takes it.
func onSmallDrive(t *testing.T, size string) (dir string, s *shelf.Shelf) {
	t.Helper()
	testkit.Root(t)
	dir = t.TempDir()
	testkit.Do(t, "mount", "-t", "tmpfs", "-o", "size="+size, "tmpfs", dir)
	t.Cleanup(func() { testkit.Do(t, "umount", dir) })
	s, err := shelf.Create(t.Context(), filepath.Join(dir, "oak"), store.New{Name: "Oak", BlockSize: 64 << 10})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	s.LimitPacks(1 << 20)
	return dir, s
}
