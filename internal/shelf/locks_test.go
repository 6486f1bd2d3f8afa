package shelf

import (
	"errors"
	"os"
	"strings"
	"testing"
	"time"
)

func begin(t testing.TB, s *Shelf, machine string) *Session {
	t.Helper()
	c, err := s.Begin(machine)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func TestTwoMachinesAtOnce(t *testing.T) {
	for _, make := range []func(testing.TB) *Shelf{newTest, newSealed} {
		s := make(t)
		other := unsealed(t, s, phrase)
		a, b := begin(t, s, "Kiosk"), begin(t, other, "Ticket desk")
		if _, err := other.Begin("Kiosk"); !errors.Is(err, ErrBusy) || !strings.Contains(err.Error(), "a capture by process") {
			t.Errorf("the same machine twice: %v", err)
		}
		if _, err := s.exclusive("giving back space"); !errors.Is(err, ErrBusy) {
			t.Errorf("alone beside captures: %v", err)
		}
		blocks := content(12, 1)
		ta, tb := twinOf(t, a, "Kiosk", blocks, time.Now()), twinOf(t, b, "Ticket desk", blocks, time.Now())
		if err := errors.Join(a.Commit(ta), b.Commit(tb)); err != nil {
			t.Fatal(err)
		}
		again := unsealed(t, s, phrase)
		holds(t, again, ta, blocks)
		holds(t, again, tb, blocks)
		holds(t, s, tb, blocks) // it learns of the other's blocks
		if h, err := s.Holders(); err != nil || len(h) != 0 {
			t.Errorf("locks are left: %v %v", h, err)
		}
	}
}

// TestUnfinishedPacksAreNobodysYet: what a running capture has written isn't counted on by
// another one, for it may be taken back.
func TestUnfinishedPacksAreNobodysYet(t *testing.T) {
	s := newTest(t)
	a := begin(t, s, "Kiosk")
	blocks := content(12, 1)
	twinOf(t, a, "Kiosk", blocks, time.Now())
	if err := a.settle(); err != nil { // its packs and segments are on the medium
		t.Fatal(err)
	}
	other := reopen(t, s)
	b := begin(t, other, "Ticket desk")
	tb := twinOf(t, b, "Ticket desk", blocks, time.Now())
	if tb.Disks == nil {
		t.Fatal("no disk")
	}
	a.Abort()
	if err := b.Commit(tb); err != nil {
		t.Fatal(err)
	}
	holds(t, reopen(t, s), tb, blocks)
}

func TestStaleLocks(t *testing.T) {
	s := newTest(t)
	a := begin(t, s, "Kiosk")
	twinOf(t, a, "Kiosk", content(5, 1), time.Now())
	a.lock.abandon(t)
	if h, err := s.Holders(); err != nil || len(h) != 0 {
		t.Errorf("a dead process holds the shelf: %v %v", h, err)
	}
	b := begin(t, s, "Kiosk")
	if err := a.lock.held(); err == nil {
		t.Error("the lock of the dead one is still there")
	}
	if err := a.Commit(&Twin{ID: "x"}); err == nil || !strings.Contains(err.Error(), "lock was lost") {
		t.Errorf("a capture went on without its lock: %v", err)
	}
	b.Abort()
	// A lock of another machine is stale when it doesn't beat any more.
	c := begin(t, s, "Kiosk")
	c.lock.holder.Host = "purser"
	if err := c.lock.write(); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Begin("Kiosk"); !errors.Is(err, ErrBusy) || !strings.Contains(err.Error(), "on purser") {
		t.Errorf("%v", err)
	}
	old := time.Now().Add(-time.Hour)
	if err := os.Chtimes(s.b.(folder).path(lockPath(c.lock.holder.ID)), old, old); err != nil {
		t.Fatal(err)
	}
	begin(t, s, "Kiosk").Abort()
	// One that can't be read counts until it is old.
	if err := os.WriteFile(s.b.(folder).path("locks/0011223344556677.lock"), []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := s.exclusive("x"); !errors.Is(err, ErrBusy) {
		t.Errorf("%v", err)
	}
	if err := os.Chtimes(s.b.(folder).path("locks/0011223344556677.lock"), old, old); err != nil {
		t.Fatal(err)
	}
	release, err := s.exclusive("x")
	if err != nil {
		t.Fatal(err)
	}
	release()
	release()
}

func TestRetiredShelf(t *testing.T) {
	s := newTest(t)
	tw := commit(t, s, "Kiosk", content(3, 1))
	if err := s.Retire("replaced by Elm"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Begin("Kiosk"); err == nil || !strings.Contains(err.Error(), "replaced by Elm") {
		t.Errorf("%v", err)
	}
	holds(t, reopen(t, s), tw, content(3, 1))
	if err := s.Unretire(); err != nil {
		t.Fatal(err)
	}
	begin(t, s, "Kiosk").Abort()
	if events, problems := s.Journal(); len(events) != 2 || events[0].What != "in use again" || len(problems) != 0 {
		t.Errorf("%v %v", events, problems)
	}
}
