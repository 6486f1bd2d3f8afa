package keeping

import (
	"fmt"
	"slices"
	"time"

	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
	"twinshelf/internal/units"
)

const (
	weekLong = 7 * 24 * time.Hour
	// farthest is how far it is looked ahead, mostComing how many twins are followed.
	farthest   = 20 * 52 * weekLong
	mostComing = 5000
)

// Outlook is how the room of a shelf goes when a machine is captured at a steady pace.
type Outlook struct {
	PerWeek float64    `json:"runs_per_week"`
	Each    int64      `json:"brings"`        // bytes that each brings; 0 where that can't be told yet
	Free    store.Room `json:"free"`          // bytes
	Rule    string     `json:"rule"`          // by which twins are dropped; empty where none are
	Full    time.Time  `json:"full,omitzero"` // when what is dropped gives no room back
	// AtBest is when all that dropped twins brought comes back. Both are zero where that is farther away than can be
	// told.
	AtBest time.Time `json:"full_at_best,omitzero"`
}

// Brings is what each of a machine's twins brought after the first one, in bytes, as a mean of the last n; 0 where
// there is no second one.
func Brings(twins []*shelf.Twin, machine string, n int) int64 {
	mine := slices.DeleteFunc(slices.Clone(twins), func(t *shelf.Twin) bool { return t.Machine != machine })
	slices.SortFunc(mine, func(a, b *shelf.Twin) int { return a.Taken.Compare(b.Taken) })
	if len(mine) < 2 {
		return 0
	}
	mine = mine[max(1, len(mine)-n):]
	sum := int64(0)
	for _, t := range mine {
		sum += t.Added
	}
	return max(1, sum/int64(len(mine)))
}

// LookAhead works out when a shelf will be full.
func LookAhead(free store.Room, each int64, perWeek float64, r Rule, now time.Time) Outlook {
	o := Outlook{PerWeek: perWeek, Each: each, Free: free}
	if len(r.Generations) > 0 {
		o.Rule = r.Words()
	}
	if each <= 0 || perWeek <= 0 || !free.Known() {
		return o
	}
	if weeks := float64(free) / (float64(each) * perWeek); weeks < float64(farthest/weekLong) {
		o.Full = now.Add(time.Duration(weeks * float64(weekLong)))
	}
	if o.AtBest = o.Full; o.Rule != "" && !o.Full.IsZero() {
		o.AtBest = r.fullAt(int64(free)/each, time.Duration(float64(weekLong)/perWeek), now)
	}
	return o
}

// fullAt is when more than most twins are there, when one comes each time and the rule is applied once a week.
func (r Rule) fullAt(most int64, each time.Duration, now time.Time) time.Time {
	var twins []*shelf.Twin
	next := now
	for at := now.Add(weekLong); at.Before(now.Add(farthest)); at = at.Add(weekLong) {
		for ; next.Before(at) && len(twins) < mostComing; next = next.Add(max(each, time.Minute)) {
			twins = append(twins, &shelf.Twin{ID: fmt.Sprint(next.UnixNano()), Taken: next})
		}
		kept := twins[:0:0]
		for _, f := range Thin(twins, nil, r, at) {
			if !f.Goes {
				kept = append(kept, f.Twin)
			}
		}
		if twins = kept; int64(len(twins)) > most {
			return at
		}
		if len(twins) >= mostComing {
			break
		}
	}
	return time.Time{}
}

// Words say it in a sentence.
func (o Outlook) Words(now time.Time) string {
	pace := o.Free.Words()
	switch {
	case o.PerWeek <= 0:
		return pace + "; how often it runs can't be told beforehand"
	case o.Each == 0:
		return pace + "; what each run brings can't be told before its second one"
	}
	pace = fmt.Sprintf("%s; each run brings about %s", pace, units.Bytes(o.Each))
	switch {
	case !o.Free.Known():
		return pace
	case o.Full.IsZero():
		return pace + ", not full within 20 years"
	case o.Rule == "":
		return pace + ", full in " + until(o.Full.Sub(now)) + " at this pace, since nothing is dropped"
	case o.AtBest.IsZero():
		return fmt.Sprintf("%s, full in %s if nothing comes back from what is dropped (%s), not within 20 years if "+
			"all of it does", pace, until(o.Full.Sub(now)), o.Rule)
	}
	return fmt.Sprintf("%s, full in %s if nothing comes back from what is dropped (%s), in %s if all of it does", pace,
		until(o.Full.Sub(now)), o.Rule, until(o.AtBest.Sub(now)))
}

// until says a length of time as people plan by it.
func until(d time.Duration) string {
	const daysOfMonth = 365.25 / 12
	days := d.Hours() / 24
	switch {
	case days < 1:
		return "less than a day"
	case days < 14:
		return units.Plural(int(days+0.5), "day")
	case days < 2*daysOfMonth:
		return units.Plural(int(days/7+0.5), "week")
	case days < 36*daysOfMonth:
		return units.Plural(int(days/daysOfMonth+0.5), "month")
	}
	return units.Plural(int(days/365.25+0.5), "year")
}
