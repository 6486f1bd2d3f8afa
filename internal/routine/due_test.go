package routine_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/routine"
)

func parsed(t testing.TB, text string) *routine.Routine {
	t.Helper()
	r, err := routine.Parse(strings.NewReader("twinshelf routine 1\nname: Desk\nmachine: Ticket desk\n" +
		"disk: Kestrel, K1\nshelf: Oak\ndo: capture\nzone: Europe/Berlin\n" + text))
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func at(t testing.TB, s string) time.Time {
	t.Helper()
	x, err := time.ParseInLocation("2006-01-02 15:04", s, zone(t, "Europe/Berlin"))
	if err != nil {
		t.Fatal(err)
	}
	return x
}

// TestDue: what is due, for which time, what was missed, and what one waits for.
func TestDue(t *testing.T) {
	const now = "2026-11-29 20:00"
	there := map[string]time.Time{"K1": at(t, "2026-11-29 19:00")}
	for _, c := range []struct {
		name, text string
		made       string
		history    []routine.Entry
		pace       routine.Pace
		world      routine.World
		due        bool
		slot, next string
		missed     int
		waits      string
	}{
		{name: "due", text: "when: every day at 18:30", made: "2026-11-29 12:00", due: true, slot: "2026-11-29 18:30"},
		{name: "not since it was made", text: "when: every day at 18:30", made: "2026-11-29 19:00",
			next: "2026-11-30 18:30"},
		{name: "done", text: "when: every day at 18:30", made: "2026-11-01 12:00", next: "2026-11-30 18:30",
			history: []routine.Entry{{Slot: at(t, "2026-11-29 18:30"), Began: at(t, "2026-11-29 18:31"),
				Ended: at(t, "2026-11-29 18:40"), Outcome: routine.Failed}}},
		{name: "missed are made up once", text: "when: every day at 18:30", made: "2026-11-25 12:00", due: true,
			slot: "2026-11-29 18:30", missed: 4},
		{name: "by hand before its time", text: "when: every day at 18:30", made: "2026-11-29 12:00", due: true,
			slot: "2026-11-29 18:30", history: []routine.Entry{{Began: at(t, "2026-11-29 17:00"),
				Ended: at(t, "2026-11-29 17:05"), Outcome: routine.Done}}},
		{name: "by hand after it", text: "when: every day at 18:30", made: "2026-11-29 12:00",
			next: "2026-11-30 18:30", history: []routine.Entry{{Began: at(t, "2026-11-29 19:00"),
				Ended: at(t, "2026-11-29 19:05"), Outcome: routine.Done}}},
		{name: "waits for its hours", text: "when: every day at 18:30\nwithin: 22:00 to 5:00", made: "2026-11-29 12:00",
			slot: "2026-11-29 18:30", next: "2026-11-29 22:00"},
		{name: "in its hours", text: "when: every day at 18:30\nwithin: 19:00 to 5:00", made: "2026-11-29 12:00",
			due: true, slot: "2026-11-29 18:30"},
		{name: "its hours were yesterday", text: "when: every day at 3:00\nwithin: 22:00 to 5:00",
			made: "2026-11-28 12:00", slot: "2026-11-29 03:00", next: "2026-11-29 22:00"},
		{name: "disk away", text: "when: every day at 18:30", made: "2026-11-29 12:00", slot: "2026-11-29 18:30",
			world: routine.World{Since: map[string]time.Time{}}, waits: "Kestrel, K1 isn't attached"},
		{name: "on battery", text: "when: every day at 18:30\nonly on mains: yes", made: "2026-11-29 12:00",
			slot: "2026-11-29 18:30", world: routine.World{Battery: true, Since: there}, waits: "on battery"},
		{name: "stopped by a person", text: "when: every day at 18:30", made: "2026-11-29 12:00",
			next: "2026-11-30 18:30", history: []routine.Entry{{Slot: at(t, "2026-11-29 18:30"),
				Began: at(t, "2026-11-29 18:30"), Ended: at(t, "2026-11-29 18:40"), Outcome: routine.Stopped}}},
		{name: "cut off", text: "when: every day at 18:30", made: "2026-11-29 12:00", due: true,
			slot: "2026-11-29 18:30", history: []routine.Entry{{Slot: at(t, "2026-11-29 18:30"),
				Began: at(t, "2026-11-29 18:30"), Ended: at(t, "2026-11-29 18:40"), Outcome: routine.Cut}}},
		{name: "paused", text: "when: every day at 18:30", made: "2026-11-29 12:00", slot: "2026-11-29 18:30",
			pace: routine.Pace{Paused: true, Until: at(t, "2026-12-01 00:00")}, waits: "paused until 2026-12-01 00:00"},
		{name: "pause is over", text: "when: every day at 18:30", made: "2026-11-29 12:00", due: true,
			slot: "2026-11-29 18:30", pace: routine.Pace{Paused: true, Until: at(t, "2026-11-29 19:00")}},
		{name: "resumed", text: "when: every day at 18:30", made: "2026-11-20 12:00", next: "2026-11-30 18:30",
			pace: routine.Pace{Resumed: at(t, "2026-11-29 19:00")}},
		{name: "attached", text: "when: when attached for 2 minutes", made: "2026-11-20 12:00", due: true,
			slot: "2026-11-29 19:00"},
		{name: "just attached", text: "when: when attached for 2 hours", made: "2026-11-20 12:00"},
		{name: "once for each time that it is attached", text: "when: when attached for 2 minutes",
			made: "2026-11-20 12:00", history: []routine.Entry{{Slot: at(t, "2026-11-29 19:00"),
				Began: at(t, "2026-11-29 19:02"), Ended: at(t, "2026-11-29 19:05"), Outcome: routine.Done}}},
		{name: "too old", text: "when: when older than 8 days", made: "2026-11-01 12:00", due: true,
			slot: "2026-11-28 12:00", history: []routine.Entry{{Ended: at(t, "2026-11-20 12:00"),
				Began: at(t, "2026-11-20 11:00"), Outcome: routine.Nothing}}},
		{name: "too old, and failed just now", text: "when: when older than 8 days", made: "2026-11-01 12:00",
			next: "2026-11-29 20:55", history: []routine.Entry{{Began: at(t, "2026-11-29 19:50"),
				Ended: at(t, "2026-11-29 19:55"), Outcome: routine.Failed}}},
		{name: "a wrong clock wrote it", text: "when: every day at 18:30", made: "2026-11-29 12:00", due: true,
			slot: "2026-11-29 18:30", history: []routine.Entry{{Slot: at(t, "2036-01-01 18:30"),
				Began: at(t, "2036-01-01 18:30"), Ended: at(t, "2036-01-01 18:40"), Outcome: routine.Done}}},
	} {
		w := c.world
		if w.Now = at(t, now); w.Since == nil {
			w.Since = there
		}
		c.pace.Made = at(t, c.made)
		d := parsed(t, c.text).Due(c.history, c.pace, w)
		local := func(x time.Time) string {
			if x.IsZero() {
				return ""
			}
			return x.In(zone(t, "Europe/Berlin")).Format("2006-01-02 15:04")
		}
		if d.Now != c.due || local(d.Slot) != c.slot || len(d.Missed) != c.missed ||
			!strings.Contains(d.Waits, c.waits) || c.waits == "" && d.Waits != "" ||
			c.next != "" && local(d.Next) != c.next {
			t.Errorf("%s: %+v", c.name, d)
		}
	}
}

// TestSpread: it begins later by a part of what it is spread by, the same for the same time and another for others.
func TestSpread(t *testing.T) {
	r := parsed(t, "when: every day at 18:30\nspread: 30 minutes")
	seen := map[time.Duration]bool{}
	for day := range 40 {
		slot := at(t, "2026-01-01 18:30").AddDate(0, 0, day)
		pace := routine.Pace{Made: slot.Add(-time.Hour)}
		w := routine.World{Now: slot.Add(29 * time.Minute), Since: map[string]time.Time{"K1": slot}}
		d := r.Due(nil, pace, w)
		late := d.Next.Sub(slot)
		if d.Now {
			late = 0 // it began some time before
		}
		for m := range 31 {
			w.Now = slot.Add(time.Duration(m) * time.Minute)
			if r.Due(nil, pace, w).Now {
				late = time.Duration(m) * time.Minute
				break
			}
		}
		if late < 0 || late > 30*time.Minute {
			t.Errorf("day %d: %v late", day, late)
		}
		seen[late] = true
	}
	if len(seen) < 10 {
		t.Errorf("it is spread over %d times only", len(seen))
	}
}

// TestYear is a year of a shop: eight machines, a disk that is away for weeks, a machine that sleeps, runs that fail,
// and a person who runs some by hand. Every time of every routine is run for, or lies before one that was made up for,
// and none is run for twice.
func TestYear(t *testing.T) {
	r := rand.New(rand.NewPCG(2026, 11))
	texts := []string{"when: every day at 18:30", "when: every hour at :10", "when: every monday, thursday at 2:30",
		"when: every month on the last day at 6:00\nspread: 45 minutes", "when: every 6 hours\nwithin: 20:00 to 6:00",
		"when: when attached for 1 minute", "when: when older than 8 days", "when: every weekday at 12:00\nonly " +
			"on mains: yes"}
	for _, text := range texts {
		x := parsed(t, text)
		start := at(t, "2026-01-01 00:00")
		end := start.AddDate(1, 0, 0)
		pace := routine.Pace{Made: start}
		var history []routine.Entry
		slots := map[string]int{}
		since, away, asleep := start, time.Time{}, time.Time{}
		for now := start; now.Before(end); now = now.Add(time.Duration(5+r.IntN(25)) * time.Minute) {
			switch r.IntN(2000) {
			case 0:
				away = now.Add(time.Duration(r.IntN(72)) * time.Hour)
			case 1:
				asleep = now.Add(time.Duration(r.IntN(20)) * time.Hour)
			}
			if now.Before(asleep) {
				continue
			}
			w := routine.World{Now: now, Battery: r.IntN(10) == 0, Since: map[string]time.Time{"K1": since}}
			if now.Before(away) {
				since, w.Since = away, nil
			}
			d := x.Due(history, pace, w)
			if !d.Now {
				continue
			}
			slots[fmt.Sprint(d.Slot.Unix())]++
			if d.Slot.After(now) || now.Before(away) {
				t.Fatalf("%s: at %v it runs for %v", text, now, d.Slot)
			}
			outcome := routine.Done
			if r.IntN(12) == 0 {
				outcome = routine.Failed
			}
			for _, m := range d.Missed {
				slots[fmt.Sprint(m.Unix())]++
				history = append(history, routine.Entry{Slot: m, Ended: now, Outcome: routine.Missed})
			}
			history = append(history, routine.Entry{Slot: d.Slot, Began: now, Ended: now.Add(2 * time.Minute),
				Outcome: outcome})
			history = history[max(0, len(history)-200):]
		}
		for slot, n := range slots {
			if n != 1 {
				t.Errorf("%s: %d times for %s", text, n, slot)
			}
		}
		// Each time by the clock was run for or missed, but for the last ones.
		for at := start; ; {
			next := x.Ahead(at, 1)
			if len(next) == 0 || next[0].After(end.Add(-96*time.Hour)) {
				break
			}
			if at = next[0]; slots[fmt.Sprint(at.Unix())] == 0 {
				t.Errorf("%s: nothing for %v", text, at)
			}
		}
		if len(slots) < 12 {
			t.Errorf("%s ran %d times", text, len(slots))
		}
	}
}

// TestBook: routines are kept, found, changed, paused and removed; their history is there again, a line that was cut
// off costs only itself, and one that runs isn't run or removed by others.
func TestBook(t *testing.T) {
	dir := t.TempDir()
	b := routine.NewBook(dir)
	now := at(t, "2026-11-29 20:00")
	if _, err := b.Find("desk"); err == nil || !strings.Contains(err.Error(), "none was made yet") {
		t.Error(err)
	}
	r := parsed(t, "when: every day at 18:30")
	if err := b.Save(r, now); err != nil {
		t.Fatal(err)
	}
	other := *r
	other.Name = "Dock, weekly"
	if err := b.Save(&other, now); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"desk": "Desk", "DOCK": "Dock, weekly", "d": "could be",
		"x": "there are"} {
		got, err := b.Find(name)
		if err == nil && got.Name != want || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %+v, %v", name, got, err)
		}
	}
	for i, o := range []routine.Outcome{routine.Done, routine.Failed} {
		if err := b.Note("Desk", routine.Entry{Ended: now.Add(time.Duration(i) * time.Hour), Outcome: o,
			Log: slices.Repeat([]string{"line"}, 500)}); err != nil {
			t.Fatal(err)
		}
		tear(t, dir+"/Desk/history.jsonl")
	}
	if err := b.Note("Desk", routine.Entry{Ended: now.Add(9 * time.Hour), Outcome: routine.Nothing}); err != nil {
		t.Fatal(err)
	}
	h, unread, err := b.History("Desk")
	if err != nil || unread != 2 || len(h) != 3 || h[2].Outcome != routine.Nothing || len(h[0].Log) != 200 {
		t.Errorf("%d entries, %d unread, %v", len(h), unread, err)
	}
	if err := b.SetPace("Desk", func(p *routine.Pace) { p.Paused = true }); err != nil {
		t.Fatal(err)
	}
	if p, err := b.Pace("Desk"); err != nil || !p.Paused || !p.Made.Equal(now) {
		t.Errorf("%+v %v", p, err)
	}
	lock, err := b.Lock("Desk")
	if err != nil {
		t.Fatal(err)
	}
	var busy *routine.BusyError
	if _, err := b.Lock("Desk"); !asBusy(err, &busy) {
		t.Errorf("locked twice: %v", err)
	}
	if err := b.Remove("Desk"); !asBusy(err, &busy) {
		t.Errorf("removed while it runs: %v", err)
	}
	lock.Close()
	if err := b.Remove("Desk"); err != nil {
		t.Fatal(err)
	}
	if names, err := b.Names(); err != nil || !slices.Equal(names, []string{"Dock, weekly"}) {
		t.Errorf("%q %v", names, err)
	}
}
