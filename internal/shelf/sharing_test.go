package shelf

import (
	"bytes"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"twinshelf/internal/store"
)

const sharedSize = 64 << 10

// shelfOfBlocks gives blocks that take a while to fetch, and counts how often each was.
type shelfOfBlocks struct {
	mu      sync.Mutex
	fetched map[store.Name]int
}

func blockBytes(i int) []byte { return bytes.Repeat([]byte(fmt.Sprintf("%07d\n", i)), sharedSize/8) }

func (s *shelfOfBlocks) fetch(i int) func([]byte) ([]byte, error) {
	return func(dst []byte) ([]byte, error) {
		time.Sleep(200 * time.Microsecond)
		b := blockBytes(i)
		s.mu.Lock()
		s.fetched[store.Checksum(b)]++
		s.mu.Unlock()
		return append(dst[:0], b...), nil
	}
}

// most is how often the block was fetched that was fetched most often, and how many fetches there were.
func (s *shelfOfBlocks) most() (most, all int) {
	for _, n := range s.fetched {
		most, all = max(most, n), all+n
	}
	return most, all
}

// reads has somebody read blocks 0 to n in order, by two hands as a restore does, and rests after each.
func reads(t *testing.T, s *Sharing, me *sharer, from *shelfOfBlocks, n int, rest time.Duration) {
	var next atomic.Int64
	var hands sync.WaitGroup
	for range 2 {
		hands.Go(func() {
			var buf []byte
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				want := blockBytes(i)
				var err error
				buf, err = s.block(me, store.Checksum(want), sharedSize, buf, from.fetch(i))
				if err != nil || !bytes.Equal(buf, want) {
					t.Errorf("block %d: %v", i, err)
				}
				time.Sleep(rest)
			}
		})
	}
	hands.Wait()
}

func sharingOf(n int, room int64, patience time.Duration) (*Sharing, []*sharer) {
	s := NewSharing(func() bool { return false })
	s.room, s.patience = room, patience
	for range n {
		s.seats = append(s.seats, &sharer{})
	}
	return s, append([]*sharer{}, s.seats...)
}

// TestSharing: three that read the same get each block, which is fetched once, and nothing is held at the end.
func TestSharing(t *testing.T) {
	const blocks = 300
	s, all := sharingOf(3, 8*sharedSize, time.Minute)
	from := &shelfOfBlocks{fetched: map[store.Name]int{}}
	var wg sync.WaitGroup
	for i, me := range all {
		wg.Go(func() {
			reads(t, s, me, from, blocks, time.Duration(i)*100*time.Microsecond)
			s.leave(me)
		})
	}
	wg.Wait()
	if most, n := from.most(); most != 1 || n != blocks {
		t.Errorf("%d fetches, one block %d times", n, most)
	}
	if s.held != 0 || len(s.blocks) > 0 || s.LeftBehind() > 0 {
		t.Errorf("%d bytes are held, %d left behind", s.held, s.LeftBehind())
	}
}

// TestSlowestIsLeftBehind: whoever is much slower than the others holds them up for a while only, gets everything all
// the same, and the others still have each block fetched once.
func TestSlowestIsLeftBehind(t *testing.T) {
	const blocks = 200
	s, all := sharingOf(3, 8*sharedSize, 50*time.Millisecond)
	from := &shelfOfBlocks{fetched: map[store.Name]int{}}
	slowDone := make(chan struct{})
	var quick, slow sync.WaitGroup
	for _, me := range all[:2] {
		quick.Go(func() { reads(t, s, me, from, blocks, 0) })
	}
	slow.Go(func() { reads(t, s, all[2], from, blocks, 20*time.Millisecond); close(slowDone) })
	quick.Wait()
	select {
	case <-slowDone:
		t.Error("the quick ones waited for the slow one")
	default:
	}
	slow.Wait()
	if most, _ := from.most(); most > 2 || s.LeftBehind() != 1 {
		t.Errorf("one block was fetched %d times, %d left behind", most, s.LeftBehind())
	}
}

// TestPauseLeavesNobodyBehind: whoever doesn't come on because all the work is paused isn't behind.
func TestPauseLeavesNobodyBehind(t *testing.T) {
	s, all := sharingOf(2, 8*sharedSize, 20*time.Millisecond)
	var goesOn atomic.Bool
	s.paused = func() bool { return !goesOn.Load() }
	from := &shelfOfBlocks{fetched: map[store.Name]int{}}
	var ahead sync.WaitGroup
	ahead.Go(func() { reads(t, s, all[0], from, 20, 0) })
	time.Sleep(300 * time.Millisecond)
	s.mu.Lock()
	s.patience = time.Minute // a loaded machine takes its time from here on
	s.mu.Unlock()
	goesOn.Store(true)
	reads(t, s, all[1], from, 20, 0)
	ahead.Wait()
	if most, n := from.most(); most != 1 || n != 20 || s.LeftBehind() > 0 {
		t.Errorf("%d fetches, %d left behind", n, s.LeftBehind())
	}
}

// TestSharedFailure: a block that can't be fetched for one is tried again by the others; and one that leaves holds
// nobody up.
func TestSharedFailure(t *testing.T) {
	s, all := sharingOf(2, 2*sharedSize, time.Minute)
	gone := errors.New("gone")
	n, want := store.Checksum(blockBytes(1)), blockBytes(1)
	if _, err := s.block(all[0], n, sharedSize, nil, func([]byte) ([]byte, error) { return nil, gone }); !errors.Is(err,
		gone) {
		t.Errorf("%v", err)
	}
	from := &shelfOfBlocks{fetched: map[store.Name]int{}}
	if b, err := s.block(all[1], n, sharedSize, nil, from.fetch(1)); err != nil || !bytes.Equal(b, want) {
		t.Errorf("%v", err)
	}
	ended := make(chan struct{})
	go func() { reads(t, s, all[0], from, 20, 0); close(ended) }()
	time.Sleep(20 * time.Millisecond) // it waits for the other one now
	s.leave(all[1])
	<-ended
}
