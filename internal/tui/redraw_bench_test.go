package tui

import (
	"context"
	"crypto/sha256"
	"fmt"
	"runtime"
	"sync"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/fsys"
	"twinshelf/internal/inside"
	"twinshelf/internal/run"
	"twinshelf/internal/span"
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
		redraw := func(b *testing.B) {
			for b.Loop() {
				c.m.Update(c.key)
				c.m.Update(ticked{})
				if c.m.View().Content == "" {
					b.Fatal("nothing is drawn")
				}
			}
		}
		b.Run(c.name, redraw)
		b.Run(c.name+" while working", func(b *testing.B) {
			defer working(b, c.m)()
			redraw(b)
		})
	}
}

// working begins a run that moves on as fast as it can, and work like planning on every processor; the function that it
// gives ends both.
func working(b *testing.B, m *model) (end func()) {
	ctx, cancel := context.WithCancel(b.Context())
	const size = 1 << 40
	r := run.Start(ctx, "Capture of Ticket desk", []string{"read"}, nil, func(c *run.Context) error {
		c.Phase("read", size)
		c.Rails(size, size)
		for at := int64(0); ; at = (at + 1<<20) % size {
			c.MarkRead(span.At(at, 1<<20), run.Finished)
			if err := c.Step(1 << 20); err != nil {
				return err
			}
		}
	})
	m.runPage.start(work{run: r})
	var planning sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		planning.Go(func() {
			block := make([]byte, 1<<20)
			for ctx.Err() == nil {
				sha256.Sum256(block)
			}
		})
	}
	return func() {
		cancel()
		planning.Wait()
		_ = r.Wait() // it was cancelled
	}
}
