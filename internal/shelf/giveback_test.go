package shelf

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"twinshelf/internal/testkit"
)

func gaveBack(t testing.TB, s *Shelf, dry bool) Freed {
	t.Helper()
	f, err := s.GiveBack(context.Background(), dry, nil)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

func sizeOf(t testing.TB, s *Shelf) int64 {
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
	for _, make := range []func(testing.TB) *Shelf{newTest, newSealed} {
		s := make(t)
		first, second, third := content(60, 1), content(60, 2), content(60, 3)
		shared := append(append([][]byte{}, first[:30]...), second[:30]...)
		a, b, c := commit(t, s, "Kiosk", first), commit(t, s, "Kiosk", shared), commit(t, s, "Ticket desk", third)
		reader := unsealed(t, s, phrase) // opened before, reads on
		holds(t, reader, b, shared)
		if f := gaveBack(t, s, false); f.Bytes != 0 || f.Unneeded != 0 || f.Removed != 0 {
			t.Errorf("nothing is unneeded: %+v", f)
		}
		if err := s.Keep(a.ID, "as it came"); err != nil {
			t.Fatal(err)
		}
		if err := s.Discard(a, "tidying"); err == nil || !strings.Contains(err.Error(), "as it came") {
			t.Errorf("kept for ever: %v", err)
		}
		if err := errors.Join(s.Unkeep(a.ID), s.Discard(a, "tidying"), s.Discard(c, "machine was scrapped")); err != nil {
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
		holds(t, s, b, shared)
		holds(t, reader, b, shared)
		holds(t, unsealed(t, s, phrase), b, shared)
		if twins, _ := s.Twins(); len(twins) != 1 {
			t.Errorf("%d twins", len(twins))
		}
		events, _ := s.Journal()
		if len(events) != 3 || events[0].What != "gave back space" || events[1].Why != "machine was scrapped" || events[2].Twin != a.ID {
			t.Errorf("%+v", events)
		}
		if f := gaveBack(t, s, false); f.Bytes != 0 {
			t.Errorf("a second time: %+v", f)
		}
		d := commit(t, s, "Kiosk", first) // what came back is stored again
		holds(t, unsealed(t, s, phrase), d, first)
		if rep, err := s.Check(context.Background(), CheckKind{Share: 1}, nil); err != nil || !rep.Sound() {
			t.Errorf("%v %+v", err, rep)
		}
	}
}

func TestGiveBackWhenUnsure(t *testing.T) {
	s := newTest(t)
	a, b := commit(t, s, "Kiosk", content(20, 1)), commit(t, s, "Kiosk", content(20, 2))
	if err := s.Discard(a, "x"); err != nil {
		t.Fatal(err)
	}
	flipBoth(t, s, s.twinPath(b.Machine, b.ID), 200)
	before := sizeOf(t, s)
	if _, err := s.GiveBack(context.Background(), false, nil); !errors.Is(err, ErrUnsure) {
		t.Errorf("with a twin that can't be read: %v", err)
	}
	if sizeOf(t, s) < before {
		t.Error("something was removed")
	}
	c := begin(t, s, "Kiosk")
	if _, err := s.GiveBack(context.Background(), false, nil); !errors.Is(err, ErrBusy) {
		t.Errorf("beside a capture: %v", err)
	}
	c.Abort()
}

// TestGiveBackStopped: whatever step it is stopped at, the twins are whole and a later one ends it.
func TestGiveBackStopped(t *testing.T) {
	stop := errors.New("stopped")
	for at := 1; at < 30; at += 4 {
		s := newTest(t)
		first, second := content(60, 1), content(60, 2)
		shared := append(append([][]byte{}, first[:30]...), second[:30]...)
		a, b := commit(t, s, "Kiosk", first), commit(t, s, "Kiosk", shared)
		if err := s.Discard(a, "x"); err != nil {
			t.Fatal(err)
		}
		n := 0
		_, err := s.GiveBack(context.Background(), false, func(int64, int64) error {
			if n++; n == at {
				return stop
			}
			return nil
		})
		if !errors.Is(err, stop) {
			t.Fatalf("step %d: %v", at, err)
		}
		holds(t, reopen(t, s), b, shared)
		gaveBack(t, s, false)
		holds(t, reopen(t, s), b, shared)
		if left, _ := s.b.List("tmp"); len(left) > 0 {
			t.Errorf("left: %v", left)
		}
	}
}

func TestKeptForEver(t *testing.T) {
	s := newTest(t)
	a := commit(t, s, "Kiosk", content(2, 1))
	if err := s.Keep("20000101T000000Z-abcdef", "x"); !errors.Is(err, ErrNoTwin) {
		t.Errorf("%v", err)
	}
	if err := s.Keep(a.ID, "the last one with the old till"); err != nil {
		t.Fatal(err)
	}
	m, err := reopen(t, s).Marks()
	if err != nil || m[a.ID].Note != "the last one with the old till" || time.Since(m[a.ID].When) > time.Hour {
		t.Errorf("%v %v", m, err)
	}
	flipBoth(t, s, markPath(a.ID), 140)
	if m, _ := s.Marks(); !strings.Contains(m[a.ID].Note, "can't be read") {
		t.Errorf("a hurt mark doesn't keep: %v", m)
	}
}

// TestFullShelfGoesOn: after the room ran out, finished packs wait for the next try.
func TestFullShelfGoesOn(t *testing.T) {
	_, s := onSmallDrive(t, "12m")
	var err error
	old := commit(t, s, "Ticket desk", content(60, 9))
	blocks := content(250, 1)
	c := begin(t, s, "Kiosk")
	for _, b := range blocks {
		if _, _, err = c.Put(b); err != nil {
			break
		}
	}
	if err == nil {
		err = c.durable()
	}
	if !errors.Is(err, unix.ENOSPC) {
		t.Fatalf("it isn't full: %v", err)
	}
	c.Abort()
	again := reopen(t, s)
	if n := len(again.spared()); n < 2 {
		t.Fatalf("%d packs wait", n)
	}
	if err := again.Discard(old, "room"); err != nil {
		t.Fatal(err)
	}
	if f := gaveBack(t, again, false); f.Removed == 0 {
		t.Errorf("%+v", f)
	}
	// Half of it fits now; it mostly is there.
	c = begin(t, again, "Kiosk")
	added := int64(0)
	for _, b := range blocks[:100] {
		_, n, err := c.Put(b)
		if err != nil {
			t.Fatal(err)
		}
		added += n
	}
	if added > 1<<20 {
		t.Errorf("%d bytes were stored again", added)
	}
	tw := twinOf(t, c, "Kiosk", blocks[:100], time.Now())
	if err := c.Commit(tw); err != nil {
		t.Fatal(err)
	}
	holds(t, reopen(t, s), tw, blocks[:100])
	if len(again.spared()) != 0 {
		t.Error("packs still wait")
	}
}

// onSmallDrive is a shelf on a drive of its own, of a size as mount takes it.
func onSmallDrive(t *testing.T, size string) (dir string, s *Shelf) {
	t.Helper()
	testkit.Root(t)
	dir = t.TempDir()
	testkit.Do(t, "mount", "-t", "tmpfs", "-o", "size="+size, "tmpfs", dir)
	t.Cleanup(func() { testkit.Do(t, "umount", dir) })
	s, err := Create(filepath.Join(dir, "oak"), "Oak", 64<<10)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	s.packLimit = 1 << 20
	return dir, s
}
