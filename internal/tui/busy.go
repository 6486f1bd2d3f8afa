package tui

import (
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"
)

// usualPatience is how long planning in the background says nothing of what it is busy with.
const usualPatience = 500 * time.Millisecond

// busy is what a planning in the background is busy with.
type busy struct {
	began    time.Time
	patience time.Duration
	mu       sync.Mutex
	what     string
}

// doing notes it; it is called from the background.
func (b *busy) doing(what string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.what = what
}

// words say it, once it has lasted for a while.
func (b *busy) words() string {
	if b == nil || time.Since(b.began) < b.patience {
		return ""
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.what
}

// stillPlanning asks for another look at what a planning is busy with.
type stillPlanning struct{ number int }

func watchPlanning(number int, patience time.Duration) tea.Cmd {
	return tea.Tick(patience, func(time.Time) tea.Msg { return stillPlanning{number} })
}
