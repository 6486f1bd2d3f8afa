package keeping

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store"
)

// TestExchangedHead: an open head over what was sealed is refused, with or without a passphrase.
func TestExchangedHead(t *testing.T) {
	s := shelftest.NewSealed(t)
	shelftest.Commit(t, s, "Kiosk", shelftest.Content(3, 1))
	h := s.Head()
	h.Suite, h.Keys, h.Seal = store.SuiteOpen, []store.WrappedKey{}, ""
	shelftest.WriteHead(t, s, h)
	if _, err := shelf.Open(t.Context(), s.Place(), nil); !errors.Is(err, store.ErrExchanged) {
		t.Errorf("%v", err)
	}
	if _, err := shelf.Open(t.Context(), s.Place(), func() ([]byte, error) {
		return []byte(shelftest.Phrase),
			nil
	}); !errors.Is(err, store.ErrExchanged) {
		t.Errorf("with its passphrase: %v", err)
	}
}

// TestCostHasAFloor: however busy the machine is.
func TestCostHasAFloor(t *testing.T) {
	if c := store.TuneCost(); c.Passes < 3 || c.Memory < 96<<10 {
		t.Errorf("%+v", c)
	}
}

// TestProofOfAnotherTwin: copied beside another twin it proves nothing.
func TestProofOfAnotherTwin(t *testing.T) {
	s := shelftest.New(t)
	a, b := shelftest.Commit(t, s, "Kiosk", shelftest.Content(3, 1)),
		shelftest.Commit(t, s, "Desk", shelftest.Content(3, 2))
	if err := s.SaveProof(t.Context(),
		&shelf.Proof{Twin: a.ID, Of: shelf.OnShelf, Claims: []shelf.Claim{{Holds: true}}}); err != nil {
		t.Fatal(err)
	}
	from := filepath.Join(s.Place(), "proofs", a.ID)
	names, err := os.ReadDir(from)
	if err != nil || len(names) != 1 {
		t.Fatal(names, err)
	}
	if err := os.CopyFS(filepath.Join(s.Place(), "proofs", b.ID), os.DirFS(from)); err != nil {
		t.Fatal(err)
	}
	if proofs, problems := s.Proofs(t.Context(), b.ID); len(proofs) != 0 || len(problems) != 1 ||
		!store.IsHurt(problems[0]) {
		t.Errorf("%v %v", proofs, problems)
	}
}

// TestNoteOfAnotherPlace: a note that was put in the place of another isn't believed; one of an earlier version, which
// doesn't say where it belongs, is.
func TestNoteOfAnotherPlace(t *testing.T) {
	for _, create := range []func(testing.TB) *shelf.Shelf{shelftest.New, shelftest.NewSealed} {
		s := create(t)
		a, b := shelftest.Commit(t, s, "Kiosk", shelftest.Content(2, 1)),
			shelftest.Commit(t, s, "Kiosk", shelftest.Content(2, 2))
		if err := errors.Join(s.Keep(t.Context(), a.ID, "the last before the flood"),
			SetRule(t.Context(), s, "", Rule{Floor: 3})); err != nil {
			t.Fatal(err)
		}
		raw, err := s.CheckNote(t.Context(), shelf.PinPath(a.ID))
		if err != nil {
			t.Fatal(err)
		}
		for _, place := range []string{shelf.PinPath(b.ID), "copies/" + shelf.PinPath(b.ID)} {
			if err := s.PutCopy(t.Context(), nil, place, raw); err != nil {
				t.Fatal(err)
			}
		}
		pins, _ := s.Pins(t.Context())
		if m := pins[b.ID]; m.Note == "the last before the flood" {
			t.Errorf("the mark of another twin is believed: %+v", m)
		}
		if m := pins[a.ID]; m.Note != "the last before the flood" {
			t.Errorf("%+v", m)
		}
		for _, place := range []string{shelf.PinPath(b.ID), "copies/" + shelf.PinPath(b.ID)} {
			old := []byte(`{"note":"as earlier versions wrote it"}`)
			if err := s.PutDocument(t.Context(), nil, place, store.KindNote, old); err != nil {
				t.Fatal(err)
			}
		}
		if pins, err := s.Pins(t.Context()); err != nil || pins[b.ID].Note != "as earlier versions wrote it" {
			t.Errorf("%+v %v", pins, err)
		}
	}
}
