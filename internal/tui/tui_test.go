package tui

import (
	"context"
	"fmt"
	"os"
	"reflect"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"twinshelf/internal/demotest"
	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
	"twinshelf/internal/workshop"
)

// feed gives the model a message and everything its commands answer; timers are given up.
func feed(m tea.Model, msg tea.Msg) tea.Model {
	if cmds, ok := msg.(tea.BatchMsg); ok {
		for _, c := range cmds {
			m = does(m, c)
		}
		return m
	}
	if v := reflect.ValueOf(msg); v.IsValid() && v.Kind() == reflect.Slice &&
		v.Type().Elem() == reflect.TypeFor[tea.Cmd]() {
		for i := range v.Len() {
			m = does(m, v.Index(i).Interface().(tea.Cmd))
		}
		return m
	}
	if msg == nil {
		return m
	}
	m, cmd := m.Update(msg)
	return does(m, cmd)
}

func does(m tea.Model, cmd tea.Cmd) tea.Model {
	if cmd == nil {
		return m
	}
	ch := make(chan tea.Msg, 1)
	go func() { ch <- cmd() }()
	select {
	case msg := <-ch:
		return feed(m, msg)
	case <-time.After(20 * time.Second):
		return m
	}
}

func key(m tea.Model, keys ...string) tea.Model {
	special := map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "down": tea.KeyDown, "up": tea.KeyUp,
		"left": tea.KeyLeft, "right": tea.KeyRight, "tab": tea.KeyTab, "space": tea.KeySpace}
	for _, k := range keys {
		msg := tea.KeyPressMsg{Code: []rune(k)[0], Text: k}
		if c, ok := special[k]; ok {
			msg = tea.KeyPressMsg{Code: c}
		}
		m = feed(m, msg)
	}
	return m
}

// onDisk puts the cursor of the Bench on a disk.
func onDisk(m tea.Model, name string) tea.Model {
	m = key(m, "1")
	for i, d := range m.(*model).disks {
		if d.Identity.Model == name {
			m.(*model).benchPage.cursor = i
		}
	}
	return m
}

// onMachine goes to the dates of a machine.
func onMachine(m tea.Model, name string) tea.Model {
	m = key(m, "4")
	for i, b := range m.(*model).datesPage.boards {
		if b.machine == name {
			m.(*model).datesPage.board = i
		}
	}
	return m
}

// targeted has the demo's new disk as target.
func targeted(m tea.Model) tea.Model { return key(onDisk(m, "Heron H1 1 TB"), "w") }

func TestMain(m *testing.M) {
	code := m.Run()
	demotest.Done()
	os.Exit(code)
}

// opened is the screen on a demo bench, as a model.
func opened(t *testing.T) tea.Model {
	t.Helper()
	b := demotest.Bench(t)
	w, err := workshop.New(b.State, []string{b.Disks}, false)
	if err != nil {
		t.Fatal(err)
	}
	if err := w.OpenShelf(t.Context(), b.Shelf); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.Shelf.Close)
	m := newModel(context.Background(), w)
	m.patience = time.Millisecond // each timer is waited for
	return does(feed(m, tea.WindowSizeMsg{Width: 120, Height: 36}), m.Init())
}

// everyView are the keys that lead to each page, in its states.
var everyView = [][]string{{"1"}, {"2"}, {"3"}, {"4"}, {"4", "enter"}, {"4", "enter", "enter"}, {"6"}, {"7"},
	{"8"}, {"?"},
	{"2"}, {"2", "p"}, {"2", "p", "enter"}, {"2", "x"}, {"2", "x", "enter"}, {"2", "a"}, {"2", "a", "enter"},
	{"2", "e", "e"}, {"2", "e", "enter"}, {"2", "?"},
	{"4", "g"}, {"4", "m"}, {"4", "m", "enter"}, {"4", "o"}, {"4", "?"}, {"1", "i"}, {"4", "i"},
	{"4", "i", "right"}, {"4", "i", "right", "t"}, {"4", "down", "i", "down", "right", "right"},
	{"4", "i", "right", "right", "right", "right"}, {"4", "i", "right", "c"}, {"4", "i", "right", "c", "enter"},
	{"4", "i", "?"}}

// TestEveryStepFitsEverySize draws all pages in many sizes: no line too wide, none too many, and from 80 columns on
// none cut off at the edge.
func TestEveryStepFitsEverySize(t *testing.T) {
	m := targeted(opened(t))
	for _, keys := range everyView {
		m = key(m, "esc", "1")
		m = key(m, keys...)
		for _, size := range [][2]int{{60, 15}, {60, 16}, {80, 24}, {80, 25}, {99, 26}, {100, 33}, {132, 43},
			{220, 60}, {59, 15}, {60, 14},
			{20, 5}, {1, 1}} {
			m = feed(m, tea.WindowSizeMsg{Width: size[0], Height: size[1]})
			text := m.View().Content
			lines := strings.Split(text, "\n")
			if size[0] >= 60 && size[1] >= 15 && len(lines) != size[1] {
				t.Errorf("%q at %v: %d lines", keys, size, len(lines))
			}
			for _, l := range lines {
				if lipgloss.Width(l) > size[0] {
					t.Errorf("%q at %v: a line of %d cells: %q", keys, size, lipgloss.Width(l), ansi.Strip(l))
				}
			}
			if size[0] >= 60 && size[1] >= 15 {
				for _, l := range m.(*model).middle(size[0]) {
					if l = strings.TrimRight(ansi.Strip(l), " "); size[0] >= 80 && lipgloss.Width(l) > size[0] {
						t.Errorf("%q at %v: cut off at the edge: %q", keys, size, l)
					}
				}
				plain := ansi.Strip(text)
				if !strings.Contains(plain, "READS") && !strings.Contains(plain, "TARGET") ||
					!strings.Contains(plain, "WRITES") {
					t.Errorf("%q at %v: a rail is missing", keys, size)
				}
			}
		}
	}
}

// TestRailsShowEveryPart: however small, each part has a place of its own, in order.
func TestRailsShowEveryPart(t *testing.T) {
	for _, n := range []int{1, 3, 9} {
		for _, w := range []int{30, 80, 200} {
			r := rail{id: disk.Identity{Size: 1 << 40}}
			for i := range n {
				size := int64(1 << 20)
				if i == n/2 {
					size = 900 << 30
				}
				start := int64(i+1) << 20
				if i > n/2 {
					start += 900 << 30
				}
				r.parts = append(r.parts,
					railPart{span: span.At(start, size), number: i + 1, title: fmt.Sprint("part ", i),
						role: table.RoleData, used: 1, known: true})
			}
			last := 0
			for i, s := range r.layout(w) {
				if s.from < last || s.to-s.from < minPart || s.to > w {
					t.Errorf("%d parts on %d cells: part %d at %d to %d behind %d", n, w, i+1, s.from, s.to, last)
				}
				last = s.to
			}
			for _, line := range []string{r.bar(newTheme(terminal{}), w, true), r.labels(newTheme(terminal{}), w)} {
				if lipgloss.Width(line) != w {
					t.Errorf("%d parts: a line of %d cells instead of %d", n, lipgloss.Width(line), w)
				}
			}
		}
	}
}

func TestTypingKeepsItsLetters(t *testing.T) {
	m := key(opened(t), "3")
	m = key(m, "n", "q", "4", "?")
	if mm := m.(*model); mm.prompt.typing == nil || !strings.HasSuffix(mm.prompt.typing.Value(), "q4?") ||
		mm.step != stepCapture {
		t.Errorf("letters were taken for keys: step %d", mm.step)
	}
	m = key(m, "enter")
	if mm := m.(*model); mm.prompt.typing != nil || !strings.HasSuffix(mm.capturePage.machine, "q4?") {
		t.Errorf("machine %q", mm.capturePage.machine)
	}
}

func TestLastPageWantsTheSerialNumber(t *testing.T) {
	m := key(onMachine(targeted(opened(t)), "Weighbridge"), "enter", "enter")
	mm := m.(*model)
	if mm.lastPage.summary == nil || mm.lastPage.confirm == nil {
		t.Fatalf("no last page: %v", mm.fitPage.restoreErr)
	}
	m = feed(m, tea.PasteMsg{Content: mm.lastPage.summary.Confirm})
	m = key(m, "enter")
	if mm.runPage.run != nil || !strings.Contains(mm.note, "Nothing was written") {
		t.Errorf("pasted text was taken: %q", mm.note)
	}
	m = key(m, "esc")
	if mm.lastPage.summary != nil || mm.lastPage.confirm != nil {
		t.Error("Esc doesn't lead back")
	}
	_ = m
}

func TestLeavingAsksWhileARunIsOn(t *testing.T) {
	m := opened(t)
	mm := m.(*model)
	hold := make(chan struct{})
	r := run.Start(context.Background(), "Capture of Weighbridge", []string{"read"}, nil, func(c *run.Context) error {
		<-hold
		return nil
	})
	mm.runPage.start(work{run: r})
	m = key(m, "q")
	if !mm.runPage.leaving {
		t.Fatal("it doesn't ask")
	}
	m = key(m, "enter", "n")
	if mm.runPage.leaving || !mm.runPage.running() {
		t.Error("n doesn't stay")
	}
	m = key(m, "6", "c")
	if !mm.runPage.ending || mm.runPage.run.Snapshot().Over() || !strings.Contains(text(m), "Cancel Capture of "+
		"Weighbridge (y)") {
		t.Errorf("c doesn't ask:\n%s", text(m))
	}
	if m = key(m, "enter", "n"); mm.runPage.ending || !mm.runPage.running() {
		t.Error("n doesn't let it go on")
	}
	close(hold)
	r.Wait()
	m = feed(m, ticked{})
	if !mm.runPage.snap.Over() {
		t.Error("the end wasn't seen")
	}
	if _, cmd := m.Update(tea.KeyPressMsg{Code: 'q', Text: "q"}); cmd == nil || mm.runPage.leaving {
		t.Error("q doesn't leave after the run")
	}
}

// TestReadyKeepsTwoActionsApart: adding and laying out anew can't be mistaken, and nothing is planned by entering.
func TestReadyKeepsTwoActionsApart(t *testing.T) {
	m := key(onDisk(opened(t), "Dunlin D 128"), "e")
	mm := m.(*model)
	if mm.step != stepReady || mm.readyPage.ready.draft == nil || mm.readyPage.ready.draft.New {
		t.Fatalf("step %d, %q", mm.step, mm.note)
	}
	if text := ansi.Strip(m.View().Content); !strings.Contains(text, "Adds to what is there") ||
		!strings.Contains(text, "Nothing is changed yet") {
		t.Errorf("\n%s", text)
	}
	m = key(m, "enter")
	if mm.lastPage.summary != nil {
		t.Error("a last page without any change")
	}
	m = key(m, "d")
	if text := ansi.Strip(m.View().Content); !strings.Contains(text, "LOSES 1 PART") ||
		!strings.Contains(text, "✗ goes") {
		t.Errorf("\n%s", text)
	}
	m = key(m, "o")
	if text := ansi.Strip(m.View().Content); !strings.Contains(text, "LAYS THE DISK OUT ANEW") ||
		strings.Contains(text, "stays,") {
		t.Errorf("\n%s", text)
	}
	m = key(m, "u", "u")
	if mm.readyPage.ready.draft.New || len(mm.readyPage.ready.draft.Parts) != len(mm.target.Survey.Parts()) {
		t.Error("undo doesn't lead back")
	}
	m = key(m, "s")
	for _, c := range "5 MB" {
		m = key(m, map[bool]string{true: "space", false: string(c)}[c == ' '])
	}
	if !mm.prompt.wrong || !strings.Contains(mm.prompt.says, "can't shrink") {
		t.Errorf("hint %q", mm.prompt.says)
	}
	m = key(m, "esc")
	if mm.prompt.says != "" || mm.readyPage.ready.preview != nil {
		t.Error("what was typed stays")
	}
	_ = m
}

// TestReadyRefusesWhatIsOutOfReach: the storage drive of the demo is padlocked.
func TestReadyRefusesWhatIsOutOfReach(t *testing.T) {
	m := key(onDisk(opened(t), "Plover P5 2 TB"), "e")
	if mm := m.(*model); mm.step == stepReady || !strings.Contains(mm.note, "out of reach") {
		t.Errorf("step %d, %q", mm.step, mm.note)
	}
}

// TestReadyWhileLookingAgain: a disk that is being looked at has no layout yet, and keys do no harm.
func TestReadyWhileLookingAgain(t *testing.T) {
	m := key(onDisk(opened(t), "Heron H1 1 TB"), "e", "a", "enter", "esc")
	mm := m.(*model)
	disks := mm.w.Bench.List()
	mm.onListed(disks) // nothing is probed yet
	for _, k := range []string{"", "a", "x", "s", "d", "f", "enter", "m", "b", "o", "?", "esc"} {
		if k != "" {
			m = key(m, k)
		}
		if text := ansi.Strip(m.View().Content); mm.step == stepReady && !mm.help &&
			!strings.Contains(text, "not looked at yet") {
			t.Fatalf("after %q:\n%s", k, text)
		}
	}
	for _, d := range disks {
		m = does(m, mm.probe(d))
	}
	mm.step = stepReady
	m = does(m, mm.replan())
	if !mm.readyPage.readyOn() {
		t.Error("it doesn't come back")
	}
	_ = m.View()
}
