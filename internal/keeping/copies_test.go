package keeping

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store"
)

func checkedShelf(t *testing.T, s *shelf.Shelf, mend bool) *Report {
	t.Helper()
	rep, err := Check(t.Context(), s, CheckKind{Mend: mend}, nil)
	if err != nil {
		t.Fatal(err)
	}
	return rep
}

// TestOneFlippedBitCostsNoDate: for every byte of every small file, with the file or the copy hurt there, all dates,
// marks, rules and events are read, space can be given back, a check names the file, and mending makes both whole.
func TestOneFlippedBitCostsNoDate(t *testing.T) {
	s := shelftest.New(t)
	blocks := shelftest.Content(8, 1)
	tw := shelftest.Commit(t, s, "Kiosk", blocks)
	other := shelftest.Commit(t, s, "Kiosk", shelftest.Content(8, 2))
	if err := s.Keep(t.Context(), tw.ID, "before the move"); err != nil {
		t.Fatal(err)
	}
	if err := s.Discard(t.Context(), other, "a trial"); err != nil {
		t.Fatal(err)
	}
	events := shelftest.List(t, s, "journal")
	for _, file := range []string{shelftest.TwinFile(t, s, tw.ID), shelf.PinPath(tw.ID), "journal/" + events[0]} {
		for _, at := range []string{file, store.CopyOf(file)} {
			p := filepath.Join(s.Place(), at)
			whole, err := os.ReadFile(p)
			if err != nil {
				t.Fatal(err)
			}
			step := max(1, len(whole)/40)
			for i := 0; i < len(whole); i += step {
				shelftest.Flip(t, p, int64(i))
				o := shelftest.Reopen(t, s)
				twins, problems := o.Twins(t.Context())
				pins, err := o.Pins(t.Context())
				journal, more := o.Journal(t.Context())
				if len(twins) != 1 || len(problems)+len(more) != 0 || err != nil ||
					pins[tw.ID].Note != "before the move" || len(journal) == 0 {
					t.Fatalf("%s, byte %d: %v %v %v %v %v", at, i, twins, problems, pins, journal, more)
				}
				shelftest.Holds(t, o, tw, blocks)
				if _, err := Foreknow(t.Context(), o); err != nil {
					t.Fatalf("%s, byte %d: %v", at, i, err)
				}
				if rep := checkedShelf(t, o, false); len(rep.Hurt) == 0 ||
					!strings.Contains(strings.Join(rep.Hurt, " "), "--mend") {
					t.Fatalf("%s, byte %d: the check says %v", at, i, rep.Hurt)
				}
				if rep := checkedShelf(t, o, true); len(rep.Mended) != 1 || rep.Mended[0] != at {
					t.Fatalf("%s, byte %d: mended %v", at, i, rep.Mended)
				}
				if rep := checkedShelf(t, o, false); len(rep.Hurt) != 0 {
					t.Fatalf("%s, byte %d: after mending: %v", at, i, rep.Hurt)
				}
			}
		}
	}
}

// TestHopelessTwin: one that can be read nowhere is said to be so, with what can be done, and can be taken off.
func TestHopelessTwin(t *testing.T) {
	s := shelftest.New(t)
	blocks := shelftest.Content(8, 1)
	tw, lost := shelftest.Commit(t, s, "Kiosk", blocks), shelftest.Commit(t, s, "Desk", shelftest.Content(8, 2))
	shelftest.FlipBoth(t, s, shelftest.TwinFile(t, s, lost.ID), 200)
	if _, err := GiveBack(t.Context(), s, nil); !errors.Is(err, ErrUnsure) {
		t.Errorf("giving back: %v", err)
	}
	if rep := checkedShelf(t, s, true); len(rep.Hurt) != 1 || !strings.Contains(rep.Hurt[0], "shelf discard "+lost.ID) {
		t.Errorf("the check says %v", rep.Hurt)
	}
	if err := s.DiscardHurt(t.Context(), tw.ID, "x"); !errors.Is(err, shelf.ErrReadable) {
		t.Errorf("one that can be read: %v", err)
	}
	if err := s.DiscardHurt(t.Context(), lost.ID, "its file is hurt"); err != nil {
		t.Fatal(err)
	}
	if _, err := GiveBack(t.Context(), s, nil); err != nil {
		t.Error(err)
	}
	shelftest.Holds(t, shelftest.Reopen(t, s), tw, blocks)
}

// TestLostTwinFile: the blocks of a twin whose file vanished are kept, and mending puts it back from its copy; a
// discarded one stays away.
func TestLostTwinFile(t *testing.T) {
	s := shelftest.New(t)
	blocks := shelftest.Content(8, 1)
	tw := shelftest.Commit(t, s, "Kiosk", blocks)
	file := shelftest.TwinFile(t, s, tw.ID)
	copied, err := os.ReadFile(filepath.Join(s.Place(), store.CopyOf(file)))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(filepath.Join(s.Place(), file)); err != nil {
		t.Fatal(err)
	}
	if twins, _ := s.Twins(t.Context()); len(twins) != 0 {
		t.Error("a copy alone counts as a twin")
	}
	if f, err := GiveBack(t.Context(), s, nil); err != nil || f.Removed != 0 {
		t.Errorf("%+v %v", f, err)
	}
	if rep := checkedShelf(t, s, true); len(rep.Mended) != 1 || rep.Mended[0] != file {
		t.Errorf("%+v", rep)
	}
	shelftest.Holds(t, shelftest.Reopen(t, s), tw, blocks)
	if err := s.Discard(t.Context(), tw, "x"); err != nil {
		t.Fatal(err)
	}
	// as when it was killed in between
	if err := os.WriteFile(filepath.Join(s.Place(), store.CopyOf(file)), copied, 0o600); err != nil {
		t.Fatal(err)
	}
	if f, err := GiveBack(t.Context(), s, nil); err != nil || f.Removed == 0 {
		t.Errorf("%+v %v", f, err)
	}
	if rep := checkedShelf(t, s, true); len(rep.Mended)+len(rep.Hurt) != 0 {
		t.Errorf("%+v", rep)
	}
}

// TestFlippedVersionOfAHead: it isn't taken for that of a newer program; the copy is read.
func TestFlippedVersionOfAHead(t *testing.T) {
	s := shelftest.New(t)
	tw := shelftest.Commit(t, s, "Kiosk", shelftest.Content(3, 1))
	shelftest.Flip(t, filepath.Join(s.Place(), "head"), 8)
	shelftest.Holds(t, shelftest.Reopen(t, s), tw, shelftest.Content(3, 1))
}
