package shelf

import (
	"errors"
	"slices"
	"sync"

	"twinshelf/internal/disk"
	"twinshelf/internal/store"
)

// Reads of a twin's disk come in swarms: small ones beside each other, and files that are read from their beginning to
// their end. The latest blocks are kept, and of a shelf that lies far away the next ones are asked for together
// with one that follows those before: each alone would cost the way there and back.

type cachedBlock struct {
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

// trail is a part that is read block by block.
type trail struct {
	region *Region
	next   int64 // the block that would follow, from the region's start
	steps  int   // how many are asked for at once then
}

const (
	cachedBlocks = 24
	// mostTrails is how many are followed at once: a file's contents, and where a file system says where they lie.
	mostTrails = 4
)

// blockOf gives block k of a region, which refs, its node's references, name.
func (d *Disk) blockOf(r *Region, k int64, refs []BlockRef) ([]byte, error) {
	n := refs[k%NodeBlocks].Name
	c, mine := d.claim(n)
	if !mine {
		<-c.ready
		return c.b, c.err
	}
	defer d.came(c)
	names := []store.Name{n}
	from := k % NodeBlocks
	for _, ref := range refs[from+1 : min(from+d.steps(r, k), int64(len(refs)))] {
		if ref.Kind == disk.Data && !slices.Contains(names, ref.Name) && !d.has(ref.Name) {
			names = append(names, ref.Name)
		}
	}
	c.b, c.err = d.fetch(names)
	return c.b, c.err
}

// steps is how many blocks from block k on are worth asking for: twice as many each time that blocks follow each other.
func (d *Disk) steps(r *Region, k int64) int64 {
	most := d.s.Ahead()
	d.mu.Lock()
	defer d.mu.Unlock()
	i := slices.IndexFunc(d.trails, func(t trail) bool { return t.region == r && t.next == k })
	t := trail{region: r, steps: 1}
	if i >= 0 {
		t.steps = min(2*d.trails[i].steps, most)
		d.trails = slices.Delete(d.trails, i, i+1)
	} else if len(d.trails) == mostTrails {
		d.trails = slices.Delete(d.trails, 0, 1)
	}
	t.next = k + int64(t.steps)
	d.trails = append(d.trails, t)
	return int64(t.steps)
}

// has says whether a block is among those that were kept.
func (d *Disk) has(n store.Name) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.ContainsFunc(d.recent, func(c cachedBlock) bool { return c.name == n })
}

// claim gives a block that was read lately or is on its way to somebody else; mine says that it is neither, and then
// whoever claimed it reads it and calls came.
func (d *Disk) claim(n store.Name) (c *comingBlock, mine bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for i := len(d.recent) - 1; i >= 0; i-- {
		if k := d.recent[i]; k.name == n {
			d.recent = append(slices.Delete(d.recent, i, i+1), k)
			return &comingBlock{name: n, b: k.b, ready: isThere}, false
		}
	}
	if i := slices.IndexFunc(d.coming, func(c *comingBlock) bool { return c.name == n }); i >= 0 {
		return d.coming[i], false
	}
	c = &comingBlock{name: n, ready: make(chan struct{}), err: errNotRead}
	d.coming = append(d.coming, c)
	return c, true
}

// came lets those go on who wait for a block.
func (d *Disk) came(c *comingBlock) {
	d.mu.Lock()
	d.coming = slices.DeleteFunc(d.coming, func(o *comingBlock) bool { return o == c })
	d.mu.Unlock()
	close(c.ready)
}

// fetch reads blocks at once, keeps them, and gives the first one. What goes wrong with the others is found when
// somebody asks for them.
func (d *Disk) fetch(names []store.Name) ([]byte, error) {
	got := make([][]byte, len(names))
	problems := make([]error, len(names))
	var others sync.WaitGroup
	for i := range names[1:] {
		others.Go(func() { got[i+1], problems[i+1] = d.s.Block(d.ctx, names[i+1], nil) })
	}
	got[0], problems[0] = d.s.Block(d.ctx, names[0], nil)
	others.Wait()
	d.mu.Lock()
	defer d.mu.Unlock()
	for i := len(names) - 1; i >= 0; i-- { // the one that was asked for is the latest
		if problems[i] == nil {
			d.recent = append(d.recent, cachedBlock{names[i], got[i]})
		}
	}
	if more := len(d.recent) - cachedBlocks; more > 0 {
		d.recent = slices.Delete(d.recent, 0, more)
	}
	return got[0], problems[0]
}
