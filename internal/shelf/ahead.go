package shelf

import (
	"slices"
	"sync"

	"twinshelf/internal/disk"
	"twinshelf/internal/store"
)

// Reads of a twin's disk come in swarms: small ones beside each other, and files that are read from their beginning to
// their end. The latest blocks are kept (latest.go), and of a shelf that lies far away the next ones are asked for
// together with one that follows those before: each alone would cost the way there and back.

// trail is a part that is read block by block.
type trail struct {
	region *Region
	next   int64 // the block that would follow, from the region's start
	steps  int   // how many are asked for at once then
}

// mostTrails is how many are followed at once: a file's contents, and where a file system says where they lie.
const mostTrails = 4

// blockOf gives block k of a region, which refs, its node's references, name.
func (d *Disk) blockOf(r *Region, k int64, refs []BlockRef) ([]byte, error) {
	n := refs[k%NodeBlocks].Name
	c, mine := d.latest.claim(n)
	if !mine {
		select {
		case <-c.ready:
		case <-d.ctx.Done():
			return nil, d.ctx.Err()
		}
		if c.err == nil {
			return c.b, nil
		}
		return d.fetch([]store.Name{n}) // what failed another one, who may have been stopped, needn't fail here
	}
	defer d.latest.came(c)
	names := []store.Name{n}
	from := k % NodeBlocks
	for _, ref := range refs[from+1 : min(from+d.steps(r, k), int64(len(refs)))] {
		if ref.Kind == disk.Data && !slices.Contains(names, ref.Name) && !d.latest.has(ref.Name) {
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
	for i := len(names) - 1; i >= 0; i-- { // the one that was asked for is the latest
		if problems[i] == nil {
			d.latest.keep(names[i], got[i])
		}
	}
	return got[0], problems[0]
}
