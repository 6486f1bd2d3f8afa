package tui

import (
	tea "charm.land/bubbletea/v2"

	"twinshelf/internal/bench"
	"twinshelf/internal/run"
)

// surfaceBinding reads every sector of a disk.
func surfaceBinding(m *benchPage, d *bench.Disk) binding {
	return binding{"v", "v", "surface", "read every sector of this disk, writing nothing: whether all of it can " +
		"be read, " +
		"and where it is slow", leads(func() tea.Cmd {
		if m.runPage.running() {
			m.fail("A run is under way already: see step 6.")
			return nil
		}
		p, err := m.w.PlanSurface(d)
		if err != nil {
			m.fail(sentence(err))
			return nil
		}
		return m.runPage.start(work{run: m.w.StartSurface(m.ctx, p), on: byRails(1),
			lanes:   []lanes{{up: reading(m.th, isNow).ofDisk(d), down: nothing(writing(m.th, ""), "nothing")}},
			stopped: "Cancelling leaves the disk as it is: nothing is written.",
			after: func(s run.Snapshot) tea.Cmd {
				if s.State == run.Done {
					m.say("%s: every sector could be read.", s.Title)
				}
				return nil
			}})
	})}
}
