package workshop

import (
	"strings"
	"testing"

	"twinshelf/internal/routine"
	"twinshelf/internal/settings"
)

// TestUncarried: what a routine took and carries elsewhere is said not to be there until that shelf was seen with it.
func TestUncarried(t *testing.T) {
	r, err := routine.Parse(strings.NewReader(routine.Head + "\nname: Desk\nmachine: Ticket desk\n" +
		"disk: Kestrel K2 256, KK2-55A1940B1\nshelf: Oak\ndo: capture\ndo: carry to Elm\ndo: carry to " +
		"sftp://backroom/srv/ash\n"))
	if err != nil {
		t.Fatal(err)
	}
	list := []*routine.Standing{{Routine: r, History: []routine.Entry{{Twin: "a"}, {Twin: "b"}}}}
	known := []KnownShelf{{Known: settings.Known{Name: "Elm", Path: "/media/elm", Holds: []string{"a"}}},
		{Known: settings.Known{Name: "Ash", Path: "sftp://backroom/srv/ash", Holds: []string{"a", "b"}}}}
	for twin, want := range map[string]string{"a": "", "b": "Elm", "c": ""} {
		if got := strings.Join(Uncarried(list, known, twin), " "); got != want {
			t.Errorf("%s: %q, not %q", twin, got, want)
		}
	}
	if got := Uncarried(list, nil, "a"); len(got) != 2 {
		t.Errorf("where no shelf is known: %q", got)
	}
}
