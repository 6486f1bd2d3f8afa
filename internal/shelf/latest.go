package shelf

import (
	"errors"
	"slices"
	"sync"
	"weak"

	"twinshelf/internal/store"
)

// keptBlocks is how many blocks are kept of a shelf.
const keptBlocks = 24

// latest are the blocks of a shelf that were read lately, and those on their way: one for all disks of its twins that
// are open.
type latest struct {
	mu     sync.Mutex
	kept   []keptBlock // the latest at the end
	coming []*comingBlock
}

type keptBlock struct {
	name store.Name
	b    []byte
}

// comingBlock is a block that somebody reads.
type comingBlock struct {
	name  store.Name
	ready chan struct{} // closed once b or err is there
	b     []byte
	err   error
}

// errNotRead is what others are told while the reading of a block ends in no other way.
var errNotRead = errors.New("the block wasn't read to its end")

// isThere is what those wait for who needn't wait.
var isThere = func() chan struct{} {
	c := make(chan struct{})
	close(c)
	return c
}()

// sharedLatest gives a shelf's disks the same latest blocks, as long as one of them is in use.
type sharedLatest struct {
	mu  sync.Mutex
	now weak.Pointer[latest]
}

func (s *sharedLatest) get() *latest {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := s.now.Value()
	if l == nil {
		l = &latest{}
		s.now = weak.Make(l)
	}
	return l
}

// has says whether a block is among those that are kept.
func (l *latest) has(n store.Name) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.ContainsFunc(l.kept, func(k keptBlock) bool { return k.name == n })
}

// claim gives a block that was read lately or is on its way to somebody else; mine says that it is neither, and then
// whoever claimed it reads it and calls came.
func (l *latest) claim(n store.Name) (c *comingBlock, mine bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for i := len(l.kept) - 1; i >= 0; i-- {
		if k := l.kept[i]; k.name == n {
			l.kept = append(slices.Delete(l.kept, i, i+1), k)
			return &comingBlock{name: n, b: k.b, ready: isThere}, false
		}
	}
	if i := slices.IndexFunc(l.coming, func(c *comingBlock) bool { return c.name == n }); i >= 0 {
		return l.coming[i], false
	}
	c = &comingBlock{name: n, ready: make(chan struct{}), err: errNotRead}
	l.coming = append(l.coming, c)
	return c, true
}

// came lets those go on who wait for a block.
func (l *latest) came(c *comingBlock) {
	l.mu.Lock()
	l.coming = slices.DeleteFunc(l.coming, func(o *comingBlock) bool { return o == c })
	l.mu.Unlock()
	close(c.ready)
}

// keep keeps a block in the place of those that nobody asked for longest.
func (l *latest) keep(n store.Name, b []byte) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.kept = slices.DeleteFunc(l.kept, func(k keptBlock) bool { return k.name == n })
	l.kept = append(l.kept, keptBlock{n, b})
	if more := len(l.kept) - keptBlocks; more > 0 {
		l.kept = slices.Delete(l.kept, 0, more)
	}
}
