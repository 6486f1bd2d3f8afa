package job

import (
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"twinshelf/internal/disk"
)

func entries(t *testing.T) []Entry {
	t.Helper()
	at := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)
	next := func(kind Kind) Entry {
		at = at.Add(time.Minute)
		e := NewEntry(kind)
		e.At, e.ID = at, at.Format("20060102T150405.000000Z")+"-"+NewID()[:8]
		return e
	}
	about := next(About)
	about.About = &Case{Number: "2026-007", Machine: "Ticket desk", Customer: "Maud Ellingsen"}
	begun := next(Begun)
	begun.Begun = &Work{Sort: Restore, Title: "Restore of Ticket desk", Twin: "20261120T165800Z-ab12cd",
		After: []Disk{{Identity: disk.Identity{Model: "Heron H1 1 TB", Serial: "HH1-90C2E7731"}}}}
	note := next(Noted)
	note.Note = "the old drive clicks"
	ended := next(Ended)
	ended.Ended = &Result{Work: begun.ID, State: "done", Seconds: 12}
	cut := next(Begun)
	cut.Begun = &Work{Sort: Capture, Title: "Capture of Ticket desk"}
	closed := next(Closed)
	return []Entry{about, begun, note, ended, cut, closed}
}

// TestOrderDoesntMatter: entries tell the same case in whatever order they come, and however often.
func TestOrderDoesntMatter(t *testing.T) {
	all := entries(t)
	r := rand.New(rand.NewPCG(1, 2))
	for range 50 {
		mixed := append(slices.Clone(all), all[r.IntN(len(all))])
		r.Shuffle(len(mixed), func(i, j int) { mixed[i], mixed[j] = mixed[j], mixed[i] })
		j := Of("0123456789abcdef", mixed)
		if len(j.Entries) != len(all) || j.Title() != "2026-007, Ticket desk, Maud Ellingsen" || j.Open() ||
			!j.Opened.Equal(all[0].At) || !j.Last().Equal(all[5].At) {
			t.Fatalf("%+v", j)
		}
		works := j.Works()
		if len(works) != 2 || works[0].Result == nil || works[0].Result.Seconds != 12 || works[1].Result != nil ||
			works[0].ID != all[1].ID || len(j.Notes()) != 1 {
			t.Fatalf("%+v", works)
		}
	}
	j := Of("0123456789abcdef", all)
	for text, want := range map[string]bool{"7731": true, "CLICKS": true, "maud": true, "ab12cd": true,
		"weigh": false} {
		if j.Has(text) != want {
			t.Errorf("%q is in it: %v", text, !want)
		}
	}
	reopened := NewEntry(Reopened)
	if j = Of("0123456789abcdef", append(all, reopened)); !j.Open() {
		t.Error("a case that was opened again is closed")
	}
}

// TestBookOutlivesDamage: a record is read as far as it can be read, at whatever byte it was cut off or changed, and
// goes on.
func TestBookOutlivesDamage(t *testing.T) {
	all := entries(t)
	b := NewBook(filepath.Join(t.TempDir(), "jobs"))
	id := NewID()
	if err := b.Append(id, all...); err != nil {
		t.Fatal(err)
	}
	whole, err := os.ReadFile(b.path(id))
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(3, 4))
	for n := range 200 {
		bytes := slices.Clone(whole)
		lines := strings.Count(string(whole), "\n")
		switch n % 2 {
		case 0:
			bytes = bytes[:r.IntN(len(bytes))]
			lines = strings.Count(string(bytes), "\n")
		default:
			bytes[r.IntN(len(bytes))] ^= byte(1 + r.IntN(255))
			lines -= 2 // an end of a line may be gone
		}
		if err := os.WriteFile(b.path(id), bytes, 0o600); err != nil {
			t.Fatal(err)
		}
		note := NewEntry(Noted)
		note.Note = "goes on"
		if err := b.Append(id, note); err != nil {
			t.Fatal(err)
		}
		j, err := b.Read(id)
		if err != nil || len(j.Entries) < lines+1 || j.Entries[len(j.Entries)-1].Note != "goes on" {
			t.Fatalf("%d: %v, %d entries of %d lines, %v", n, err, len(j.Entries), lines, j.Problems)
		}
		for _, p := range j.Problems {
			if damage := new(Damage); !errors.As(p, &damage) || damage.Line < 1 {
				t.Errorf("%v", p)
			}
		}
	}
}

func TestBook(t *testing.T) {
	b := NewBook(filepath.Join(t.TempDir(), "jobs"))
	if jobs, problems := b.List(); len(jobs) != 0 || len(problems) != 0 {
		t.Fatal(jobs, problems)
	}
	if _, err := b.Read(NewID()); !errors.Is(err, ErrNoJob) {
		t.Error(err)
	}
	for _, id := range []string{"", "../x", "0123", strings.Repeat("g", 16)} {
		if _, err := b.Read(id); !errors.Is(err, ErrNoJob) {
			t.Errorf("%q: %v", id, err)
		}
		if err := b.Append(id, NewEntry(Noted)); !errors.Is(err, ErrNoJob) {
			t.Errorf("%q: %v", id, err)
		}
	}
	first, second := NewID(), NewID()
	if err := b.Append(first, entries(t)...); err != nil {
		t.Fatal(err)
	}
	about := NewEntry(About)
	about.About = &Case{Number: "2026-008", Machine: "Harbour kiosk"}
	if err := b.Append(second, about); err != nil {
		t.Fatal(err)
	}
	jobs, problems := b.List()
	if len(jobs) != 2 || len(problems) != 0 || jobs[0].ID != second {
		t.Fatalf("%v %v", jobs, problems)
	}
	for ref, want := range map[string]string{"2026-007": first, "harbour KIOSK": second, second: second,
		strings.ToUpper(first[:6]): first} {
		if j, err := Find(jobs, ref); err != nil || j.ID != want {
			t.Errorf("%q: %v %v", ref, j, err)
		}
	}
	for _, ref := range []string{"", "2026", "nobody"} {
		if _, err := Find(jobs, ref); !errors.Is(err, ErrNoJob) {
			t.Errorf("%q: %v", ref, err)
		}
	}
	long := NewEntry(Noted)
	long.Note = strings.Repeat("x", maxEntry)
	if err := b.Append(first, long); err == nil {
		t.Error("an entry that can't be read again is written")
	}
	if err := os.WriteFile(b.path(first)+".x", nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if ids, err := b.IDs(); err != nil || len(ids) != 2 {
		t.Errorf("%v %v", ids, err)
	}
	under := NewBook(b.path(first)) // a file is where the folder would be
	if err := under.Append(second, NewEntry(Noted)); err == nil || !strings.Contains(err.Error(), "can't be kept") {
		t.Errorf("%v", err)
	}
}

// TestTwoWriters: entries of two programs at once are all there.
func TestTwoWriters(t *testing.T) {
	b := NewBook(t.TempDir())
	id := NewID()
	var both sync.WaitGroup
	for range 2 {
		both.Go(func() {
			for range 50 {
				if err := b.Append(id, NewEntry(Noted)); err != nil {
					t.Error(err)
				}
			}
		})
	}
	both.Wait()
	if j, err := b.Read(id); err != nil || len(j.Entries) != 100 || len(j.Problems) > 0 {
		t.Errorf("%v %+v", err, j)
	}
}

func TestNumbers(t *testing.T) {
	now := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)
	of := func(numbers ...string) (jobs []*Job) {
		for _, n := range numbers {
			jobs = append(jobs, &Job{Case: Case{Number: n}})
		}
		return jobs
	}
	for _, c := range []struct {
		pattern string
		jobs    []*Job
		want    string
	}{
		{"", nil, "2026-001"}, {"no digits", nil, "2026-001"},
		{UsualNumbers, of("2026-001", "2026-009", "x"), "2026-010"},
		{UsualNumbers, of("2025-042"), "2026-001"}, {"F-NN/YYYY", of("F-07/2026", "F-99/2025"), "F-08/2026"},
		{"NN", of("99"), "100"}, {"YYYY-NNN", of("2026-999999999999999999"), "2026-001"},
	} {
		if got := NextNumber(c.pattern, now, c.jobs); got != c.want {
			t.Errorf("%q after %d: %s, not %s", c.pattern, len(c.jobs), got, c.want)
		}
	}
}

// FuzzRecord: no bytes of a record make reading it fail, or more of it than there is.
func FuzzRecord(f *testing.F) {
	f.Add([]byte("{\"id\":\"a\",\"when\":\"2026-11-28T09:00:00Z\",\"kind\":\"note\"}\n{\n\n"))
	f.Fuzz(func(t *testing.T, record []byte) {
		all, problems := readEntries(strings.NewReader(string(record)), "x")
		if lines := strings.Count(string(record), "\n") + 1; len(all) > lines || len(problems) > 2*lines {
			t.Errorf("%d entries and %d problems in %d lines", len(all), len(problems), lines)
		}
		j := Of("x", all)
		j.Works()
		j.Has("x")
	})
}
