package routine_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/routine"
)

// TestTriedAgain: a failure is tried again as often and as late as the routine says, for the same time; not once it was
// changed, and not beside a time that is due by itself.
func TestTriedAgain(t *testing.T) {
	r := parsed(t, "when: every day at 18:30\non failure: try again 2 times after 10 minutes")
	slot := at(t, "2026-11-29 18:30")
	failed := routine.Entry{Slot: slot, Began: slot, Ended: slot.Add(5 * time.Minute), Outcome: routine.Failed}
	again := failed
	again.Try, again.Began, again.Ended = 1, slot.Add(15*time.Minute), slot.Add(16*time.Minute)
	last := again
	last.Try, last.Began, last.Ended = 2, slot.Add(26*time.Minute), slot.Add(27*time.Minute)
	byHand := failed
	byHand.Slot = time.Time{}
	made := routine.Pace{Made: slot.Add(-48 * time.Hour)}
	for _, c := range []struct {
		name    string
		history []routine.Entry
		pace    routine.Pace
		after   time.Duration
		now     bool
		try     int
	}{
		{"too early", []routine.Entry{failed}, made, 14 * time.Minute, false, 1},
		{"first", []routine.Entry{failed}, made, 15 * time.Minute, true, 1},
		{"second", []routine.Entry{failed, again}, made, 26 * time.Minute, true, 2},
		{"no third", []routine.Entry{failed, again, last}, made, time.Hour, false, 0},
		{"changed since", []routine.Entry{failed}, routine.Pace{Made: slot.Add(6 * time.Minute)}, time.Hour, false, 0},
		{"paused", []routine.Entry{failed}, routine.Pace{Made: made.Made, Paused: true}, time.Hour, false, 1},
		{"by hand", []routine.Entry{byHand}, made, time.Hour, false, 0},
		{"the next day", []routine.Entry{failed}, made, 24 * time.Hour, true, 0},
	} {
		d := r.Due(c.history, c.pace, routine.World{Now: slot.Add(c.after), Since: map[string]time.Time{"K1": slot}})
		if d.Now != c.now || d.Try != c.try {
			t.Errorf("%s: %+v", c.name, d)
		}
		if c.now && c.try > 0 && !d.Slot.Equal(slot) {
			t.Errorf("%s: for %v", c.name, d.Slot)
		}
	}
}

// TestSilent: nothing that ended well for too long is told once, and again after as long; a pause is no silence.
func TestSilent(t *testing.T) {
	r := parsed(t, "when: every day at 18:30\nalarm: nothing for 8 days")
	start := at(t, "2026-11-01 12:00")
	day := 24 * time.Hour
	well := routine.Entry{Ended: start.Add(2 * day), Outcome: routine.Nothing}
	bad := routine.Entry{Ended: start.Add(9 * day), Outcome: routine.Failed}
	for _, c := range []struct {
		name    string
		history []routine.Entry
		pace    routine.Pace
		after   time.Duration
		told    bool
	}{
		{"new", nil, routine.Pace{Made: start}, 7 * day, false},
		{"never ran", nil, routine.Pace{Made: start}, 8 * day, true},
		{"ran well", []routine.Entry{well}, routine.Pace{Made: start}, 9 * day, false},
		{"only failures since", []routine.Entry{well, bad}, routine.Pace{Made: start}, 10 * day, true},
		{"told already", []routine.Entry{well}, routine.Pace{Made: start, Alarmed: start.Add(10 * day)}, 17 * day,
			false},
		{"told long ago", []routine.Entry{well}, routine.Pace{Made: start, Alarmed: start.Add(10 * day)}, 18 * day,
			true},
		{"paused", nil, routine.Pace{Made: start, Paused: true}, 20 * day, false},
		{"paused until yesterday", nil, routine.Pace{Made: start, Paused: true, Until: start.Add(19 * day)}, 20 * day,
			true},
	} {
		if since, told := r.Silent(c.history, c.pace, start.Add(c.after)); told != c.told {
			t.Errorf("%s: %v since %v", c.name, told, since)
		}
	}
}

// TestWeekly: the message of the week is due once a week, not for the time before it was wanted, once for weeks in
// which nobody was there, and not by a clock that was wrong.
func TestWeekly(t *testing.T) {
	b := routine.NewBook(t.TempDir())
	due := func(when string) bool {
		t.Helper()
		now, err := time.ParseInLocation("2006-01-02 15:04", when, time.Local)
		if err != nil {
			t.Fatal(err)
		}
		_, yes, err := b.WeeklyDue(now)
		if err != nil {
			t.Fatal(err)
		}
		if yes {
			if err := b.WeeklySent(now); err != nil {
				t.Fatal(err)
			}
		}
		return yes
	}
	for _, c := range []struct {
		when string
		want bool
	}{{"2026-11-30 09:00", false}, {"2026-12-06 23:00", false}, {"2026-12-07 07:59", false}, {"2026-12-07 08:00", true},
		{"2026-12-07 08:01", false}, {"2027-02-03 12:00", true}, {"2027-02-03 12:01", false},
		{"2025-02-03 12:00", false},
		{"2025-02-10 08:00", true}} {
		if got := due(c.when); got != c.want {
			t.Errorf("%s: %v", c.when, got)
		}
	}
	s := &routine.Standing{Routine: parsed(t, "tell weekly: mail a@b.example\ntell: mail a@b.example"),
		History: []routine.Entry{{Ended: at(t, "2026-11-01 12:00"), Outcome: routine.Failed},
			{Ended: at(t, "2026-12-01 12:00"), Outcome: routine.Done, Bytes: 5_000_000},
			{Ended: at(t, "2026-12-02 12:00"), Outcome: routine.Failed, Says: "the dock is empty"}}}
	if who, of := routine.WantWeekly([]*routine.Standing{s}); len(who) != 1 || len(of[who[0]]) != 1 {
		t.Errorf("%v", who)
	}
	if w := s.Week(at(t, "2026-11-30 08:00")).Words(); !strings.HasPrefix(w, "Desk: 1 done, 1 failed; 5.00 MB new; ") ||
		!strings.Contains(w, "the last run failed: the dock is empty") {
		t.Error(w)
	}
}

// TestPassphrases: one comes from a file, a credential or the routine itself; a file that others can read isn't used.
func TestPassphrases(t *testing.T) {
	b, dir := routine.NewBook(t.TempDir()), t.TempDir()
	r := parsed(t, "passphrase: kept")
	if err := b.Save(r, time.Now()); err != nil {
		t.Fatal(err)
	}
	read := func(keeper routine.Keeper, name string) (string, error) {
		p, err := b.Passphrase(r, routine.Source{Keeper: keeper, Name: name})
		return string(p), err
	}
	file := filepath.Join(dir, "oak.pass")
	if err := os.WriteFile(file, []byte("gulls over the pier\r\nsecond line\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if p, err := read(routine.InFile, file); err != nil || p != "gulls over the pier" {
		t.Errorf("%q %v", p, err)
	}
	for _, mode := range []os.FileMode{0o640, 0o604, 0o620} {
		if err := os.Chmod(file, mode); err != nil {
			t.Fatal(err)
		}
		var open *routine.OpenToOthersError
		if _, err := read(routine.InFile, file); !errors.As(err, &open) || open.Path != file {
			t.Errorf("%v: %v", mode, err)
		}
	}
	if _, err := read(routine.InFile, dir); err == nil || !strings.Contains(err.Error(), "is no file") {
		t.Errorf("a folder: %v", err)
	}
	t.Setenv("CREDENTIALS_DIRECTORY", "")
	if _, err := read(routine.InCredential, "oak.pass"); err == nil || !strings.Contains(err.Error(), "systemd") {
		t.Errorf("%v", err)
	}
	t.Setenv("CREDENTIALS_DIRECTORY", dir)
	if p, err := read(routine.InCredential, "oak.pass"); err != nil || p != "gulls over the pier" {
		t.Errorf("%q %v", p, err)
	}
	if _, err := read(routine.InCredential, "elm.pass"); err == nil || !strings.Contains(err.Error(), "credstore") {
		t.Errorf("%v", err)
	}
	if _, err := read(routine.InRoutine, ""); err == nil || !strings.Contains(err.Error(), "no passphrase is kept") {
		t.Errorf("%v", err)
	}
	if err := b.KeepPassphrase(r.Name, []byte("low tide at nine")); err != nil {
		t.Fatal(err)
	}
	if p, err := read(routine.InRoutine, ""); err != nil || p != "low tide at nine" {
		t.Errorf("%q %v", p, err)
	}
	if err := b.KeepPassphrase(r.Name, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := read(routine.InRoutine, ""); err == nil {
		t.Error("it is still there")
	}
}

// TestLive: others see how a run goes and ask it to stop; what is left of one that was killed stops no later one.
func TestLive(t *testing.T) {
	b := routine.NewBook(t.TempDir())
	r := parsed(t, "")
	if err := b.Save(r, time.Now()); err != nil {
		t.Fatal(err)
	}
	var idle *routine.IdleError
	if err := b.AskStop(r.Name); !errors.As(err, &idle) {
		t.Errorf("idle: %v", err)
	}
	lock, err := b.Lock(r.Name)
	if err != nil {
		t.Fatal(err)
	}
	defer lock.Close()
	if err := b.AskStop(r.Name); err == nil || !strings.Contains(err.Error(), "only just begun") {
		t.Errorf("%v", err)
	}
	began := time.Now()
	l := routine.Live{Began: began, Seen: began, Process: 77, Phase: "Read", Done: 5_000_000, Total: 10_000_000,
		Left: time.Minute}
	if err := b.Show(r.Name, l); err != nil {
		t.Fatal(err)
	}
	s, err := b.Standing(r, routine.World{Now: began})
	if err != nil || s.Live == nil || !strings.Contains(s.Live.Words(), "Read, 50 % of 10.0 MB, up to 1 min") {
		t.Errorf("%s %v", s.Live.Words(), err)
	}
	if b.StopAsked(r.Name, began) {
		t.Error("nobody asked")
	}
	if err := b.AskStop(r.Name); err != nil || !b.StopAsked(r.Name, began) || b.StopAsked(r.Name, began.Add(1)) {
		t.Errorf("asked: %v", err)
	}
	if err := b.EndLive(r.Name); err != nil || b.StopAsked(r.Name, began) || b.Live(r.Name) != nil {
		t.Errorf("over: %v", err)
	}
}

// TestLocks: two routines never use one disk at once, whether to read or to erase it; one that wants idle hands waits
// for whoever works on disks.
func TestLocks(t *testing.T) {
	b := routine.NewBook(t.TempDir())
	b.Working().Close() // without routines it is nobody's affair
	one := parsed(t, "when: every day at 18:30\nonly when idle: yes")
	if err := b.Save(one, time.Now()); err != nil {
		t.Fatal(err)
	}
	spare := *one
	spare.Disks, spare.Spares = []routine.Disk{{Model: "Heron", Serial: "H1"}}, one.Disks
	first, err := b.LockDisks(one)
	if err != nil {
		t.Fatal(err)
	}
	var busy *routine.DiskBusyError
	if _, err := b.LockDisks(&spare); !errors.As(err, &busy) || busy.Disk.Serial != "K1" {
		t.Errorf("%v", err)
	}
	if err := first.Close(); err != nil {
		t.Fatal(err)
	}
	second, err := b.LockDisks(&spare) // what it had locked before it failed is free again
	if err != nil {
		t.Fatal(err)
	}
	second.Close()
	if names, err := b.Names(); err != nil || len(names) != 1 {
		t.Errorf("%q %v", names, err)
	}
	due := func() routine.Due {
		slot := at(t, "2026-11-29 18:30")
		return one.Due(nil, routine.Pace{Made: slot.Add(-time.Hour)}, routine.World{Now: slot, Busy: !b.Idle(),
			Since: map[string]time.Time{"K1": slot}})
	}
	working := b.Working()
	more := b.Working()
	more.Close()
	if d := due(); d.Now || d.Waits != "other work on disks is on" {
		t.Errorf("%+v", d)
	}
	working.Close()
	if d := due(); !d.Now {
		t.Errorf("%+v", d)
	}
}
