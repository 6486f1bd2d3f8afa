package tui

import (
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/minio/minio-go/v7"

	"twinshelf/internal/settings"
	"twinshelf/internal/shelf/shelftest"
	"twinshelf/internal/store/far"
	"twinshelf/internal/store/pace"
	"twinshelf/internal/testkit"
)

// TestProtectionOnScreen: what protects a far shelf is tried out by a key in Dates, said, and remembered there; what
// went over a line that is counted is said, too.
func TestProtectionOnScreen(t *testing.T) {
	m := shelfless(t)
	mm := m.(*model)
	address := testkit.S3(t, false).Bucket("quay", minio.MakeBucketOptions{})
	b, err := far.Open(address, far.Means{Cache: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	s := shelftest.At(t, b)
	shelftest.Commit(t, s, "Harbour kiosk", shelftest.Content(3, 1))
	mm.w.Use(t.Context(), s)
	if err := mm.w.State.SetLine(far.Same(address), pace.Pace{Month: 20e9}); err != nil {
		t.Fatal(err)
	}
	m = feed(m, tea.WindowSizeMsg{Width: 80, Height: 40})
	m = key(does(m, mm.datesPage.readShelf()), "4")
	says(t, m, "wasn't tried out yet: w does.", "0 B of the 20.0 GB that may go over the line this month went.")
	m = key(m, "w")
	says(t, m, "Whoever has this key can delete everything.", "nothing of the shelf was touched", "▶ to the dates")
	m = key(m, "enter")
	says(t, m, "! Tried out on", "whoever has this key can delete everything.")
	if v := mm.w.State.Verdicts[s.Head().ID]; v == (settings.Verdict{}) || v.Safe {
		t.Errorf("remembered is %+v", v)
	}
	if f := mm.w.FarFacts(s); f.Warns(20e9) != "" || f.Warns(20e9+1) == "" {
		t.Errorf("of %+v it warns: %q, %q", f, f.Warns(20e9), f.Warns(20e9+1))
	}
	near := shelftest.New(t)
	shelftest.Commit(t, near, "Harbour kiosk", shelftest.Content(3, 1))
	mm.w.Use(t.Context(), near)
	m = key(does(m, mm.datesPage.readShelf()), "w")
	says(t, m, "It lies in a folder here: whoever can write to it can delete it.")
}
