package keeping

import (
	"fmt"
	"slices"
	"time"

	"twinshelf/internal/shelf"
)

// Fate is what a rule means for a twin.
type Fate struct {
	Twin *shelf.Twin `json:"-"`
	ID   string      `json:"twin"`
	Goes bool        `json:"goes"`
	Why  string      `json:"why"`
}

// Thin says what a rule means for the twins of one machine, newest first. It is pure: nothing is dropped. What always
// stays: the newest twin, the newest one that is quiet and complete, those that are kept for ever, and as many as the
// floor says.
func Thin(twins []*shelf.Twin, pins map[string]shelf.Pin, r Rule, now time.Time) []Fate {
	twins = slices.Clone(twins)
	slices.SortStableFunc(twins, func(a, b *shelf.Twin) int { return b.Taken.Compare(a.Taken) })
	good := slices.IndexFunc(twins, func(t *shelf.Twin) bool { return t.Quiet() && t.Missing() == 0 })
	out := make([]Fate, len(twins))
	taken := map[string]bool{}
	for i, t := range twins {
		f := Fate{Twin: t, ID: t.ID}
		slot, words, ok := r.slot(t.Taken, now)
		m, kept := pins[t.ID]
		switch {
		case len(r.Generations) == 0:
			f.Why = "every one stays"
		case kept:
			f.Why = "kept for ever: " + m.Note
		case i == 0:
			f.Why = "the newest"
		case i == good:
			f.Why = "the newest that is quiet and complete"
		case i < r.Floor:
			f.Why = fmt.Sprintf("one of the %d newest", r.Floor)
		case !ok:
			f.Goes, f.Why = true, "older than the rule reaches"
		case slot == "":
			f.Why = words
		case taken[slot]:
			f.Goes, f.Why = true, "a newer one covers the same time ("+words+")"
		default:
			f.Why = words
		}
		if slot != "" && !f.Goes {
			taken[slot] = true
		}
		out[i] = f
	}
	return out
}

// slot names the stretch of time in which a twin stands; ok is false beyond the last generation. An
// empty slot is one of its own. Slots of a day and more begin at local midnight.
func (r Rule) slot(taken, now time.Time) (slot, words string, ok bool) {
	age := now.Sub(taken)
	reach := time.Duration(0)
	for i, g := range r.Generations {
		reach += time.Duration(g.For) * time.Hour
		if g.For > 0 && age >= reach {
			continue
		}
		if g.Every == 0 {
			return "", g.Words(), true
		}
		_, offset := taken.Zone()
		n := (taken.Unix() + int64(offset)) / int64(g.Every*3600)
		return fmt.Sprintf("%d/%d", i, n), g.Words(), true
	}
	return "", "", len(r.Generations) == 0
}
