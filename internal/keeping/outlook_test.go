package keeping

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
)

// TestLookAhead: room that nothing comes back to is full after as many runs as it has room for; a rule that keeps a
// fixed number never fills it at best, one that keeps some for ever does so later.
func TestLookAhead(t *testing.T) {
	now := at("2026-11-30 12:00")
	rule := func(text string) Rule {
		r, err := ReadRule(text)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	for _, c := range []struct {
		rule               string
		free, each         int64
		perWeek            float64
		full, atBest, says string
	}{
		{"every one for ever", 520e9, 1e9, 10, "2027-11", "2027-11", "full in 12 months at this pace, since nothing " +
			"is"},
		{"one a day for 1 month, older ones go", 520e9, 1e9, 10, "2027-11", "0001-01",
			"full in 12 months if nothing comes back from what is dropped (one a day for 1 month, older ones go; " +
				"never"},
		{"one a week for 1 month, then one a month for ever", 130e9, 1e9, 7, "2027-04", "2037-01", "in 10 years if " +
			"all"},
		{"every one for ever", 520e9, 1e9, 0, "0001-01", "0001-01", "520 GB free; how often it runs can't be told"},
		{"every one for ever", 520e9, 0, 7, "0001-01", "0001-01", "can't be told before its second one"},
		{"every one for ever", 90e12, 1e6, 1, "0001-01", "0001-01", "not full within 20 years"},
		{"every one for ever", int64(store.Untold), 1e9, 7, "0001-01", "0001-01", "how much is free isn't told; each " +
			"run brings about 1.00 GB"},
		{"every one for ever", 1e9, 1e9, 14, "2026-12", "2026-12", "full in less than a day"},
	} {
		o := LookAhead(store.Room(c.free), c.each, c.perWeek, rule(c.rule), now)
		if full, best := o.Full.Format("2006-01"), o.AtBest.Format("2006-01"); full != c.full || best != c.atBest ||
			!strings.Contains(o.Words(now), c.says) {
			t.Errorf("%s: full %s, at best %s; %s", c.rule, full, best, o.Words(now))
		}
	}
	var twins []*shelf.Twin
	for i, added := range []int64{900, 10, 20, 30} {
		twins = append(twins, &shelf.Twin{ID: fmt.Sprint(i), Machine: "Kiosk", Added: added,
			Taken: now.Add(time.Duration(i) * time.Hour)})
	}
	twins = append(twins, &shelf.Twin{ID: "x", Machine: "Desk", Added: 7})
	for n, want := range map[int]int64{2: 25, 10: 20} {
		if got := Brings(twins, "Kiosk", n); got != want {
			t.Errorf("the last %d bring %d", n, got)
		}
	}
	if got := Brings(twins, "Desk", 5); got != 0 {
		t.Errorf("a first one brings %d", got)
	}
}
