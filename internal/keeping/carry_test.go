package keeping

import (
	"path/filepath"
	"testing"
	"time"

	"twinshelf/internal/shelf"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store"
)

// TestCarryAgain: what was said of a twin since it was carried follows it, once; what stands there stays.
func TestCarryAgain(t *testing.T) {
	from := shelftest.New(t)
	blocks := shelftest.Content(10, 1)
	a, b := shelftest.Commit(t, from, "Kiosk", blocks),
		shelftest.Commit(t, from, "Ticket desk", shelftest.Content(10, 2))
	to, err := shelf.Create(t.Context(), filepath.Join(t.TempDir(), "elm"),
		store.New{Name: "Elm", BlockSize: 64 << 10, Passphrase: []byte(shelftest.Phrase), Cost: shelftest.Cheap})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(to.Close)
	carry := func() Carried {
		t.Helper()
		twins, _ := from.Twins(t.Context())
		c, err := Carry(t.Context(), from, to, twins, nil)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	proof := func(s *shelf.Shelf, tw *shelf.Twin, of string) {
		t.Helper()
		if err := s.SaveProof(t.Context(),
			&shelf.Proof{Twin: tw.ID, When: time.Now(), Of: of,
				Claims: []shelf.Claim{{About: of, Holds: true}}}); err != nil {
			t.Fatal(err)
		}
	}
	proof(from, a, "before")
	if c := carry(); c.Twins != 2 || c.Already != 0 {
		t.Errorf("%+v", c)
	}
	proof(from, a, "since")
	proof(to, a, "there")
	if err := from.Keep(t.Context(), a.ID, "as it came"); err != nil {
		t.Fatal(err)
	}
	if err := from.Keep(t.Context(), b.ID, "here"); err != nil {
		t.Fatal(err)
	}
	if err := to.Keep(t.Context(), b.ID, "there"); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if c := carry(); c.Twins != 0 || c.Already != 2 || c.Bytes != 0 {
			t.Errorf("%+v", c)
		}
	}
	pins, err := to.Pins(t.Context())
	if err != nil || pins[a.ID].Note != "as it came" || pins[b.ID].Note != "there" {
		t.Errorf("%v %+v", err, pins)
	}
	of := map[string]int{}
	proofs, problems := to.Proofs(t.Context(), a.ID)
	for _, p := range proofs {
		of[p.Of]++
	}
	if len(problems) > 0 || len(proofs) != 3 || of["before"] != 1 || of["since"] != 1 || of["there"] != 1 {
		t.Errorf("%v %v", of, problems)
	}
	arrived, err := to.Find(t.Context(), a.ID)
	if err != nil {
		t.Fatal(err)
	}
	shelftest.Holds(t, shelftest.Reopen(t, to), arrived, blocks)
}

// TestRulesAreCarried: a shelf without rules takes them over, one with its own keeps them.
func TestRulesAreCarried(t *testing.T) {
	from, to := shelftest.New(t), shelftest.New(t)
	rule := func(text string) Rule {
		t.Helper()
		r, err := ReadRule(text)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	carried := func(want bool) {
		t.Helper()
		if did, err := CarryRules(t.Context(), from, to); did != want || err != nil {
			t.Errorf("%v %v", did, err)
		}
	}
	carried(false) // there are none
	if err := SetRule(t.Context(), from, "Kiosk", rule("one a day for 5 weeks; never fewer than 3")); err != nil {
		t.Fatal(err)
	}
	carried(true)
	rules, err := ReadRules(t.Context(), to)
	if err != nil || rules.For("Kiosk").Words() != rule("one a day for 5 weeks; never fewer than 3").Words() ||
		len(rules.Usual.Generations) != 0 {
		t.Errorf("%v %+v", err, rules)
	}
	if err := SetRule(t.Context(), from, "", rule("one a year for ever; never fewer than 1")); err != nil {
		t.Fatal(err)
	}
	carried(false)
	if rules, _ = ReadRules(t.Context(), to); len(rules.Usual.Generations) != 0 {
		t.Errorf("its own rules are gone: %+v", rules)
	}
	if events, _ := to.Journal(t.Context()); len(events) != 1 || events[0].What != "rules taken over" {
		t.Errorf("%+v", events)
	}
}
