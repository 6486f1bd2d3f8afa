package apfs

import (
	"encoding/binary"
	"fmt"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/units"
)

var _ fsys.Resizer = (*Container)(nil)

// Resize gives the container the blocks of a larger part (Space Manager): its last chunk becomes a whole one, further
// chunks follow, and the manager's own blocks, of which it needs more, go to the beginning of the new room, in the
// order that they had. What the newest checkpoint says of it is changed where it lies. A container never becomes
// smaller, and another place changes nothing in it.
func (c *Container) Resize(b fsys.Bounds) (*fsys.Change, error) {
	out := &fsys.Change{Size: c.info.Size}
	if b.Size > 0 && b.Size < c.info.Size {
		return nil, fmt.Errorf("an APFS container can't be made smaller: %w", &fsys.Cant{Why: "a Mac has to do that"})
	}
	if b.Size/c.unit <= c.blocks {
		return out, nil
	}
	g := &growth{c: c, patches: map[int64][]byte{}}
	why, err := g.plan(b.Size / c.unit)
	if err != nil {
		return nil, err
	}
	if why != "" {
		out.Notes = append(out.Notes, "it keeps its size: "+why)
		return out, nil
	}
	if g.blocks < b.Size/c.unit {
		out.Notes = append(out.Notes, fmt.Sprintf("it becomes %s: how larger ones keep their own blocks isn't "+
			"published; a Mac can let it grow into the rest", units.Bytes(g.blocks*c.unit)))
	}
	out.Size = g.blocks * c.unit
	for at, p := range g.patches {
		out.Patches = append(out.Patches, disk.Patch{Off: at * c.unit, Data: p, Why: "APFS container"})
	}
	out.Patches, err = disk.SortPatches(out.Patches, b.Size)
	return out, err
}

// poolShare is how many blocks of its own the space manager has for each chunk and each block of chunks.
const poolShare = 3

// growth is a container that gets more blocks.
type growth struct {
	c       *Container
	blocks  int64 // afterwards
	chunks  int64
	infos   int64 // blocks of chunks
	pool    extent
	manager []byte // the space manager's object
	bits    []byte // which blocks of the pool are in use
	bitsAt  int64
	entries []byte // all chunks
	maps    map[int64][]byte
	patches map[int64][]byte // whole blocks, by where they go
}

// plan gives the reason in words when the container can't grow.
func (g *growth) plan(blocks int64) (why string, err error) {
	c := g.c
	if g.manager, err = c.large(extent{c.space.at, c.space.blocks}, typeSpace); err != nil {
		return "", err
	}
	if why := g.fits(blocks); why != "" {
		return why, nil
	}
	if err := g.readPool(); err != nil {
		return "", err
	}
	if err := g.readChunks(); err != nil {
		return "", err
	}
	for _, step := range []func() error{g.moveQueue, g.moveBitmaps, g.moreChunks, g.markPools, g.writeInfos, g.finish} {
		if err := step(); err != nil {
			return "", err
		}
	}
	return "", nil
}

// fits sees how many blocks the container can have, up to a number.
func (g *growth) fits(blocks int64) (why string) {
	c, le := g.c, binary.LittleEndian
	perInfo := int64(le.Uint32(g.manager[spaceChunksPerBlock:]))
	d := g.manager[spaceDevice:]
	room := (int64(len(g.manager)) - int64(le.Uint32(d[spaceDevAddresses:]))) / 8
	least := func(blocks int64) (chunks, infos, pool int64) {
		chunks = (blocks + c.space.perChunk - 1) / c.space.perChunk
		infos = (chunks + perInfo - 1) / max(1, perInfo)
		return chunks, infos, poolShare * (chunks + infos)
	}
	_, _, was := least(c.blocks)
	switch {
	case c.fused:
		return "it lies on two disks"
	case len(c.space.lists) > 0 || le.Uint32(g.manager[spaceBitmapOwn:]) != 1:
		return "it is so large that its space manager is kept in a way that isn't changed here"
	case perInfo < 1 || perInfo > (c.unit-listEntries)/chunkEntry || was != c.space.pool.count ||
		le.Uint32(d[spaceDevice2Addresses:]) < le.Uint32(d[spaceDevAddresses:])+8*uint32(len(c.space.infos)):
		return "its space manager is kept in a way that isn't changed here"
	}
	for {
		g.blocks = blocks
		g.chunks, g.infos, g.pool.count = least(blocks)
		g.pool.first = c.blocks
		if g.pool.count <= 8*c.unit && g.infos <= room {
			break
		}
		blocks = (g.chunks - 1) * c.space.perChunk
	}
	if g.blocks <= c.blocks || g.pool.count+1 >= g.blocks-c.blocks {
		return "there is too little new room"
	}
	return ""
}

// readPool reads which of the manager's own blocks are in use: a bitmap that lies in one of several places.
func (g *growth) readPool() (err error) {
	s, le := g.c.space, binary.LittleEndian
	at := int64(le.Uint32(g.manager[spaceBitmapAt:]))
	if at+2 > int64(len(g.manager)) {
		return fsys.Contradiction(s.at*g.c.unit, "where its own bitmap lies stands outside of it")
	}
	turn := int64(le.Uint16(g.manager[at:]))
	if turn >= s.bitmaps.count {
		return fsys.Contradiction(s.at*g.c.unit, "its own bitmap is number %d of %d", turn, s.bitmaps.count)
	}
	g.bitsAt = s.bitmaps.first + turn
	g.bits, err = g.c.block(g.bitsAt)
	return err
}

// readChunks reads what is known of all chunks.
func (g *growth) readChunks() error {
	for _, info := range g.c.space.infos {
		b, err := g.c.object(info, typeChunks)
		if err != nil {
			return err
		}
		n := int(binary.LittleEndian.Uint32(b[listCount:]))
		if n > (len(b)-listEntries)/chunkEntry {
			return fsys.Contradiction(info*g.c.unit, "%d chunks in a block", n)
		}
		g.entries = append(g.entries, b[listEntries:listEntries+n*chunkEntry]...)
	}
	if have := int64(len(g.entries) / chunkEntry); have != (g.c.blocks+g.c.space.perChunk-1)/g.c.space.perChunk {
		return fsys.Contradiction(g.c.space.at*g.c.unit, "it has %d chunks", have)
	}
	return nil
}

// moved is where a block of the old pool goes; others stay.
func (g *growth) moved(at int64) int64 {
	if old := g.c.space.pool; at >= old.first && at < old.first+old.count {
		return g.pool.first + at - old.first
	}
	return at
}

// moveQueue gives the pool's blocks that wait for being freed their new addresses. They keep their order.
func (g *growth) moveQueue() error {
	le := binary.LittleEndian
	oid := le.Uint64(g.manager[spaceQueueTree:])
	root, known := g.c.ephemeral[oid]
	if oid == 0 {
		return nil
	}
	if !known {
		return fmt.Errorf("object %d isn't in the checkpoint", oid)
	}
	t := &btree{c: g.c, root: root.first, where: func(oid uint64) (int64, error) {
		at, known := g.c.ephemeral[oid]
		if !known {
			return 0, fmt.Errorf("object %d isn't in the checkpoint", oid)
		}
		return at.first, nil
	}}
	var all []int64
	t.visited = func(at int64) error {
		all = append(all, at)
		return nil
	}
	if err := t.all(func(_, _ []byte) error { return nil }); err != nil {
		return err
	}
	t.visited = nil
	first, err := t.node(root.first, nil)
	if err != nil {
		return err
	}
	for _, at := range all {
		if err := g.moveKeys(t, at, first); err != nil {
			return err
		}
	}
	return nil
}

// moveKeys changes the addresses in the keys of a node of the queue: transaction and block (Space Manager, free
// queues).
func (g *growth) moveKeys(t *btree, at int64, root *node) error {
	above := root
	if at == root.at {
		above = nil
	}
	n, err := t.node(at, above)
	if err != nil {
		return err
	}
	mine := *n
	mine.b = slices.Clone(n.b)
	for i := range mine.keys {
		key, _, err := t.record(&mine, i)
		if err != nil {
			return err
		}
		if len(key) < 16 {
			return t.hurt(at, "a key of %d bytes stands among blocks that wait", len(key))
		}
		binary.LittleEndian.PutUint64(key[8:], uint64(g.moved(int64(min(binary.LittleEndian.Uint64(key[8:]), 1<<62)))))
	}
	g.put(at, mine.b)
	return nil
}

// put keeps an object that is written to a block.
func (g *growth) put(at int64, b []byte) {
	binary.LittleEndian.PutUint64(b[objSum:], sum(b))
	g.patches[at] = b
}

// moveBitmaps reads the bitmaps of all chunks into memory that are to be changed or moved: those in the pool.
func (g *growth) moveBitmaps() error {
	g.maps = map[int64][]byte{}
	for i := range len(g.entries) / chunkEntry {
		e := g.entries[i*chunkEntry:]
		at := int64(min(binary.LittleEndian.Uint64(e[chunkBitmap:]), 1<<62))
		if at == 0 {
			continue
		}
		b, err := g.c.block(at)
		if err != nil {
			return err
		}
		g.maps[int64(i)] = b
		binary.LittleEndian.PutUint64(e[chunkBitmap:], uint64(g.moved(at)))
	}
	return nil
}

// moreChunks makes the last chunk as long as it can be, and adds new ones.
func (g *growth) moreChunks() error {
	le, per := binary.LittleEndian, g.c.space.perChunk
	for i := g.c.blocks / per; i < g.chunks; i++ {
		n := min(per, g.blocks-i*per)
		if i*chunkEntry == int64(len(g.entries)) {
			e := make([]byte, chunkEntry)
			le.PutUint64(e, g.c.xid)
			le.PutUint64(e[chunkFirst:], uint64(i*per))
			g.entries = append(g.entries, e...)
		}
		e := g.entries[i*chunkEntry:]
		was := int64(le.Uint32(e[chunkBlocks:]) & chunkCountMask)
		for _, at := range []int{chunkBlocks, chunkFree} { // the reserved bits stay
			le.PutUint32(e[at:], le.Uint32(e[at:])+uint32(n-was))
		}
		if b := g.maps[i]; b != nil {
			clearBits(b, was, per-was)
		}
	}
	return nil
}

// markPools frees the old pool's blocks, and takes those of the new one, as far as the old ones were marked.
func (g *growth) markPools() error {
	marked, old := int64(0), g.c.space.pool
	for at := old.first; at < old.first+old.count; at++ {
		marked += g.mark(at, false)
	}
	if marked != old.count && marked != 0 {
		return fsys.Contradiction(g.c.space.at*g.c.unit, "%d of its own %d blocks are marked as "+
			"used", marked, old.count)
	}
	for at := g.pool.first; marked > 0 && at < g.pool.first+g.pool.count; at++ {
		g.mark(at, true)
	}
	return nil
}

// mark marks a block as used or free, in its chunk's bitmap and count; it says how many changed.
func (g *growth) mark(at int64, used bool) int64 {
	le, per := binary.LittleEndian, g.c.space.perChunk
	i, bit := at/per, at%per
	e := g.entries[i*chunkEntry:]
	if g.maps[i] == nil {
		if !used {
			return 0
		}
		g.maps[i] = make([]byte, g.c.unit)
	}
	b := g.maps[i]
	if b[bit/8]>>(bit%8)&1 == 1 == used {
		return 0
	}
	b[bit/8] ^= 1 << (bit % 8)
	free := le.Uint32(e[chunkFree:])
	if used {
		free--
	} else {
		free++
	}
	le.PutUint32(e[chunkFree:], free)
	return 1
}

// take gives a free block of the new pool.
func (g *growth) take() (int64, error) {
	for i := range g.pool.count {
		if g.bits[i/8]>>(i%8)&1 == 0 {
			g.bits[i/8] |= 1 << (i % 8)
			return g.pool.first + i, nil
		}
	}
	return 0, fsys.Contradiction(g.c.space.at*g.c.unit, "all of its own blocks are in use")
}

// writeInfos writes bitmaps and blocks of chunks into the new pool.
func (g *growth) writeInfos() error {
	le := binary.LittleEndian
	clearBits(g.bits, g.c.space.pool.count, 8*int64(len(g.bits))-g.c.space.pool.count)
	for i := range g.chunks {
		b := g.maps[i]
		if b == nil {
			continue
		}
		e := g.entries[i*chunkEntry:]
		at := int64(le.Uint64(e[chunkBitmap:]))
		if at == 0 {
			var err error
			if at, err = g.take(); err != nil {
				return err
			}
			le.PutUint64(e[chunkBitmap:], uint64(at))
		}
		g.patches[at] = b
	}
	per := int64(le.Uint32(g.manager[spaceChunksPerBlock:]))
	table := g.manager[le.Uint32(g.manager[spaceDevice+spaceDevAddresses:]):]
	model, err := g.c.object(g.c.space.infos[0], typeChunks)
	if err != nil {
		return err
	}
	for i := range g.infos {
		if err := g.writeInfo(i, per, model, table); err != nil {
			return err
		}
	}
	return nil
}

// writeInfo writes a block of chunks, and where it lies.
func (g *growth) writeInfo(i, per int64, model, table []byte) (err error) {
	le := binary.LittleEndian
	b := make([]byte, g.c.unit)
	var at int64
	if i < int64(len(g.c.space.infos)) {
		old, err := g.c.object(g.c.space.infos[i], typeChunks)
		if err != nil {
			return err
		}
		copy(b, old[:listEntries])
		at = g.moved(g.c.space.infos[i])
	} else {
		copy(b, model[:listEntries])
		if at, err = g.take(); err != nil {
			return err
		}
	}
	some := g.entries[i*per*chunkEntry : min(int64(len(g.entries)), (i+1)*per*chunkEntry)]
	copy(b[listEntries:], some)
	le.PutUint64(b[objID:], uint64(at))
	le.PutUint32(b[listIndex:], uint32(i))
	le.PutUint32(b[listCount:], uint32(len(some)/chunkEntry))
	le.PutUint64(table[8*i:], uint64(at))
	g.put(at, b)
	return nil
}

// finish writes the space manager, its own bitmap, and what superblocks say of the container's size.
func (g *growth) finish() error {
	c, le := g.c, binary.LittleEndian
	m, d := g.manager, g.manager[spaceDevice:]
	free := uint64(0)
	for i := range g.chunks {
		free += uint64(le.Uint32(g.entries[i*chunkEntry+chunkFree:]) & chunkCountMask)
	}
	le.PutUint64(d[spaceDevBlocks:], uint64(g.blocks))
	le.PutUint64(d[spaceDevChunks:], uint64(g.chunks))
	le.PutUint32(d[spaceDevInfos:], uint32(g.infos))
	le.PutUint64(d[spaceDevFree:], free)
	le.PutUint32(d[spaceDevice2Addresses:], le.Uint32(d[spaceDevAddresses:])+8*uint32(g.infos))
	le.PutUint64(m[spacePool:], uint64(g.pool.count))
	le.PutUint64(m[spacePoolBase:], uint64(g.pool.first))
	for at, limit := range map[int]func(blocks int64) uint16{spaceQueueLimit: g.poolQueue, spaceMainLimit: mainQueue} {
		if le.Uint16(m[at:]) == limit(c.blocks) { // as they are usually chosen
			le.PutUint16(m[at:], limit(g.blocks))
		}
	}
	g.put(c.space.at, m)
	g.patches[g.bitsAt] = g.bits
	return c.eachSuper(func(at int64, b []byte, newest bool) {
		if at == 0 || newest {
			le.PutUint64(b[superBlocks:], uint64(g.blocks))
			volumes := min(mostVolumes, (g.blocks*c.unit+volumeShare-1)/volumeShare)
			le.PutUint32(b[superMostVolume:], max(le.Uint32(b[superMostVolume:]), uint32(volumes)))
			g.put(at, b)
		}
	})
}

// volumeShare is for how many bytes a container may have one volume more.
const volumeShare = 512 * units.MiB

// poolQueue is how many nodes the queue of the pool's blocks that wait for being freed may have.
func (g *growth) poolQueue(blocks int64) uint16 {
	const perNode = 1127
	chunks := (blocks + g.c.space.perChunk - 1) / g.c.space.perChunk
	n := (3*chunks + perNode - 1) / perNode
	if n == 2 {
		n = 3
	}
	return uint16(min(n, 1<<15))
}

// mainQueue is that for the queue of all other blocks.
func mainQueue(blocks int64) uint16 {
	const perNode, most = 4544, 512
	switch {
	case blocks < 1<<18:
		return uint16((blocks + perNode - 1) / perNode)
	case blocks < 1<<20:
		return uint16((2*blocks + perNode - 1) / perNode)
	}
	return most
}

// eachSuper calls do with a copy of the first block, and of every superblock that is whole.
func (c *Container) eachSuper(do func(at int64, b []byte, newest bool)) error {
	all := []int64{0}
	for i := range c.descriptions.count {
		all = append(all, c.descriptions.first+i)
	}
	for _, at := range all {
		b, err := c.block(at)
		if err != nil {
			return err
		}
		if kindOf(b) == typeSuper && string(b[superMagic:superMagic+4]) == magicSuper && sound(b) {
			do(at, b, at != 0 && binary.LittleEndian.Uint64(b[objXID:]) == c.xid)
		}
	}
	return nil
}

// clearBits clears n bits of a map whose lowest bit comes first.
func clearBits(b []byte, from, n int64) {
	for i := from; i < from+n; i++ {
		b[i/8] &^= 1 << (i % 8)
	}
}
