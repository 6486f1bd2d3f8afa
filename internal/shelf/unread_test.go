package shelf_test

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store"
)

// TestLaterUnread: the newest twin that can be read isn't taken for the newest while a later one can't be.
func TestLaterUnread(t *testing.T) {
	s := shelftest.New(t)
	old := shelftest.Commit(t, s, "Kiosk", shelftest.Content(4, 1))
	last := shelftest.Commit(t, s, "Kiosk", shelftest.Content(4, 2))
	other := shelftest.Commit(t, s, "Weighbridge", shelftest.Content(4, 3))
	if old.ID > last.ID {
		old, last = last, old
	}
	file := shelftest.TwinFile(t, s, last.ID)
	for _, hurt := range []func(){
		func() { // only the copy is left
			if err := os.Remove(filepath.Join(s.Place(), file)); err != nil {
				t.Fatal(err)
			}
		},
		func() { // neither can be read
			if err := os.WriteFile(filepath.Join(s.Place(), file), []byte("torn"), 0o600); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(s.Place(), store.CopyOf(file)), nil, 0o600); err != nil {
				t.Fatal(err)
			}
		},
	} {
		hurt()
		for _, ref := range []string{"Kiosk", "ki", "Kiosk newest"} {
			if tw, err := s.Find(t.Context(), ref); !errors.Is(err, shelf.ErrLaterUnread) {
				t.Errorf("%q: %v %v", ref, tw, err)
			}
		}
		for ref, want := range map[string]string{old.ID: old.ID, "Weighbridge": other.ID} {
			if tw, err := s.Find(t.Context(), ref); err != nil || tw.ID != want {
				t.Errorf("%q: %v", ref, err)
			}
		}
	}
	if hopeless, err := s.Hopeless(t.Context(), last.ID); err != nil || !hopeless {
		t.Errorf("hopeless: %v %v", hopeless, err)
	}
}

// TestUnlistedTwins: a folder that can't be listed isn't one without twins.
func TestUnlistedTwins(t *testing.T) {
	s := shelftest.New(t)
	tw := shelftest.Commit(t, s, "Kiosk", shelftest.Content(4, 1))
	at := filepath.Join(s.Place(), "twins")
	if err := os.RemoveAll(at); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(at, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if ids, err := s.TwinIDs(t.Context()); err == nil {
		t.Errorf("the twins are %v", ids)
	}
	if _, err := s.Hopeless(t.Context(), tw.ID); err == nil || errors.Is(err, shelf.ErrNoTwin) {
		t.Errorf("hopeless: %v", err)
	}
	if err := s.DiscardHurt(t.Context(), tw.ID, "room"); err == nil || errors.Is(err, shelf.ErrNoTwin) {
		t.Errorf("discarded: %v", err)
	}
	if err := s.KnownNewest(t.Context(), "Kiosk", nil); err == nil || errors.Is(err, shelf.ErrLaterUnread) {
		t.Errorf("the newest: %v", err)
	}
}

// TestUnreadOfAMachine: only the machine's own twins that can't be read are named, with the time that their IDs tell.
func TestUnreadOfAMachine(t *testing.T) {
	s := shelftest.New(t)
	kiosk := shelftest.Commit(t, s, "Kiosk", shelftest.Content(4, 1))
	shelftest.Commit(t, s, "Weighbridge", shelftest.Content(4, 2))
	read, problems := s.Twins(t.Context())
	if len(read) != 2 || len(problems) != 0 {
		t.Fatal(len(read), problems)
	}
	for _, c := range []struct {
		machine string
		read    []*shelf.Twin
		want    []string
	}{
		{"Kiosk", read, nil}, {"Kiosk", nil, []string{kiosk.ID}}, {"Harbour", nil, nil},
	} {
		got, err := s.Unread(t.Context(), c.machine, c.read)
		if err != nil || !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, %v", c.machine, got, err)
		}
	}
	if got, want := shelf.TakenOf(kiosk.ID), kiosk.Taken.UTC().Truncate(time.Second); !got.Equal(want) {
		t.Errorf("%s was taken %v, not %v", kiosk.ID, got, want)
	}
	if got := shelf.TakenOf("kiosk-1"); !got.IsZero() {
		t.Errorf("an ID without a time: %v", got)
	}
}
