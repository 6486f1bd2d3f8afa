package routine_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"twinshelf/internal/keeping"
	"twinshelf/internal/routine"
	"twinshelf/internal/shelf"
)

// shopMachine is a machine of a simulated shop, with its routine and what it has on the shelf.
type shopMachine struct {
	routine *routine.Routine
	history []routine.Entry
	twins   []*shelf.Twin // on the shelf
	taken   []*shelf.Twin // ever
	since   time.Time     // its disk is attached
	away    time.Time     // until then it isn't
	told    map[string]bool
}

// run does the work of a routine: a capture that the shelf has room for or not, and thinning by its own rule.
func (m *shopMachine) run(t *testing.T, d routine.Due, now time.Time, full, killed bool) {
	e := routine.Entry{Slot: d.Slot, Try: d.Try, Began: now, Ended: now.Add(time.Minute), Outcome: routine.Done}
	for _, at := range d.Missed {
		m.history = append(m.history, routine.Entry{Slot: at, Ended: now, Outcome: routine.Missed})
	}
	switch {
	case killed:
		e.Outcome = routine.Cut
	case full:
		e.Outcome = routine.Failed
	default:
		twin := &shelf.Twin{ID: fmt.Sprint(now.Unix()), Taken: now}
		m.twins, m.taken = append(m.twins, twin), append(m.taken, twin)
		goes, next := routine.Leaving(keeping.Thin(m.twins, nil, m.routine.Keep, now), m.history)
		gone := map[string]bool{}
		for _, f := range goes {
			if !m.told[f.ID] {
				t.Fatalf("%s goes and nobody was told", f.Twin.Taken)
			}
			gone[f.ID] = true
		}
		for _, f := range next {
			e.Leaving, m.told[f.ID] = append(e.Leaving, f.ID), true
		}
		kept := m.twins[:0:0]
		for _, x := range m.twins {
			if !gone[x.ID] {
				kept = append(kept, x)
			}
		}
		m.twins = kept
	}
	m.history = append(m.history, e)
	m.history = m.history[max(0, len(m.history)-100):]
}

// TestShop is a year of a shop with eight machines, whose disks come and go, on a host that sleeps, and whose shelf is
// full for days: runs fail, are tried again, are killed. At the end each machine has the dates that its rule promises:
// one of each day, of each week, of each month that it was captured in.
func TestShop(t *testing.T) {
	const day = 24 * time.Hour
	start := at(t, "2026-01-01 00:00")
	r := rand.New(rand.NewPCG(8, 2026))
	var machines []*shopMachine
	for i := range 8 {
		when := []string{"every day at 18:30", "every 2 hours", "every weekday at 12:00", "every monday, friday at " +
			"8:00"}[i%4]
		machines = append(machines, &shopMachine{since: start, told: map[string]bool{}, routine: parsed(t,
			"do: thin\nwhen: "+
				when+"\nkeep: one a day for 1 month, then one a week for 6 months, then one a month for ever; never "+
				"fewer than 3\non failure: try again 3 times after 20 minutes")})
	}
	pace := routine.Pace{Made: start}
	room, held := 400, 0
	asleep, cleared := start, start
	end := start.AddDate(1, 0, 0)
	for now := start; now.Before(end); now = now.Add(time.Duration(10+r.IntN(30)) * time.Minute) {
		if r.IntN(3000) == 0 {
			asleep = now.Add(time.Duration(r.IntN(30)) * time.Hour)
		}
		held = 0
		for _, m := range machines {
			held += len(m.twins)
		}
		full := held >= room
		switch {
		case !full:
			cleared = now.Add(time.Duration(24+r.IntN(72)) * time.Hour)
		case now.After(cleared): // somebody brings a larger drive
			room += 60
		}
		if now.Before(asleep) {
			continue
		}
		for _, m := range machines {
			if r.IntN(8000) == 0 {
				m.away = now.Add(time.Duration(r.IntN(100)) * time.Hour)
			}
			w := routine.World{Now: now, Since: map[string]time.Time{"K1": m.since}}
			if now.Before(m.away) {
				m.since, w.Since = m.away, nil
			}
			if d := m.routine.Due(m.history, pace, w); d.Now {
				m.run(t, d, now, full, r.IntN(40) == 0)
			}
		}
	}
	if room == 400 {
		t.Error("the shelf was never full")
	}
	for i, m := range machines {
		if len(m.taken) < 60 {
			t.Errorf("machine %d was captured %d times", i, len(m.taken))
		}
		for _, x := range m.taken {
			within, age := 45*day, end.Sub(x.Taken)
			switch {
			case age < 29*day:
				within = day
			case age < 200*day:
				within = 10 * day
			}
			if !near(m.twins, x.Taken, within) {
				t.Errorf("machine %d: of %s nothing is left within %s", i, x.Taken.Format("2006-01-02 15:04"), within)
			}
		}
		if most := 30 + 27 + 8 + 4; len(m.twins) > most {
			t.Errorf("machine %d: %d twins are left, %d at the most were promised", i, len(m.twins), most)
		}
	}
}

// near says whether one of the twins was taken within so long of a moment.
func near(twins []*shelf.Twin, at time.Time, within time.Duration) bool {
	for _, x := range twins {
		if x.Taken.Sub(at).Abs() <= within {
			return true
		}
	}
	return false
}
