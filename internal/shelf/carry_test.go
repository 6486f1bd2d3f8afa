package shelf

import (
	"path/filepath"
	"testing"
	"time"
)

// TestCarryAgain: what was said of a twin since it was carried follows it, once; what stands there stays.
func TestCarryAgain(t *testing.T) {
	from := newTest(t)
	blocks := content(10, 1)
	a, b := commit(t, from, "Kiosk", blocks), commit(t, from, "Ticket desk", content(10, 2))
	to, err := CreateSealed(filepath.Join(t.TempDir(), "elm"), "Elm", 64<<10, []byte(phrase), cheap)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(to.Close)
	carry := func() Carried {
		t.Helper()
		twins, _ := from.Twins()
		c, err := Carry(t.Context(), from, to, twins, nil)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	proof := func(s *Shelf, tw *Twin, of string) {
		t.Helper()
		if err := s.SaveProof(&Proof{Twin: tw.ID, When: time.Now(), Of: of, Claims: []Claim{{About: of, Holds: true}}}); err != nil {
			t.Fatal(err)
		}
	}
	proof(from, a, "before")
	if c := carry(); c.Twins != 2 || c.Already != 0 {
		t.Errorf("%+v", c)
	}
	proof(from, a, "since")
	proof(to, a, "there")
	if err := from.Keep(a.ID, "as it came"); err != nil {
		t.Fatal(err)
	}
	if err := from.Keep(b.ID, "here"); err != nil {
		t.Fatal(err)
	}
	if err := to.Keep(b.ID, "there"); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if c := carry(); c.Twins != 0 || c.Already != 2 || c.Bytes != 0 {
			t.Errorf("%+v", c)
		}
	}
	marks, err := to.Marks()
	if err != nil || marks[a.ID].Note != "as it came" || marks[b.ID].Note != "there" {
		t.Errorf("%v %+v", err, marks)
	}
	of := map[string]int{}
	proofs, problems := to.Proofs(a.ID)
	for _, p := range proofs {
		of[p.Of]++
	}
	if len(problems) > 0 || len(proofs) != 3 || of["before"] != 1 || of["since"] != 1 || of["there"] != 1 {
		t.Errorf("%v %v", of, problems)
	}
	arrived, err := to.Find(a.ID)
	if err != nil {
		t.Fatal(err)
	}
	holds(t, unsealed(t, to, phrase), arrived, blocks)
}

// TestRulesAreCarried: a shelf without rules takes them over, one with its own keeps them.
func TestRulesAreCarried(t *testing.T) {
	from, to := newTest(t), newTest(t)
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
		if did, err := from.CarryRules(to); did != want || err != nil {
			t.Errorf("%v %v", did, err)
		}
	}
	carried(false) // there are none
	if err := from.SetRule("Kiosk", rule("one a day for 5 weeks; never fewer than 3")); err != nil {
		t.Fatal(err)
	}
	carried(true)
	rules, err := to.Rules()
	if err != nil || rules.For("Kiosk").Words() != rule("one a day for 5 weeks; never fewer than 3").Words() || len(rules.Usual.Generations) != 0 {
		t.Errorf("%v %+v", err, rules)
	}
	if err := from.SetRule("", rule("one a year for ever; never fewer than 1")); err != nil {
		t.Fatal(err)
	}
	carried(false)
	if rules, _ = to.Rules(); len(rules.Usual.Generations) != 0 {
		t.Errorf("its own rules are gone: %+v", rules)
	}
	if events, _ := to.Journal(); len(events) != 1 || events[0].What != "rules taken over" {
		t.Errorf("%+v", events)
	}
}
