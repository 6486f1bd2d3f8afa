package capture

import (
	"errors"
	"testing"
	"time"

	"twinshelf/internal/store"
)

// settles gives the effort that a pacing comes to, where a block takes a worker so long with each effort, the shelf
// holds it up for so long, and the disk gives one so often; and how much longer all of it took than the disk.
func settles(p *pacing, costs [store.Efforts]time.Duration, held, every time.Duration) (effort, late float64) {
	const blocks, workers = 6000, 2
	var read, begun, end [blocks]time.Duration // of each block
	var free [workers]time.Duration
	total, counted := 0.0, 0.0
	for i := range blocks {
		if read[i] = every; i > 0 {
			read[i] += read[i-1]
		}
		if i >= waiting+workers { // the reader waits for a buffer
			read[i] = max(read[i], end[i-waiting-workers]+every)
		}
		w := 0
		if free[1] < free[0] {
			w = 1
		}
		begun[i] = max(read[i], free[w])
		queued := 0
		for k := i + 1; k < min(blocks, i+waiting+1); k++ {
			if read[i]+time.Duration(k-i)*every <= begun[i] {
				queued++
			}
		}
		e := p.next(float64(queued) / waiting)
		end[i] = begun[i] + costs[e] + held
		free[w] = end[i]
		p.took(held, costs[e])
		if i >= blocks/3 {
			total += float64(e)
			counted++
		}
	}
	return total / counted, float64(end[blocks-1])/float64(blocks*every) - 1
}

// TestPackingFollows: while the disk is the slow end blocks are packed as closely as there is time for, while the cores
// are they are packed swiftly, and in between the cores are kept nearly busy.
func TestPackingFollows(t *testing.T) {
	var costs [store.Efforts]time.Duration
	for e := range costs {
		costs[e] = time.Millisecond << e // 1, 2, 4, 8, 16 ms
	}
	for _, c := range []struct {
		held, every time.Duration
		least, most float64
		late        float64
	}{
		{0, 100 * time.Millisecond, 3.9, 4, 0.01},            // a slow disk
		{0, time.Microsecond, 0, 0.1, 1e9},                   // a fast one
		{0, 7 * time.Millisecond, 3, 3.95, 0.03},             // two workers, a block each 3.5 ms
		{0, 3 * time.Millisecond, 2, 2.95, 0.03},             //
		{0, 1 * time.Millisecond, 0.5, 1.5, 0.05},            //
		{30 * time.Millisecond, time.Microsecond, 3, 4, 1e9}, // the shelf is the slow end
	} {
		got, late := settles(newPacing(PackFollow), costs, c.held, c.every)
		t.Logf("a block every %v, held up for %v: effort %.2f, %.1f %% late", c.every, c.held, got, 100*late)
		if got < c.least || got > c.most || late > c.late {
			t.Errorf("a block every %v, held up for %v: effort %.2f, not %.1f to %.1f; %.1f %% late", c.every, c.held,
				got, c.least, c.most, 100*late)
		}
	}
	for way, want := range fixed {
		if got, _ := settles(newPacing(way), costs, 0, time.Microsecond); got != float64(want) {
			t.Errorf("%s follows: %.1f", way, got)
		}
	}
	p := newPacing(PackFollow)
	settles(p, costs, 0, 100*time.Millisecond)
	if got, _ := settles(p, costs, 0, time.Microsecond); got > 0.1 {
		t.Errorf("a disk that becomes fast: effort %.2f", got)
	}
}

// TestParsePacking: ways are read as people name them.
func TestParsePacking(t *testing.T) {
	for text, want := range map[string]Packing{"": PackFollow, "follow": PackFollow, "close": PackClose,
		"swift": PackSwift, "usual": PackUsual} {
		if got, err := ParsePacking(text); got != want || err != nil {
			t.Errorf("%q: %q, %v", text, got, err)
		}
	}
	if _, err := ParsePacking("tight"); !errors.Is(err, ErrPacking) {
		t.Errorf("tight: %v", err)
	}
}
