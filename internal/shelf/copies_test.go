package shelf

import (
	"context"
	"errors"
	"os"
	"strings"
	"testing"
)

func checkedShelf(t *testing.T, s *Shelf, mend bool) *Report {
	t.Helper()
	rep, err := s.Check(context.Background(), CheckKind{Mend: mend}, nil)
	if err != nil {
		t.Fatal(err)
	}
	return rep
}

// TestOneFlippedBitCostsNoDate: for every byte of every small file, with the file or the copy hurt there, all dates, marks, rules
// and events are read, space can be given back, a check names the file, and mending makes both whole.
func TestOneFlippedBitCostsNoDate(t *testing.T) {
	s := newTest(t)
	blocks := content(8, 1)
	tw := commit(t, s, "Kiosk", blocks)
	other := commit(t, s, "Kiosk", content(8, 2))
	if err := s.Keep(tw.ID, "before the move"); err != nil {
		t.Fatal(err)
	}
	if err := s.Discard(other, "a trial"); err != nil {
		t.Fatal(err)
	}
	events, _ := s.b.List("journal")
	for _, file := range []string{s.twinPath(tw.Machine, tw.ID), markPath(tw.ID), "journal/" + events[0]} {
		for _, at := range []string{file, copyOf(file)} {
			p := s.b.(folder).path(at)
			whole, err := os.ReadFile(p)
			if err != nil {
				t.Fatal(err)
			}
			step := max(1, len(whole)/40)
			for i := 0; i < len(whole); i += step {
				flip(t, p, int64(i))
				o := reopen(t, s)
				twins, problems := o.Twins()
				marks, err := o.Marks()
				journal, more := o.Journal()
				if len(twins) != 1 || len(problems)+len(more) != 0 || err != nil || marks[tw.ID].Note != "before the move" || len(journal) == 0 {
					t.Fatalf("%s, byte %d: %v %v %v %v %v", at, i, twins, problems, marks, journal, more)
				}
				holds(t, o, tw, blocks)
				if _, err := o.GiveBack(context.Background(), true, nil); err != nil {
					t.Fatalf("%s, byte %d: %v", at, i, err)
				}
				if rep := checkedShelf(t, o, false); len(rep.Hurt) == 0 || !strings.Contains(strings.Join(rep.Hurt, " "), "--mend") {
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
	s := newTest(t)
	blocks := content(8, 1)
	tw, lost := commit(t, s, "Kiosk", blocks), commit(t, s, "Desk", content(8, 2))
	flipBoth(t, s, s.twinPath(lost.Machine, lost.ID), 200)
	if _, err := s.GiveBack(context.Background(), false, nil); !errors.Is(err, ErrUnsure) {
		t.Errorf("giving back: %v", err)
	}
	if rep := checkedShelf(t, s, true); len(rep.Hurt) != 1 || !strings.Contains(rep.Hurt[0], "shelf discard "+lost.ID) {
		t.Errorf("the check says %v", rep.Hurt)
	}
	if err := s.DiscardHurt(tw.ID, "x"); !errors.Is(err, ErrReadable) {
		t.Errorf("one that can be read: %v", err)
	}
	if err := s.DiscardHurt(lost.ID, "its file is hurt"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.GiveBack(context.Background(), false, nil); err != nil {
		t.Error(err)
	}
	holds(t, reopen(t, s), tw, blocks)
}

// TestLostTwinFile: the blocks of a twin whose file vanished are kept, and mending puts it back from its copy; a discarded one
// stays away.
func TestLostTwinFile(t *testing.T) {
	s := newTest(t)
	blocks := content(8, 1)
	tw := commit(t, s, "Kiosk", blocks)
	file := s.twinPath(tw.Machine, tw.ID)
	copied, err := os.ReadFile(s.b.(folder).path(copyOf(file)))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(s.b.(folder).path(file)); err != nil {
		t.Fatal(err)
	}
	if twins, _ := s.Twins(); len(twins) != 0 {
		t.Error("a copy alone counts as a twin")
	}
	if f, err := s.GiveBack(context.Background(), false, nil); err != nil || f.Removed != 0 {
		t.Errorf("%+v %v", f, err)
	}
	if rep := checkedShelf(t, s, true); len(rep.Mended) != 1 || rep.Mended[0] != file {
		t.Errorf("%+v", rep)
	}
	holds(t, reopen(t, s), tw, blocks)
	if err := s.Discard(tw, "x"); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(s.b.(folder).path(copyOf(file)), copied, 0o600); err != nil { // as when it was killed in between
		t.Fatal(err)
	}
	if f, err := s.GiveBack(context.Background(), false, nil); err != nil || f.Removed == 0 {
		t.Errorf("%+v %v", f, err)
	}
	if rep := checkedShelf(t, s, true); len(rep.Mended)+len(rep.Hurt) != 0 {
		t.Errorf("%+v", rep)
	}
}

// TestFlippedVersionOfAHead: it isn't taken for that of a newer program; the copy is read.
func TestFlippedVersionOfAHead(t *testing.T) {
	s := newTest(t)
	tw := commit(t, s, "Kiosk", content(3, 1))
	flip(t, s.b.(folder).path("head"), offVersion)
	holds(t, reopen(t, s), tw, content(3, 1))
}
