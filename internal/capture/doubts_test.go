package capture

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"twinshelf/internal/disk"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/survey"
	"twinshelf/internal/testkit"
)

func TestNear(t *testing.T) {
	for _, c := range []struct {
		a, b string
		near bool
	}{
		{"Ticket desk", "ticket  Desk", true}, {"Ticket desk", "Ticket desk 2", false}, {"Kiosk 1", "Kiosk 2", true},
		{"Ticket desk", "Ticket desks", true},
		{"Ticket desk", "Tikcet desk", true}, {"Ticket desk", "Weighbridge", false}, {"Desk", "Disc", false},
		{"", "a", true},
	} {
		if near(c.a, c.b) != c.near || near(c.b, c.a) != c.near {
			t.Errorf("%q and %q: %v", c.a, c.b, !c.near)
		}
	}
}

// TestDoubts: a missing disk of the machine, another machine's disk, and a name that is nearly another are said.
func TestDoubts(t *testing.T) {
	s := oak(t)
	source := func(serial string) Source {
		m := disk.NewMemory(4<<20, 512)
		copy(m.Bytes[1<<20:], serial)
		m.ID.Model, m.ID.Serial = "Gannet", serial
		sv, err := survey.Of(context.Background(), m, nil)
		if err != nil {
			t.Fatal(err)
		}
		return Source{Survey: sv}
	}
	plan := func(machine string, serials ...string) *Plan {
		p := &Plan{Shelf: s, Machine: machine, Tool: "test"}
		for _, n := range serials {
			p.Sources = append(p.Sources, source(n))
		}
		return p
	}
	for _, p := range []*Plan{plan("Purser's laptop", "G-1", "G-2"), plan("Weighbridge", "G-3")} {
		if d := p.Doubts(t.Context()); len(d) != 0 {
			t.Errorf("a first capture: %v", d)
		}
		var tw *shelf.Twin
		if err := testkit.Run(t, func(rc *run.Context) (err error) {
			tw, err = p.Run(rc)
			return err
		}); err != nil || tw == nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		p    *Plan
		want []DoubtKind
	}{
		{plan("Purser's laptop", "G-1", "G-2"), nil},
		{plan("Purser's laptop", "G-2"), []DoubtKind{FewerDisks}},
		{plan("Purser's laptop", "G-1", "G-2", "G-3"), []DoubtKind{OtherMachine}},
		{plan("purser's laptop", "G-9"), []DoubtKind{NewMachine}},
		{plan("Kiosk", "G-9"), nil},
	} {
		var got []DoubtKind
		for _, d := range c.p.Doubts(t.Context()) {
			got = append(got, d.Kind)
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: %v instead of %v", c.p.Machine, got, c.want)
		}
	}
	hideNewest(t, s, "Weighbridge")
	got := plan("Weighbridge", "G-3").Doubts(t.Context())
	if len(got) != 1 || got[0].Kind != FewerDisks || !strings.Contains(got[0].Says, "can't be told") {
		t.Errorf("with a later twin that can't be read: %v", got)
	}
}

// hideNewest leaves of a machine's newest twin only the copy.
func hideNewest(t *testing.T, s *shelf.Shelf, machine string) {
	t.Helper()
	tw, err := s.Find(t.Context(), machine)
	if err != nil {
		t.Fatal(err)
	}
	files, err := filepath.Glob(filepath.Join(s.Place(), "twins", "*", tw.ID+".twin"))
	if err != nil || len(files) != 1 {
		t.Fatal(files, err)
	}
	if err := os.Remove(files[0]); err != nil {
		t.Fatal(err)
	}
}
