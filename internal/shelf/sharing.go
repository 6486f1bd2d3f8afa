package shelf

import (
	"slices"
	"sync"
	"time"

	"twinshelf/internal/store"
)

const (
	// sharedRoom is how much of a twin's disk is kept for those that haven't come so far, in bytes.
	sharedRoom = 16 << 20
	// sharedPatience is how long those that are ahead wait for those behind, beside one part in sharedShare of the time
	// that has passed.
	sharedPatience = 5 * time.Second
	sharedShare    = 10
	// leastWait is how long somebody waits at least until it is looked again how everything stands.
	leastWait = 10 * time.Millisecond
)

// Sharing has each block of a twin's disk fetched once for several that read all of it in the same order at the same
// time. Whoever is ahead by more than the room for blocks waits a while for those behind; after that they are left
// behind, and read by themselves.
type Sharing struct {
	room     int64
	patience time.Duration
	began    time.Time
	paused   func() bool

	mu      sync.Mutex
	changed chan struct{} // closed at each change, and made anew
	blocks  map[store.Name]*sharedBlock
	order   []*sharedBlock // in the order in which they were asked for
	held    int64          // bytes
	seats   []*sharer
	alone   int           // how many were left behind
	waited  time.Duration // for those behind, up to since
	since   time.Time     // from when on somebody waits now; zero while nobody does
}

// sharer is one of those that read.
type sharer struct{ alone bool }

// sharedBlock is a block that is there for all, or on its way.
type sharedBlock struct {
	name  store.Name
	size  int64
	ready chan struct{} // closed once b or err is there
	b     []byte
	err   error
	taken []*sharer
}

// NewSharing gives a sharing that nobody takes part in yet. While paused says so nobody is behind.
func NewSharing(paused func() bool) *Sharing {
	return &Sharing{room: sharedRoom, patience: sharedPatience, began: time.Now(), paused: paused,
		changed: make(chan struct{}), blocks: map[store.Name]*sharedBlock{}}
}

// Share has a disk's pieces come from a sharing, until leave is called. Everybody who takes part has to be there before
// the first one reads.
func (d *Disk) Share(s *Sharing) (leave func()) {
	me := &sharer{}
	s.mu.Lock()
	s.seats = append(s.seats, me)
	s.mu.Unlock()
	d.mu.Lock()
	d.sharing, d.seat = s, me
	d.mu.Unlock()
	return func() { s.leave(me) }
}

// LeftBehind is how many of those that took part were too slow for the others.
func (s *Sharing) LeftBehind() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.alone
}

func (s *Sharing) leave(me *sharer) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.drop(me)
}

// drop takes somebody out. The lock is held.
func (s *Sharing) drop(who *sharer) {
	who.alone = true
	s.seats = slices.DeleteFunc(s.seats, func(o *sharer) bool { return o == who })
	for _, x := range slices.Clone(s.order) {
		if len(s.late(x)) == 0 {
			s.forget(x)
		}
	}
	s.change()
}

// change wakes whoever waits. The lock is held.
func (s *Sharing) change() {
	close(s.changed)
	s.changed = make(chan struct{})
}

// late are those that haven't taken a block. The lock is held.
func (s *Sharing) late(x *sharedBlock) (out []*sharer) {
	for _, o := range s.seats {
		if !slices.Contains(x.taken, o) {
			out = append(out, o)
		}
	}
	return out
}

// forget gives a block's room back. Whoever waits for it has it all the same. The lock is held.
func (s *Sharing) forget(x *sharedBlock) {
	if s.blocks[x.name] != x {
		return
	}
	delete(s.blocks, x.name)
	s.order = slices.DeleteFunc(s.order, func(o *sharedBlock) bool { return o == x })
	s.held -= x.size
}

// block gives somebody a block of size bytes in dst's memory. fetch reads it, in memory of its own where dst is nil.
func (s *Sharing) block(me *sharer, n store.Name, size int64, dst []byte,
	fetch func(dst []byte) ([]byte, error)) ([]byte, error) {
	x, first := s.ask(me, n, size)
	switch {
	case x == nil:
		return fetch(dst)
	case first:
		x.b, x.err = fetch(nil)
		close(x.ready)
	default:
		<-x.ready
	}
	s.took(me, x)
	switch {
	case x.err == nil:
		return append(dst[:0], x.b...), nil
	case first:
		return dst, x.err
	}
	return fetch(dst) // what failed another one needn't fail here
}

// ask gives the block that is there or on its way, or a new one, which whoever gets it as the first has to fetch; nil
// for somebody who was left behind.
func (s *Sharing) ask(me *sharer, n store.Name, size int64) (x *sharedBlock, first bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for !me.alone {
		if x := s.blocks[n]; x != nil {
			return x, false
		}
		if s.hasRoom(me, size) {
			x := &sharedBlock{name: n, size: size, ready: make(chan struct{})}
			s.blocks[n], s.order, s.held = x, append(s.order, x), s.held+size
			return x, true
		}
		s.wait()
	}
	return nil, false
}

// hasRoom says whether there is room for a block, and makes some where nobody else still needs what is held longest, or
// those who do were waited for long enough. The lock is held.
func (s *Sharing) hasRoom(me *sharer, size int64) bool {
	for len(s.order) > 0 && s.held+size > s.room {
		oldest := s.order[0]
		late := slices.DeleteFunc(s.late(oldest), func(o *sharer) bool { return o == me })
		if len(late) > 0 && s.paused() {
			s.since = time.Now()
		}
		if len(late) > 0 && (s.mayWait() > 0 || s.paused()) {
			return false
		}
		for _, o := range late {
			s.alone++
			s.drop(o)
		}
		s.forget(oldest)
	}
	if !s.since.IsZero() {
		s.waited, s.since = s.waited+time.Since(s.since), time.Time{}
	}
	return true
}

// mayWait is for how much longer those behind are waited for. The lock is held.
func (s *Sharing) mayWait() time.Duration {
	left := s.patience + time.Since(s.began)/sharedShare - s.waited
	if !s.since.IsZero() {
		left -= time.Since(s.since)
	}
	return left
}

// wait waits for a change, or until nobody is waited for any longer. The lock is held, but for the waiting.
func (s *Sharing) wait() {
	if s.since.IsZero() {
		s.since = time.Now()
	}
	changed, timer := s.changed, time.NewTimer(max(leastWait, s.mayWait()))
	s.mu.Unlock()
	select {
	case <-changed:
	case <-timer.C:
	}
	timer.Stop()
	s.mu.Lock()
}

// took notes that somebody has a block.
func (s *Sharing) took(me *sharer, x *sharedBlock) {
	s.mu.Lock()
	defer s.mu.Unlock()
	x.taken = append(x.taken, me)
	if len(s.late(x)) == 0 || x.err != nil { // what failed is tried again by whoever comes next
		s.forget(x)
	}
	s.change()
}
