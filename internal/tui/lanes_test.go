package tui

import (
	"context"
	"math/rand/v2"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/workshop"
)

func plainOf(s string) string { return ansi.Strip(s) }

func lanesText(m *model) string {
	return plainOf(strings.Join(m.railsPane.rails(m.wide, m.high), "\n"))
}

// TestLanesSayWhatTheStepWrites: the lower lane is what the step really writes, at a moment that is said in words.
func TestLanesSayWhatTheStepWrites(t *testing.T) {
	m := key(onDisk(targeted(opened(t)), "Sandmartin S 64"), "r")
	mm := m.(*model)
	for _, c := range []struct {
		keys []string
		want []string
		not  []string
	}{
		{[]string{"1"}, []string{"READS   chosen  Sandmartin", "WRITES  chosen  Heron"}, []string{"will be"}},
		{[]string{"3"}, []string{"READS   is now  Sandmartin", "WRITES  will be  shelf Oak"}, []string{"Heron"}},
		{[]string{"4"}, []string{"READS   as of ", "WRITES  nothing; Enter plans to restore this twin onto Heron"},
			[]string{"will be"}},
		{[]string{"5"}, []string{"READS   as of ", "WRITES  will be  Heron", "blank: erases nothing"},
			[]string{"LOSES"}},
		{[]string{"6"}, []string{"WRITES  nothing: no run is on"}, []string{"Heron"}},
		{[]string{"1", "i"}, []string{"READS   is now  Sandmartin", "WRITES  nothing; t takes files out"},
			[]string{"Heron"}},
	} {
		m = key(m, c.keys...)
		got := lanesText(mm)
		for _, w := range c.want {
			if !strings.Contains(got, w) {
				t.Errorf("%q: no %q in\n%s", c.keys, w, got)
			}
		}
		for _, n := range c.not {
			if strings.Contains(got, n) {
				t.Errorf("%q: %q in\n%s", c.keys, n, got)
			}
		}
		if m = key(m, "esc"); mm.source == nil || mm.source.Identity.Model != "Sandmartin S 64" || mm.target == nil {
			t.Fatalf("%q: looking around changed what was chosen", c.keys)
		}
	}
}

// TestWhatWillBeLostIsNamed: where a target holds something each part of it is named, struck out, until it is gone.
func TestWhatWillBeLostIsNamed(t *testing.T) {
	m := key(onDisk(opened(t), "Dunlin D 128"), "w")
	m = key(onMachine(m, "Harbour kiosk"), "enter")
	mm := m.(*model)
	got := lanesText(mm)
	for _, want := range []string{"ERASES 2 PARTS", "LOSES   is now  ✗ 1 PURSERBOOT", "✗ 2 purser-root"} {
		if !strings.Contains(got, want) {
			t.Errorf("no %q in\n%s", want, got)
		}
	}
	if m = key(m, "enter"); mm.lastPage.summary == nil {
		t.Fatalf("no last page:\n%s", text(m))
	}
	page := text(m)
	for _, want := range []string{"NOW", "THEN", "✗ 1 PURSERBOOT", "What was on it is on the shelf Oak",
		"DU128-77F2••••"} {
		if !strings.Contains(page, want) {
			t.Errorf("no %q on the last page:\n%s", want, page)
		}
	}
	if strings.Contains(page, "0A64") {
		t.Errorf("the characters that must be typed can be read:\n%s", page)
	}
	m = key(m, "esc")
	mm.datesPage.boards, mm.datesPage.owners = nil, nil
	mm.lastPage.open(*mustSummary(mm), nil)
	if !strings.Contains(text(m), "NOT ON ANY SHELF") {
		t.Errorf("a disk that no twin is of:\n%s", text(m))
	}
}

// mustSummary is a last page of the plan that is shown.
func mustSummary(m *model) *workshop.Summary {
	return &workshop.SummarizeRestore([]*workshop.Pair{m.fitPage.pair})[0]
}

// TestAWrittenDiskIsForNothingElse: while a disk is written, every page that lists it says so and none takes it.
func TestAWrittenDiskIsForNothingElse(t *testing.T) {
	m := onDisk(opened(t), "Heron H1 1 TB")
	mm := m.(*model)
	hold := make(chan struct{})
	r := run.Start(context.Background(), "Restore of Weighbridge", []string{"Write the disk"}, nil,
		func(c *run.Context) error {
			c.Phase("Write the disk", 100)
			_ = c.Step(42)
			<-hold
			return nil
		})
	d := mm.benchPage.chosen()
	mm.runPage.start(work{run: r, targets: []string{d.Path}, lanes: []lanes{{down: writing(mm.th, written).ofDisk(d)}}})
	for range 100 {
		if mm.runPage.snap = r.Snapshot(); mm.runPage.snap.Done > 0 {
			break
		}
	}
	m = key(m, "1")
	if got := text(m); !strings.Contains(got, "BEING WRITTEN") ||
		!strings.Contains(got, "Restore of Weighbridge → Heron H1 1 TB …7731") || !strings.Contains(got, "6 shows it") {
		t.Errorf("the Bench doesn't tell:\n%s", got)
	}
	mm.target = d
	if got := text(m); strings.Contains(got, "ERASES") || strings.Contains(got, "erases nothing") ||
		!strings.Contains(got, "is being written: step 6 shows it") {
		t.Errorf("the Bench shows the disk as it was:\n%s", got)
	}
	for _, step := range []string{"2", "5"} {
		if m = key(m, step); strings.Contains(lanesText(mm), "will be") ||
			!strings.Contains(lanesText(mm), "is being written: step 6 shows it") {
			t.Errorf("%s shows it as it was:\n%s", step, text(m))
		}
	}
	m = key(m, "1")
	mm.target = nil
	for _, k := range []string{"enter", "w", "c", "e", "r", "i", "p", "m"} {
		if m = key(m, k); mm.step != stepBench || mm.target != nil || mm.source != nil ||
			!strings.Contains(mm.note, "being written") {
			t.Errorf("%s takes it: %q\n%s", k, mm.note, text(m))
		}
	}
	m = key(onMachine(m, "Weighbridge"), "enter", "t")
	n := mm.menus.menu
	for _, c := range n.choices {
		if strings.HasPrefix(c.name, "Heron") && !strings.Contains(c.no, "being written") {
			t.Errorf("it can be chosen: %+v", c)
		}
	}
	m = key(m, "esc", "4")
	close(hold)
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	_, cmd := m.Update(ticked{})
	if mm.step != stepDates || !strings.Contains(mm.note, "Restore of Weighbridge: done") || !rings(cmd) {
		t.Errorf("the end moves, or isn't announced: %q\n%s", mm.note, text(m))
	}
	if m = key(m, "6", "4"); strings.Contains(strings.Split(text(m), "\n")[1], "Restore of") {
		t.Errorf("it is announced after it was looked at:\n%s", text(m))
	}
}

// rings says whether a command rings the bell.
func rings(cmd tea.Cmd) bool {
	if cmd == nil {
		return false
	}
	batch, ok := cmd().(tea.BatchMsg)
	if !ok {
		return false
	}
	for _, c := range batch {
		if c == nil {
			continue
		}
		if raw, ok := c().(tea.RawMsg); ok && raw.Msg == bell {
			return true
		}
	}
	return false
}

// TestThreadsDontMerge: whatever the places, every thread has its number where it ends, and lines never run over each
// other.
func TestThreadsDontMerge(t *testing.T) {
	r := rand.New(rand.NewPCG(14, 1))
	for range 3000 {
		w := 20 + r.IntN(160)
		var all []thread
		from, to := 0, 0
		for n := 1; n < 8; n++ {
			from, to = from+3+r.IntN(20), to+3+r.IntN(20)
			if from+4 >= w || to+4 >= w {
				break
			}
			all = append(all, thread{n, from, to})
		}
		line := drawThreads(all, w)
		for i, a := range all {
			if line[a.to] != '▾' || line[a.to+1] != rune('0'+a.number) {
				t.Fatalf("thread %+v doesn't arrive: %q", a, string(line))
			}
			for _, b := range all[i+1:] {
				if a.from != a.to && b.from != b.to && a.over(b) &&
					strings.ContainsRune(string(line[min(a.from, a.to):max(a.from, a.to)]), '─') {
					t.Fatalf("%+v and %+v run over each other: %q", a, b, string(line))
				}
			}
		}
	}
	if got := string(drawThreads([]thread{{1, 1, 1}, {2, 6, 20}}, 30)); got != " ▾1   ╰2────────────▾2        " {
		t.Errorf("%q", got)
	}
}

// TestProgressMarks: what is done, at work, still to come, unreadable and of no concern are told apart.
func TestProgressMarks(t *testing.T) {
	r := rail{cells: []run.Cell{run.Finished, run.Busy, run.ToCome, run.Unreadable, run.Idle}}
	if got := plainOf(r.progress(newTheme(terminal{}), 5)); got != "━▶·× " {
		t.Errorf("%q", got)
	}
}

// TestWidePartsAreMarked: a part that is drawn wider than it is has another edge.
func TestWidePartsAreMarked(t *testing.T) {
	r := rail{parts: []railPart{{span: span.At(0, 1), number: 1}, {span: span.At(1, 999), number: 2}}}
	r.id.Size = 1000
	if got := plainOf(r.bar(newTheme(terminal{}), 100, false)); !strings.HasPrefix(got, wideEdge) ||
		!strings.Contains(got, edge) {
		t.Errorf("%q", got)
	}
	if got := plainOf(r.bar(newTheme(terminal{}), 100, true)); !strings.HasPrefix(got, wideEdge+"1") ||
		!strings.Contains(got, edge+"2") {
		t.Errorf("without the numbers: %q", got)
	}
}

// TestCancellingSaysWhatItLeavesNow: what is asked before a run is cancelled depends on the phase that it is in.
func TestCancellingSaysWhatItLeavesNow(t *testing.T) {
	m := bare(t)
	m.runPage.work = work{lanes: make([]lanes, 2), stopped: "The target has no table then.", proving: "The " +
		"target isn't proven then."}
	m.runPage.snap = run.Snapshot{Title: "Restore of Weighbridge", State: run.Running, PhaseNo: 1,
		Read: make([]run.Cell, 1)}
	m.runPage.ending = true
	for _, c := range []struct {
		// how often the rails were set: the first target written, read back, the second written, read back
		rails     int
		says, not string
	}{{0, "no table", "proven"}, {1, "no table", "proven"}, {2, "no table", "proven"}, {3, "no table", "proven"},
		{4, "isn't proven", "no table"}} {
		m.runPage.snap.RailNo = c.rails
		got := plainOf(strings.Join(m.prompt.box(100), "\n"))
		if !strings.Contains(got, c.says) || strings.Contains(got, c.not) {
			t.Errorf("rails %d:\n%s", c.rails, got)
		}
	}
}
