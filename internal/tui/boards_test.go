package tui

import (
	"fmt"
	"image/color"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/store"
	"twinshelf/internal/table"
	"twinshelf/internal/workshop"
)

// boardsOf makes a model with boards of machines, each with some twins three days apart; the first brought much more
// than the others.
func boardsOf(t testing.TB, machines, twins int) *model {
	t.Helper()
	s, err := shelf.Create(t.Context(), filepath.Join(t.TempDir(), "oak"), store.New{Name: "Oak"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	w, err := workshop.New(t.TempDir(), nil, false)
	if err != nil {
		t.Fatal(err)
	}
	w.Shelf = s
	m := newModel(t.Context(), w)
	m.wide, m.high, m.step = 140, 42, stepDates
	m.datesPage.pins = map[string]shelf.Pin{}
	start := time.Date(2026, 1, 2, 12, 0, 0, 0, time.UTC)
	for i := range machines {
		b := board{machine: fmt.Sprintf("Kiosk %02d", i), proofs: map[string][]*shelf.Proof{}, at: twins - 1}
		for j := range twins {
			tw := &shelf.Twin{ID: fmt.Sprintf("%d-%d", i, j), Machine: b.machine, Taken: start.AddDate(0, 0, 3*j),
				Added: int64(1000 * (j%8 + 1)), Disks: []shelf.TwinDisk{{Table: &table.Table{Kind: table.GPT}}}}
			if j == 0 {
				tw.Added = 5_000_000
			}
			b.twins = append(b.twins, tw)
		}
		m.datesPage.boards = append(m.datesPage.boards, b)
	}
	return m
}

func TestRowsAreShared(t *testing.T) {
	for _, c := range []struct{ rows, machines, twin, list, large int }{
		{25, 4, 8, 4, 13},   // everything has room
		{25, 200, 8, 13, 4}, // the list takes what is left
		{25, 4, 17, 4, 4},
		{25, 4, 18, 4, 0},  // the twin takes it
		{14, 4, 8, 4, 0},   // low
		{14, 200, 8, 6, 0}, // the list takes what no board can use
		{14, 200, 12, 4, 0},
		{6, 4, 8, 2, 0},
		{1, 4, 8, 1, 0},
	} {
		if list, large := shareRows(c.rows, c.machines, c.twin); list != c.list || large != c.large {
			t.Errorf("%+v: %d %d", c, list, large)
		}
	}
}

// TestSpinesAreToScale looks at the heights on the large board.
func TestSpinesAreToScale(t *testing.T) {
	m := boardsOf(t, 1, 9)
	rows := m.datesPage.largeBoard(140, 6)
	for i := range rows {
		rows[i] = ansi.Strip(rows[i])
	}
	if len(rows) != 6 || !strings.HasPrefix(rows[0], "  8.00 kB ███") || !strings.HasPrefix(rows[1], "   ≈ more ≈≈≈") {
		t.Errorf("%q", rows)
	}
	// The second brought 2 of 8 parts: a quarter of four rows; the eighth all of it.
	column := func(twin int) (out string) {
		for _, r := range rows[:4] {
			out += string([]rune(r)[scaleWide+12*twin])
		}
		return out
	}
	for twin, want := range map[int]string{1: "   █", 3: "  ██", 7: "████", 8: "   ▄"} {
		if got := column(twin); got != want {
			t.Errorf("spine %d: %q, not %q", twin, got, want)
		}
	}
	if !strings.Contains(rows[5], "2026-01-02") || !strings.Contains(rows[5], "▲2026-01-26") {
		t.Errorf("%q", rows[5])
	}
}

// TestManyDates walks over a thousand dates of eight machines: what is selected is always in sight.
func TestManyDates(t *testing.T) {
	m := boardsOf(t, 8, 125)
	for _, size := range [][2]int{{140, 42}, {80, 24}, {60, 16}} {
		m.wide, m.high = size[0], size[1]
		for _, at := range []int{0, 1, 40, 62, 123, 124} {
			for i := range m.datesPage.boards {
				m.datesPage.board, m.datesPage.boards[i].at = i, at
				all := text(m)
				for _, want := range []string{"▶ " + m.datesPage.boards[i].machine, "▲",
					m.datesPage.twin().Taken.Format("2006-01-02 15:04")} {
					if !strings.Contains(all, want) {
						t.Errorf("%v, date %d: %q isn't seen:\n%s", size, at, want, all)
					}
				}
				if lines := strings.Split(all, "\n"); len(lines) != m.high {
					t.Errorf("%v: %d lines", size, len(lines))
				}
			}
			if t.Failed() {
				return
			}
		}
	}
	m.wide, m.high, m.datesPage.boards[7].at = 140, 42, 124
	all := text(m)
	if !strings.Contains(all, "2026-") || !strings.Contains(all, "2027-01") || !strings.Contains(all, "‹") {
		t.Errorf("the months or the dates to the left are missing:\n%s", all)
	}
}

// TestManyMachines: the list is cut around the selected one and says so.
func TestManyMachines(t *testing.T) {
	m := boardsOf(t, 60, 2)
	m.datesPage.board = 30
	all := text(m)
	if !strings.Contains(all, "more") || !strings.Contains(all, "▶ Kiosk 30") || !strings.Contains(all, "twin 2 of 2") {
		t.Errorf("\n%s", all)
	}
	up, down := 0, 0
	for _, l := range strings.Split(all, "\n") {
		if _, after, ok := strings.Cut(l, "↑ "); ok {
			_, _ = fmt.Sscan(after, &up)
		}
		if _, after, ok := strings.Cut(l, "↓ "); ok {
			_, _ = fmt.Sscan(after, &down)
		}
	}
	if shown := strings.Count(all, "newest"); up == 0 || down == 0 || up+shown+down != 60 {
		t.Errorf("%d above, %d shown, %d below", up, shown, down)
	}
}

// TestMarksOfSpines: every mark is on the large board and counted in the list.
func TestMarksOfSpines(t *testing.T) {
	m := boardsOf(t, 2, 7)
	b := &m.datesPage.boards[0]
	long := time.Now().AddDate(-1, 0, 0)
	b.twins[1].Disks[0].Missing.Add(span.At(0, 4096))
	b.twins[2].Disks[0].Regions = []shelf.Region{{Part: 1, Captured: true, Unclean: "it wasn't shut down"}}
	m.datesPage.pins[b.twins[3].ID] = shelf.Pin{Note: "as it came"}
	b.proofs[b.twins[4].ID] = []*shelf.Proof{{When: long, Claims: []shelf.Claim{{Holds: true}}}}
	b.proofs[b.twins[5].ID] = []*shelf.Proof{{When: long, Claims: []shelf.Claim{{Holds: false}}}}
	m.datesPage.goes = map[string]string{b.twins[6].ID: "a newer one covers it"}
	want := []string{"", "×", "!", "◆", "○", "‼", "✗"}
	for i, tw := range b.twins {
		if got := m.datesPage.spineMark(b, tw); got != want[i] {
			t.Errorf("twin %d: %q", i, got)
		}
	}
	b.at = 4
	all := text(m)
	if !strings.Contains(all, "that is long ago") {
		t.Errorf("an old proof:\n%s", all)
	}
	for _, mark := range want[1:] {
		if strings.Count(all, mark) < 2 || !strings.Contains(all, mark+"1") {
			t.Errorf("%q isn't seen and counted:\n%s", mark, all)
		}
	}
}

// TestGrowthOfAShelf: the page of growth, its chart to scale, and the file.
func TestGrowthOfAShelf(t *testing.T) {
	m := key(opened(t), "4", "g")
	mm := m.(*model)
	for _, want := range []string{"How Oak grows", "a week", "Weighbridge", "Purser's laptop", " MB stored"} {
		if !strings.Contains(text(m), want) {
			t.Errorf("%q is missing:\n%s", want, text(m))
		}
	}
	chart := growthChart(mm.datesPage, 80, 6)
	var last []rune
	for _, l := range chart[:6] {
		last = append(last, []rune(ansi.Strip(l))[scaleWide+79])
	}
	if string(last) != "██████" || !strings.Contains(chart[6], "2025-10-09") ||
		!strings.Contains(chart[6], "2026-11-26") {
		t.Errorf("%q\n%s", string(last), strings.Join(chart, "\n"))
	}
	file := filepath.Join(t.TempDir(), "oak.svg")
	m = key(m, "enter")
	m = key(typed(cleared(m), file), "enter")
	if raw, err := os.ReadFile(file); err != nil || !strings.Contains(string(raw), "<svg") ||
		!strings.Contains(mm.note, "Drawn") {
		t.Errorf("%v %q", err, mm.note)
	}
	m = key(m, "enter")
	if m = key(typed(cleared(m), filepath.Join(t.TempDir(), "oak.png")), "enter"); !mm.alarm ||
		!strings.Contains(mm.note, ".svg or .pdf") {
		t.Errorf("%q", mm.note)
	}
	if m = key(m, "esc"); mm.datesPage.growing || mm.step != stepDates {
		t.Errorf("it isn't left:\n%s", text(m))
	}
	if key(m, "g", "3"); mm.datesPage.growing || mm.step != stepCapture {
		t.Error("another step isn't opened")
	}
}

// TestConcernsAreShown: whoever may write to the shelf's folder is pointed out.
func TestConcernsAreShown(t *testing.T) {
	m := key(opened(t), "4")
	mm := m.(*model)
	if strings.Contains(text(m), "others can") {
		t.Errorf("\n%s", text(m))
	}
	if err := os.Chmod(mm.w.Shelf.Place(), 0o777); err != nil {
		t.Fatal(err)
	}
	if m = feed(m, told{"looked again", nil}); !strings.Contains(text(m), "! others can write to the folder") {
		t.Errorf("\n%s", text(m))
	}
}

// TestLightTerminals: on a light background other colours are taken, and the words stay the same.
func TestLightTerminals(t *testing.T) {
	m := tea.Model(boardsOf(t, 3, 5))
	dark := m.View().Content
	m = feed(m, tea.BackgroundColorMsg{Color: color.White})
	light := m.View().Content
	if !strings.Contains(dark, "38;2;98;210;200") || strings.Contains(light, "38;2;98;210;200") ||
		!strings.Contains(light, "38;2;0;105;107") || ansi.Strip(dark) != ansi.Strip(light) {
		t.Errorf("dark %q\nlight %q", dark, light)
	}
	if m = feed(m, tea.BackgroundColorMsg{Color: color.Black}); m.View().Content != dark {
		t.Error("it doesn't turn dark again")
	}
}

// TestUnreadProof: a twin of which a proof can't be read isn't called one that was never proven.
func TestUnreadProof(t *testing.T) {
	m := boardsOf(t, 1, 3)
	b := &m.datesPage.boards[0]
	if got := text(m); !strings.Contains(got, "Not proven yet") {
		t.Fatalf("\n%s", got)
	}
	b.unread = map[string]int{b.twins[2].ID: 1}
	if got := text(m); strings.Contains(got, "Not proven yet") ||
		!strings.Contains(got, "1 proof of it can't be read") {
		t.Errorf("\n%s", got)
	}
	key(m, "e")
	if !strings.Contains(m.note, "can't be read") {
		t.Errorf("e says %q", m.note)
	}
}
