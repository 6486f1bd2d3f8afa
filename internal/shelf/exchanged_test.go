package shelf

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"testing"
)

// TestExchangedHead: an open head over what was sealed is refused, with or without a passphrase.
func TestExchangedHead(t *testing.T) {
	s := newSealed(t)
	commit(t, s, "Kiosk", content(3, 1))
	h := s.Head()
	h.Suite, h.Keys, h.Seal = SuiteOpen, []WrappedKey{}, ""
	b, err := json.Marshal(h)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range []string{"head", "head.copy"} {
		if err := os.WriteFile(filepath.Join(s.Place(), f), plainDocument(kindHead, SuiteOpen, b), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := Open(s.Place()); !errors.Is(err, ErrExchanged) {
		t.Errorf("%v", err)
	}
	if _, err := OpenWith(s.Place(), func() ([]byte, error) { return []byte(phrase), nil }); !errors.Is(err, ErrExchanged) {
		t.Errorf("with its passphrase: %v", err)
	}
}

// TestCostHasAFloor: however busy the machine is.
func TestCostHasAFloor(t *testing.T) {
	if c := TuneCost(); c.Passes < leastPasses || c.Memory < usualMemory {
		t.Errorf("%+v", c)
	}
}

// TestProofOfAnotherTwin: copied beside another twin it proves nothing.
func TestProofOfAnotherTwin(t *testing.T) {
	s := newTest(t)
	a, b := commit(t, s, "Kiosk", content(3, 1)), commit(t, s, "Desk", content(3, 2))
	if err := s.SaveProof(&Proof{Twin: a.ID, Of: OnShelf, Claims: []Claim{{Holds: true}}}); err != nil {
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
	if proofs, problems := s.Proofs(b.ID); len(proofs) != 0 || len(problems) != 1 || !IsHurt(problems[0]) {
		t.Errorf("%v %v", proofs, problems)
	}
}

// TestNoteOfAnotherPlace: a note that was put in the place of another isn't believed; one of an earlier version, which doesn't say where
// it belongs, is.
func TestNoteOfAnotherPlace(t *testing.T) {
	for _, create := range []func(testing.TB) *Shelf{newTest, newSealed} {
		s := create(t)
		a, b := commit(t, s, "Kiosk", content(2, 1)), commit(t, s, "Kiosk", content(2, 2))
		if err := errors.Join(s.Keep(a.ID, "the last before the flood"), s.SetRule("", Rule{Floor: 3})); err != nil {
			t.Fatal(err)
		}
		raw, err := s.b.ReadFile(markPath(a.ID), maxNote)
		if err != nil {
			t.Fatal(err)
		}
		for _, place := range []string{markPath(b.ID), "copies/" + markPath(b.ID)} {
			if err := s.writeFile(place, raw); err != nil {
				t.Fatal(err)
			}
		}
		marks, _ := s.Marks()
		if m := marks[b.ID]; m.Note == "the last before the flood" {
			t.Errorf("the mark of another twin is believed: %+v", m)
		}
		if m := marks[a.ID]; m.Note != "the last before the flood" {
			t.Errorf("%+v", m)
		}
		old := s.ring.document(kindNote, []byte(`{"note":"as earlier versions wrote it"}`))
		if err := s.writeKept(markPath(b.ID), old); err != nil {
			t.Fatal(err)
		}
		if marks, err := s.Marks(); err != nil || marks[b.ID].Note != "as earlier versions wrote it" {
			t.Errorf("%+v %v", marks, err)
		}
	}
}
