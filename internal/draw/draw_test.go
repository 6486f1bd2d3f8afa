package draw

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"twinshelf/internal/inside"
	"twinshelf/internal/job"
	"twinshelf/internal/keeping"
	"twinshelf/internal/names"
	"twinshelf/internal/scene"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/testkit"
)

var noon = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

// sound checks that a drawing is well-formed, that nothing of it lies outside, and that it says what it should.
func sound(t *testing.T, s *scene.Scene, says ...string) {
	t.Helper()
	const slack = 1.0 // the width of lines and marks
	for _, p := range s.Shapes {
		for _, q := range p.Points {
			if !(q.X >= -slack && q.Y >= -slack && q.X <= s.W+slack && q.Y <= s.H+slack) {
				t.Fatalf("a shape is at %.1f, %.1f, outside of %.0f×%.0f", q.X, q.Y, s.W, s.H)
			}
		}
	}
	all := ""
	for _, x := range s.Texts {
		all += x.Words + "\n"
		wide := scene.Width(x.Words, x.Size, x.Bold)
		left := x.X - wide*[]float64{0, 0.5, 1}[x.Side]
		if !x.Turned && (left < -slack || left+wide > s.W+slack || x.Y > s.H+slack) {
			t.Errorf("%q is at %.1f, %.1f and %.1f wide, outside of %.0f×%.0f", x.Words, left, x.Y, wide, s.W, s.H)
		}
	}
	for _, want := range says {
		if !strings.Contains(all, want) {
			t.Errorf("no %q in\n%s", want, all)
		}
	}
	for d := xml.NewDecoder(bytes.NewReader(s.SVG())); ; {
		if _, err := d.Token(); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatal(err)
		}
	}
	file := filepath.Join(t.TempDir(), "x.svg")
	if err := os.WriteFile(file, s.SVG(), 0o600); err != nil {
		t.Fatal(err)
	}
	testkit.Do(t, "rsvg-convert", "-o", file+".png", file)
	if dir := os.Getenv("TWINSHELF_LOOK"); dir != "" { // to be looked at by hand
		name := fmt.Sprintf("%s-%d.png", t.Name(), len(s.Shapes))
		testkit.Do(t, "rsvg-convert", "-z", "1.2", "-b", "white", "-o", filepath.Join(dir, name), file)
	}
}

// TestGrowth: every machine has a line, and a shelf that fills says when it is full.
func TestGrowth(t *testing.T) {
	var twins []*shelf.Twin
	for i := range 40 {
		twins = append(twins, &shelf.Twin{Machine: fmt.Sprintf("Kiosk %d & co", i%20), Taken: noon.AddDate(0, 0, i),
			Added: int64(i) * 1e9})
	}
	now := noon.AddDate(0, 0, 41)
	ahead := keeping.Foresee(twins, 780e9, 300e9, now)
	s, err := Growth("Oak", twins, ahead, now)
	if err != nil {
		t.Fatal(err)
	}
	sound(t, s, "all machines", "Kiosk 19 & co", "full, about "+ahead.Full.Format("January 2006"), "800 GB", "Oak: ")
	if s, err = Growth("Oak", twins[:1], keeping.Foresee(twins[:1], 1, 1, noon), noon); err != nil {
		t.Fatal(err)
	}
	sound(t, s, "all machines")
	lines := series(twins, now)
	if len(lines) != 1+mostLines || lines[0].points[len(lines[0].points)-1].Y != 780e9 ||
		lines[1].name != "Kiosk 19 & co" {
		t.Errorf("%d lines, %v", len(lines), lines[1])
	}
	if _, err := Growth("Oak", nil, ahead, now); !errors.Is(err, ErrNoTwins) {
		t.Error(err)
	}
}

func TestRate(t *testing.T) {
	pace := &job.Pace{Phases: []job.PhaseAt{{Phase: "Read and store", At: 0}, {Phase: "Read and store again", At: 2},
		{Phase: "Try unreadable places again", At: 3000}},
		Pauses: []job.Pause{{From: 600, To: 1200}, {From: 3500}},
		Missed: []job.Miss{{At: 1500, Bytes: 4096}, {At: 1600, Bytes: 8192}}}
	for i := range 240 {
		if at := float64(i) * 15; at < 600 || at > 1200 {
			pace.Samples = append(pace.Samples, job.Sample{At: at, Rate: 120e6 + 40e6*math.Sin(at/300)})
		}
	}
	s, err := Rate("Capture of Slipway crane", pace, 3600, 3300)
	if err != nil {
		t.Fatal(err)
	}
	sound(t, s, "rate", "paused", "expected end, after 55 min", "couldn't be read or written at first: 12.3 kB",
		"Try unreadable places again", "0:30:00", "150 MB/s", "bytes per second")
	if s, err = Rate("short", &job.Pace{Samples: []job.Sample{{At: 0.3, Rate: 0}}}, 0.4, 0); err != nil {
		t.Fatal(err)
	}
	sound(t, s, "rate")
	for _, none := range []*job.Pace{nil, {}} {
		if _, err := Rate("none", none, 1, 1); !errors.Is(err, ErrNoPace) {
			t.Error(err)
		}
	}
}

// TestHistory: dates lie to scale, and what the rule would drop is marked and listed.
func TestHistory(t *testing.T) {
	var fates []keeping.Fate
	for i := range 30 {
		fates = append(fates, keeping.Fate{Twin: &shelf.Twin{ID: fmt.Sprint(i), Machine: "Ticket desk",
			Taken: noon.AddDate(0, 0, -7*i), Added: int64(math.Pow(10, float64(3+i%7)))}, Goes: i%3 == 2,
			Why: "because"})
	}
	one := keeping.MachinePreview{Machine: "Ticket desk", Rule: "one a week for 8 weeks, one a month for a year",
		Fates: fates}
	d := Dates{Title: "Oak", Machines: []keeping.MachinePreview{one}, Kept: map[string]bool{"1": true},
		Proven: map[string]bool{"0": true}, Now: noon.AddDate(0, 0, 3)}
	s, err := d.History()
	if err != nil {
		t.Fatal(err)
	}
	sound(t, s, "Ticket desk", "stays: because; proven", "goes: because", "+1.00 GB", "kept for ever", "now")
	bars := barsOf(s)
	if len(bars) != 30 {
		t.Fatalf("%d bars", len(bars))
	}
	week := bars[0] - bars[1]
	for i := range 29 {
		if math.Abs(bars[i]-bars[i+1]-week) > 0.05 {
			t.Errorf("from date %d to the next it is %.2f mm, not %.2f", i, bars[i]-bars[i+1], week)
		}
	}
	d.Machines = append(d.Machines, keeping.MachinePreview{Machine: "Weighbridge", Fates: fates[:1]})
	if s, err = d.History(); err != nil {
		t.Fatal(err)
	}
	sound(t, s, "Weighbridge")
	if _, err := (Dates{}).History(); !errors.Is(err, ErrNoTwins) {
		t.Error(err)
	}
}

// barsOf are where the bars of a history begin, in their order.
func barsOf(s *scene.Scene) (at []float64) {
	for _, p := range s.Shapes {
		if p.Closed && len(p.Points) == 4 && p.Line != nil && p.Fill != nil {
			at = append(at, p.Points[0].X)
		}
	}
	return at
}

// TestMap: what is rarest shows, a cell is used where any byte of it is, and the sums are right.
func TestMap(t *testing.T) {
	const size = int64(400e9)
	m := &Map{Title: "Kiosk", Size: size, File: "srv/fares <2026>.csv", Parts: []scene.Part{{Number: 1, Title: "root",
		Start: 1 << 20, Size: size / 2}}}
	m.Add(span.At(0, 1<<20), NoPart)
	m.Add(span.At(1<<20, size/4), Used)
	m.Add(span.At(1<<20+size/4, size/4), Free)
	m.Add(span.At(1<<20+size/4+size/8, 1), Used)
	m.Add(span.At(size/8, 4096), Missing)
	m.Add(span.At(size/10, 512), Chosen)
	m.Add(span.At(size-1, 100), Chosen) // beyond the end
	m.Add(span.At(-5, 3), Used)
	for at, want := range map[int64]Stretch{size / 20: Used, size / 8: Missing, size / 10: Chosen, size - 1: Chosen,
		1<<20 + size/4 + size/8: Used, size * 4 / 10: Free, size * 9 / 10: NoPart} {
		if got := m.look(m.cell(at)); got != want {
			t.Errorf("at %d it is %q, not %q", at, stretchWords[got], stretchWords[want])
		}
	}
	sound(t, m.Scene(), "used 100 GB", "free 100 GB", "couldn't be read 4.10 kB",
		"srv/fares <2026>.csv: 513 B in 2 pieces",
		"1 root, 200 GB", "A row is 10.0 GB")
	tiny := &Map{Title: "tiny", Size: 512}
	tiny.Add(span.At(0, 512), Used)
	sound(t, tiny.Scene(), "used 512 B")
	(&Map{}).Scene()
}

// TestChanges: the largest folders are divided, and what they come to adds up.
func TestChanges(t *testing.T) {
	part := &inside.Part{Number: 2}
	d := inside.PartDifference{Part: part}
	add := func(way names.Way, path string, was, is int64) {
		d.All = append(d.All, names.Difference{Way: way, Path: path, Old: names.Entry{Size: was},
			New: names.Entry{Size: is}})
	}
	for i := range 50 {
		add(names.Added, fmt.Sprintf("srv/kiosk/boards/%d.png", i), 0, 1e6)
		add(names.Changed, fmt.Sprintf("home/user%d/mail", i), 2e6, 3e6)
	}
	add(names.Removed, "var/log/old.log", 9e6, 0)
	add(names.Changed, "var/log/kern.log", 5e6, 1e6)
	add(names.Moved, "notes.txt", 10, 10)
	label := func(p *inside.Part) string { return fmt.Sprintf("%d:", p.Number) }
	all := []inside.PartDifference{d, {Part: &inside.Part{Number: 3}, Why: "it is locked"}}
	got := Folders(all, label)
	sum := Folder{}
	by := map[string]Folder{}
	for _, f := range got {
		by[f.Name] = f
		sum.Came, sum.Went, sum.Grew, sum.Shrank = sum.Came+f.Came, sum.Went+f.Went, sum.Grew+f.Grew,
			sum.Shrank+f.Shrank
	}
	if sum.Came != 50e6 || sum.Went != 9e6 || sum.Grew != 50e6 || sum.Shrank != 4e6 || len(got) > mostFolders+1 {
		t.Errorf("%+v in %d folders", sum, len(got))
	}
	if f := by["2:srv/kiosk/boards"]; f.New != 50 || f.Came != 50e6 {
		t.Errorf("%+v", got)
	}
	if f := by["2:var/log"]; f.Went != 9e6 || f.Shrank != 4e6 || f.Gone != 1 || f.Changed != 1 {
		t.Errorf("%+v", got)
	}
	sound(t, Changes("a → b", got), "2:srv/kiosk/boards", "3: it is locked", "+50.0 MB, 50 new", "less")
	sound(t, Changes("a → b", nil), "Nothing differs.")
}

// FuzzTicks: whatever an axis covers, its marks are few and within it.
func FuzzTicks(f *testing.F) {
	f.Add(0.0, 1e12)
	f.Add(1.7e9, 1.8e9)
	f.Add(-1e18, 1e18)
	f.Fuzz(func(t *testing.T, low, length float64) {
		if math.IsNaN(low) || math.IsInf(low, 0) || math.Abs(low) > 1e11 || !(length > 0) || length > 1e11 {
			return
		}
		for name, got := range map[string]int{"bytes": len(byteTicks{}.Ticks(low, low+length)),
			"dates": len(dayTicks{}.Ticks(low, low+length)), "seconds": len(lengthTicks{}.Ticks(low, low+length))} {
			if got > mostTicks+2 {
				t.Errorf("%s: %d marks from %g on", name, got, low)
			}
		}
	})
}
