package tui

import (
	"fmt"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/fsys"
	"twinshelf/internal/inside"
)

// BenchmarkRedraw is from a key to the drawn screen: on the Bench and in Dates with a thousand twins, and in a folder
// of 100,000 items.
func BenchmarkRedraw(b *testing.B) {
	dates := boardsOf(b, 8, 125)
	folder := boardsOf(b, 1, 2)
	folder.step = stepInside
	l := &folder.insidePage.inside
	l.in = &inside.Machine{Title: "Ticket desk", Disks: 1}
	l.part = &inside.Part{}
	for i := range 100_000 {
		e := fsys.Entry{}
		e.Name, e.Size, e.Modified = fmt.Sprintf("ticket-%06d.csv", i), int64(i), time.Unix(int64(i), 0)
		l.all = append(l.all, e)
	}
	l.shown = l.all
	for _, c := range []struct {
		name string
		m    *model
		key  tea.KeyPressMsg
	}{
		{"dates", dates, tea.KeyPressMsg{Code: tea.KeyLeft}},
		{"folder", folder, tea.KeyPressMsg{Code: tea.KeyDown}},
	} {
		b.Run(c.name, func(b *testing.B) {
			for b.Loop() {
				c.m.Update(c.key)
				if c.m.View().Content == "" {
					b.Fatal("nothing is drawn")
				}
			}
		})
	}
}
