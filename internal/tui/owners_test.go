package tui

import (
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/settings"
	"twinshelf/internal/workshop"
)

// TestFindOnTheBench: / goes round the disks that have a text on their sticker, in their machine's name or as a label.
func TestFindOnTheBench(t *testing.T) {
	m := key(opened(t), "home")
	mm := m.(*model)
	find := func(text string) string {
		m = cleared(key(m, "/"))
		m = key(typed(m, text), "enter")
		return mm.benchPage.chosen().Identity.Model
	}
	for _, c := range [][2]string{{"7731", "Heron H1 1 TB"}, {"purser", "Dunlin D 128"}, {"purser", "Cormorant C 500"},
		{"", "Dunlin D 128"}, {"kiosk-ROOT", "Sandmartin S 64"}, {"oak-store", "Plover P5 2 TB"}} {
		if got := find(c[0]); got != c[1] {
			t.Errorf("%q leads to %s, not to %s", c[0], got, c[1])
		}
	}
	was := mm.benchPage.chosen().Identity.Model
	if find("no such thing") != was || !mm.alarm {
		t.Errorf("what isn't there moves the cursor, or isn't said: %q", mm.note)
	}
	if find(" ") != was {
		t.Error("nothing is found")
	}
	if find("purser"); find("") == "" || mm.benchPage.chosen().Identity.Model != "Cormorant C 500" {
		t.Errorf("without a text the cursor goes to %s", mm.benchPage.chosen().Identity.Model)
	}
}

// TestWhoseOnAnotherShelf: a disk that only another shelf knows is a machine's disk all the same, and is never said to
// be kept on the open one.
func TestWhoseOnAnotherShelf(t *testing.T) {
	m := feed(opened(t), tea.WindowSizeMsg{Width: 150, Height: 42})
	mm := m.(*model)
	days := func(n int) time.Time { return time.Now().Add(-time.Duration(n) * 24 * time.Hour) }
	d := onDisk(m, "Curlew C 480").(*model).benchPage.chosen()
	kiosk := onDisk(m, "Sandmartin S 64").(*model).benchPage.chosen()
	known := []workshop.KnownShelf{
		{Known: settings.Known{ID: "e", Name: "Elm", Seen: days(3), Disks: []settings.KnownDisk{
			{Model: d.Identity.Model, Serial: d.Identity.Serial, Machine: "Bar till", Newest: days(12), Twins: 2},
			{Model: kiosk.Identity.Model, Serial: kiosk.Identity.Serial, Machine: "Another", Newest: days(0), Twins: 9},
		}}},
		{Known: settings.Known{ID: "a", Name: "Ash", Seen: days(30), Disks: []settings.KnownDisk{
			{Model: d.Identity.Model, Serial: d.Identity.Serial, Machine: "Till", Newest: days(90), Twins: 1}}}},
	}
	m = feed(m, shelved{boards: mm.datesPage.boards, known: known})
	screen := text(onDisk(m, "Curlew C 480"))
	for _, want := range []string{"Bar till's disk", "twin 12 days old on", "2 twins of it on Elm when that was",
		"isn't in reach."} {
		if !strings.Contains(screen, want) {
			t.Errorf("no %q on\n%s", want, screen)
		}
	}
	if strings.Contains(screen, "Another's disk") || !strings.Contains(screen, "Harbour kiosk's disk") {
		t.Errorf("what the open shelf knows doesn't count first:\n%s", screen)
	}
	m = key(onMachine(key(m, "w"), "Weighbridge"), "enter")
	m = key(m, "enter")
	if mm.lastPage.summary == nil {
		t.Fatalf("no last page:\n%s", text(m))
	}
	if page := text(m); !strings.Contains(page, "WHAT IS LOST IS NOT ON THE OPEN SHELF") ||
		!strings.Contains(page, "Elm had a twin of it") {
		t.Errorf("%s", page)
	}
	m = key(m, "esc", "t")
	if list := text(m); !strings.Contains(list, "Bar till's disk, newest twin 12 days ago on Elm") {
		t.Errorf("the list of targets\n%s", list)
	}
	known[0].Here = true
	m = feed(key(m, "esc"), shelved{boards: mm.datesPage.boards, known: known})
	if screen = text(onDisk(m, "Curlew C 480")); !strings.Contains(screen, "in reach: o") {
		t.Errorf("%s", screen)
	}
}
