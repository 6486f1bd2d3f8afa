package settings

import (
	"testing"
	"time"

	"twinshelf/internal/units"
)

func TestUnitsAreRemembered(t *testing.T) {
	dir := t.TempDir()
	s, err := Load(dir)
	if err != nil || s.Sizes() != units.Decimal {
		t.Fatal(err, s.Sizes())
	}
	if err := s.SaySizes(units.BinaryUnits); err != nil || s.Sizes() != units.BinaryUnits || s.Folder() != dir {
		t.Fatal(err, s.Sizes())
	}
	again, err := Load(dir)
	if err != nil || again.Sizes() != units.BinaryUnits {
		t.Fatal(err, again.Sizes())
	}
	if err := again.SaySizes(units.Decimal); err != nil || again.Sizes() != units.Decimal {
		t.Error(err, again.Sizes())
	}
}

func TestShelvesAreRememberedByIdentity(t *testing.T) {
	dir := t.TempDir()
	s, err := Load(dir)
	if err != nil {
		t.Fatal(err)
	}
	when := time.Date(2026, 11, 12, 9, 0, 0, 0, time.UTC)
	for _, k := range []struct {
		Known
		last bool
	}{
		{Known{ID: "a", Name: "Oak", Path: "/media/oak", Seen: when, Twins: 3, Holds: []string{"x", "y"}}, true},
		{Known{ID: "b", Name: "Elm", Path: "/media/elm", Seen: when, Sealed: true}, false},
		{Known{ID: "a", Name: "Oak", Path: "/mnt/oak", Seen: when.Add(time.Hour), Twins: 4, Drive: "7731"}, false},
	} {
		if err := s.Remember(k.Known, k.last); err != nil {
			t.Fatal(err)
		}
	}
	again, err := Load(dir)
	if err != nil {
		t.Fatal(err)
	}
	if len(again.Shelves) != 2 || again.Shelves[0].Path != "/mnt/oak" || again.Shelves[0].Twins != 4 ||
		again.Shelves[1].Name != "Elm" || !again.Shelves[1].Sealed {
		t.Errorf("%+v", again.Shelves)
	}
	if again.Shelf != "/media/oak" {
		t.Errorf("the last one is %s", again.Shelf)
	}
	if again.Folder() != dir {
		t.Errorf("it lies in %s", again.Folder())
	}
}
