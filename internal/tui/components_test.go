package tui

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
)

// bare is a screen without a workshop, for its parts alone.
func bare(t *testing.T) *model {
	t.Helper()
	m := newModel(t.Context(), nil)
	m.wide, m.high, m.step = 100, 30, stepSheet
	return m
}

func press(m *model, keys ...string) {
	for _, k := range keys {
		if b, ok := bound(m.bindings(), k); ok {
			b.do(k)
		}
	}
}

// TestMenuOfOne: a list gives what it stands on, once; leaving it says so.
func TestMenuOfOne(t *testing.T) {
	m := bare(t)
	var took [][]int
	left := 0
	offer := func() {
		m.menus.offer(menu{title: "Which ferry?",
			choices: []choice{{name: "Maud"}, {name: "Tern", about: "the small one"},
				{name: "Gull"}}, then: func(chosen []int) tea.Cmd {
				took = append(took, chosen)
				return nil
			}, left: func() { left++ }})
	}
	offer()
	press(m, "down", "down", "down", "up", "enter", "enter")
	if len(took) != 1 || !slices.Equal(took[0], []int{1}) || left != 0 || m.menus.menu != nil {
		t.Errorf("took %v, left %d times", took, left)
	}
	offer()
	press(m, "esc")
	if len(took) != 1 || left != 1 || m.menus.menu != nil {
		t.Errorf("after leaving: took %v, left %d times", took, left)
	}
	offer()
	lines, keep := m.menus.menu.body(m.th, 60)
	if text := ansi.Strip(strings.Join(lines, "\n")); !strings.Contains(text, "▶ Maud") ||
		!strings.Contains(text, "the small one") || !strings.Contains(ansi.Strip(lines[keep]), "Maud") {
		t.Errorf("drawn, with line %d in view:\n%s", keep, text)
	}
}

// TestMenuOfSeveral: nothing is taken before something is chosen.
func TestMenuOfSeveral(t *testing.T) {
	m := bare(t)
	var took []int
	m.menus.offer(menu{several: true, choices: []choice{{name: "Maud"}, {name: "Tern"}, {name: "Gull", on: true}},
		then: func(chosen []int) tea.Cmd {
			took = chosen
			return nil
		}})
	press(m, "end", "space", "enter")
	if took != nil || !m.alarm || m.menus.menu == nil {
		t.Errorf("took %v with %q", took, m.note)
	}
	press(m, "space", "home", "space", "enter")
	if !slices.Equal(took, []int{0, 2}) {
		t.Errorf("took %v", took)
	}
}

// TestPrompt: a typed line goes where it was asked for, once; left alone it goes nowhere.
func TestPrompt(t *testing.T) {
	m := bare(t)
	var got []string
	ask := func() { m.prompt.ask("Name: ", "Maud", func(s string) { got = append(got, s) }) }
	ask()
	m.onKey(tea.KeyPressMsg{Code: 'e', Text: "e"})
	m.onKey(tea.KeyPressMsg{Code: tea.KeyEnter})
	if !slices.Equal(got, []string{"Maude"}) || m.prompt.typing != nil {
		t.Errorf("%q", got)
	}
	ask()
	m.onKey(tea.KeyPressMsg{Code: 'q', Text: "q"}) // a letter, not a command
	m.onKey(tea.KeyPressMsg{Code: tea.KeyEscape})
	if len(got) != 1 || m.prompt.typing != nil {
		t.Errorf("after leaving: %q", got)
	}
}

// TestHistory: Esc leads back the way one came, and no further.
func TestHistory(t *testing.T) {
	m := bare(t)
	way := []step{stepRun, stepProof, stepSheet, stepProof}
	for _, s := range way {
		m.goTo(s)
	}
	m.goTo(stepProof) // is there already
	for _, want := range []step{stepSheet, stepProof, stepRun, stepSheet, stepSheet} {
		if press(m, "esc"); m.step != want {
			t.Errorf("back at %d, not %d", m.step, want)
		}
	}
}

// TestRoute: the way back is the way there, at random, as far as it is remembered.
func TestRoute(t *testing.T) {
	r := rand.New(rand.NewPCG(13, 9))
	var way route
	var want []step
	for range 500 {
		s := step(r.IntN(len(stepNames)))
		if was := way.step; way.to(s) != (s != was) {
			t.Fatalf("from %d to %d", was, s)
		} else if s != was {
			want = append(want, was)
		}
		if r.IntN(3) == 0 && len(want) > 0 {
			if !way.backward() || way.step != want[len(want)-1] {
				t.Fatalf("back at %d, not %d", way.step, want[len(want)-1])
			}
			want = want[:len(want)-1]
		}
		want = want[max(0, len(want)-mostBack):]
	}
	for range want {
		way.backward()
	}
	if way.backward() {
		t.Error("it leads back further than it is remembered")
	}
}

// TestBindingsOver: a key that is bound above does nothing below, and everything else stays as it was.
func TestBindingsOver(t *testing.T) {
	name := func(s string) binding {
		return binding{keys: s, show: s, does: s, do: func(string) tea.Cmd { return nil }}
	}
	got := over([]binding{name("a"), name("b c")}, []binding{name("c d"), name("e"), name("a")})
	var keys []string
	for _, b := range got {
		keys = append(keys, b.keys)
	}
	if !slices.Equal(keys, []string{"a", "b c", "e"}) {
		t.Errorf("%q", keys)
	}
	if _, ok := bound(got, "d"); ok {
		t.Error("d is bound")
	}
}

// TestMovedStaysInside: whatever the key and the list, the place is in it.
func TestMovedStaysInside(t *testing.T) {
	r := rand.New(rand.NewPCG(13, 5))
	keys := append(strings.Fields(listKeys), "pgup", "pgdown", "x", "")
	for range 2000 {
		n, room := r.IntN(40), r.IntN(20)
		at := r.IntN(max(1, n))
		k := keys[r.IntN(len(keys))]
		for _, next := range []int{moved(k, at, n), paged(k, at, n, room)} {
			if next < 0 || next > max(0, n-1) {
				t.Fatalf("%q leads from %d of %d to %d", k, at, n, next)
			}
		}
	}
}

// TestRailsFit: the rails take as many lines as they say and no column too many, whatever the window.
func TestRailsFit(t *testing.T) {
	m := opened(t).(*model)
	for _, size := range [][2]int{{60, 16}, {80, 24}, {140, 42}, {200, 60}} {
		m.wide, m.high = size[0], size[1]
		for _, l := range m.railsPane.rails(m.wide, m.high) {
			if n := ansi.StringWidth(l); n > m.wide {
				t.Errorf("%v: a line of %d columns", size, n)
			}
		}
	}
}
