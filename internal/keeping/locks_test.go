package keeping

import (
	"errors"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store"
)

func TestTwoMachinesAtOnce(t *testing.T) {
	for _, make := range []func(testing.TB) *shelf.Shelf{shelftest.New, shelftest.NewSealed} {
		s := make(t)
		other := shelftest.Reopen(t, s)
		a, b := shelftest.Begin(t, s, "Kiosk"), shelftest.Begin(t, other, "Ticket desk")
		if _, err := other.Begin(t.Context(), "Kiosk"); !errors.Is(err, store.ErrBusy) ||
			!strings.Contains(err.Error(), "a capture by process") {
			t.Errorf("the same machine twice: %v", err)
		}
		if _, err := s.Exclusive(t.Context(), "giving back space"); !errors.Is(err, store.ErrBusy) {
			t.Errorf("alone beside captures: %v", err)
		}
		blocks := shelftest.Content(12, 1)
		ta, tb := shelftest.TwinOf(t, a, "Kiosk", blocks, time.Now()),
			shelftest.TwinOf(t, b, "Ticket desk", blocks, time.Now())
		if err := errors.Join(a.Commit(t.Context(), ta), b.Commit(t.Context(), tb)); err != nil {
			t.Fatal(err)
		}
		again := shelftest.Reopen(t, s)
		shelftest.Holds(t, again, ta, blocks)
		shelftest.Holds(t, again, tb, blocks)
		shelftest.Holds(t, s, tb, blocks) // it learns of the other's blocks
		if h, err := s.Holders(t.Context()); err != nil || len(h) != 0 {
			t.Errorf("locks are left: %v %v", h, err)
		}
	}
}

func TestRetiredShelf(t *testing.T) {
	s := shelftest.New(t)
	tw := shelftest.Commit(t, s, "Kiosk", shelftest.Content(3, 1))
	if err := s.Retire(t.Context(), "replaced by Elm"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Begin(t.Context(), "Kiosk"); err == nil || !strings.Contains(err.Error(), "replaced by Elm") {
		t.Errorf("%v", err)
	}
	shelftest.Holds(t, shelftest.Reopen(t, s), tw, shelftest.Content(3, 1))
	if err := s.Unretire(t.Context()); err != nil {
		t.Fatal(err)
	}
	shelftest.Begin(t, s, "Kiosk").Abort(t.Context())
	if events, problems := s.Journal(t.Context()); len(events) != 2 || events[0].What != "in use again" ||
		len(problems) != 0 {
		t.Errorf("%v %v", events, problems)
	}
}
