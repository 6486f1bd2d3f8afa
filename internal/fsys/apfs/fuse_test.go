package apfs

import (
	"encoding/binary"
	"os"
	"testing"

	"twinshelf/internal/container/fusion"
	"twinshelf/internal/disk"
	"twinshelf/internal/testkit"
)

// halver makes a container on two devices of one on a single one. No program here writes such containers, so that
// nobody but us says how they are: by what the reference says of them.
type halver struct {
	t            testing.TB
	c            *Container
	quick, large *os.File
	moved        map[int64]int64 // blocks of the quick half, and where they are on the large one
	order        []int64         // of these
	blocks       int64           // of the large half
}

// Fused makes halves of a container of testdata: the second half of its files' contents goes to the large one. both
// says that superblocks count the blocks of both; waits, that some of them wait for being written to the large one.
func Fused(t testing.TB, name string, both, waits bool) (quick, large string) {
	t.Helper()
	const blocks = 40960
	quick, large = Image(t, name), testkit.Image(t, "large.img", blocks*minBlock+1024)
	d, err := disk.Open(quick, disk.Identity{})
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	v, err := Probe(d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	h := &halver{t: t, c: v.(*Container), moved: map[int64]int64{}, blocks: blocks}
	for path, f := range map[string]**os.File{quick: &h.quick, large: &h.large} {
		if *f, err = os.OpenFile(path, os.O_RDWR, 0); err != nil {
			t.Fatal(err)
		}
		defer (*f).Close()
	}
	h.move()
	h.supers(both, h.space(), waits)
	return quick, large
}

func (h *halver) must(err error) {
	h.t.Helper()
	if err != nil {
		h.t.Fatal(err)
	}
}

func (h *halver) put(f *os.File, at int64, b []byte) {
	h.t.Helper()
	_, err := f.WriteAt(b, at*minBlock)
	h.must(err)
}

// putObject is put with a new checksum.
func (h *halver) putObject(f *os.File, at int64, b []byte) {
	h.t.Helper()
	binary.LittleEndian.PutUint64(b[objSum:], sum(b))
	h.put(f, at, b)
}

// move takes the second half of all extents to the large half, and says so in both trees.
func (h *halver) move() {
	le, v := binary.LittleEndian, h.c.volumes[0]
	t, err := v.physical(volExtents, v.extentsPhysical)
	h.must(err)
	var all []extent
	h.must(t.all(func(key, value []byte) error {
		all = append(all, extent{int64(le.Uint64(key) & keyIDMask), int64(le.Uint64(value) & extentLenMask)})
		return nil
	}))
	to := int64(3)
	for _, e := range all[len(all)/2:] {
		for i := range e.count {
			b, err := h.c.block(e.first + i)
			h.must(err)
			h.put(h.large, to, b)
			h.put(h.quick, e.first+i, testkit.Noise(uint64(i), minBlock))
			h.moved[e.first+i] = to
			h.order = append(h.order, e.first+i)
			to++
		}
	}
	flag := fusion.Large(minBlock)
	h.rewrite(t, func(key, _ []byte) {
		if to, is := h.moved[int64(le.Uint64(key)&keyIDMask)]; is {
			le.PutUint64(key, le.Uint64(key)&^keyIDMask|flag|uint64(to))
		}
	})
	files, err := v.files()
	h.must(err)
	h.rewrite(files, func(key, value []byte) {
		if le.Uint64(key)>>keyKind != recFile || len(value) < filePhysical+8 {
			return
		}
		if to, is := h.moved[int64(le.Uint64(value[filePhysical:]))]; is {
			le.PutUint64(value[filePhysical:], flag|uint64(to))
		}
	})
}

// rewrite changes all records of a tree.
func (h *halver) rewrite(t *btree, change func(key, value []byte)) {
	var all []int64
	t.visited = func(at int64) error {
		all = append(all, at)
		return nil
	}
	h.must(t.all(func(_, _ []byte) error { return nil }))
	t.visited = nil
	root, err := t.node(t.root, nil)
	h.must(err)
	for _, at := range all {
		of := root
		if at == t.root {
			of = nil
		}
		n, err := t.node(at, of)
		h.must(err)
		for i := range n.keys {
			key, value, err := t.record(n, i)
			h.must(err)
			change(key, value)
		}
		h.putObject(h.quick, at, n.b)
	}
}

// space has the space manager know both halves, and gives a free block. The blocks of the first contents that went
// away get the large half's chunks and the bitmap of the first of them.
func (h *halver) space() (free int64) {
	le := binary.LittleEndian
	info, bits, free := h.order[0], h.order[1], h.order[2]
	chunks, err := h.c.object(h.c.space.infos[0], typeChunks)
	h.must(err)
	manager, err := h.c.large(extent{h.c.space.at, h.c.space.blocks}, typeSpace)
	h.must(err)
	for _, at := range h.order[3:] {
		e := chunks[listEntries+int(at/h.c.space.perChunk)*chunkEntry:]
		bitmap := h.c.address(le.Uint64(e[chunkBitmap:]))
		b, err := h.c.block(bitmap)
		h.must(err)
		clearBits(b, at%h.c.space.perChunk, 1)
		h.put(h.quick, bitmap, b)
		le.PutUint32(e[chunkFree:], le.Uint32(e[chunkFree:])+1)
	}
	h.putObject(h.quick, h.c.space.infos[0], chunks)
	own := make([]byte, minBlock)
	used := int64(len(h.order)) + 1
	own[0] = 1
	for _, at := range h.moved {
		own[at/8] |= 1 << (at % 8)
	}
	h.put(h.quick, bits, own)
	list := append([]byte(nil), chunks...)
	clear(list[listEntries:])
	le.PutUint64(list[objID:], uint64(info))
	le.PutUint32(list[listCount:], 2)
	first, second := list[listEntries:], list[listEntries+chunkEntry:]
	le.PutUint64(first[chunkFirst:], fusion.Large(minBlock))
	le.PutUint32(first[chunkBlocks:], 32768)
	le.PutUint32(first[chunkFree:], uint32(32768-used))
	le.PutUint64(first[chunkBitmap:], uint64(bits))
	le.PutUint64(second[chunkFirst:], fusion.Large(minBlock)|32768)
	le.PutUint32(second[chunkBlocks:], uint32(h.blocks-32768))
	le.PutUint32(second[chunkFree:], uint32(h.blocks-32768))
	h.putObject(h.quick, info, list)
	d := manager[spaceTier2:]
	le.PutUint64(d[spaceDevBlocks:], uint64(h.blocks))
	le.PutUint64(d[spaceDevChunks:], 2)
	le.PutUint32(d[spaceDevInfos:], 1)
	le.PutUint64(d[spaceDevFree:], uint64(h.blocks-used))
	le.PutUint64(manager[le.Uint32(d[spaceDevAddresses:]):], uint64(info))
	h.putObject(h.quick, h.c.space.at, manager)
	return free
}

// supers has all superblocks say what the container is. The free block gets the tree of what waits.
func (h *halver) supers(both bool, free int64, waits bool) {
	const ofFusion = 1280
	le, blocks := binary.LittleEndian, uint64(h.c.blocks)
	if both {
		blocks += uint64(h.blocks)
	}
	h.must(h.c.eachSuper(func(at int64, b []byte, _ bool) {
		le.PutUint64(b[superIncompat:], le.Uint64(b[superIncompat:])|incompatFusion)
		le.PutUint64(b[superBlocks:], blocks)
		copy(b[ofFusion:], "\xC1ferry halves 1")
		if waits {
			le.PutUint64(b[superMiddle:], uint64(free))
		}
		h.putObject(h.quick, at, b)
		if at == 0 {
			b[ofFusion] ^= 0x80
			h.putObject(h.large, 0, b)
		}
	}))
	b := make([]byte, minBlock)
	le.PutUint64(b[objID:], uint64(free))
	le.PutUint32(b[objType:], typeRoot|storagePhysical)
	le.PutUint16(b[nodeFlags:], flagRoot|flagLeaf|flagFixed)
	le.PutUint32(b[nodeKeys:], 1)
	le.PutUint16(b[nodeTable:], 4)
	le.PutUint16(b[nodeData+2:], cacheLen)
	le.PutUint64(b[nodeData+4:], fusion.Large(minBlock)|uint64(h.moved[h.order[4]]))
	info := b[minBlock-treeInfo:]
	le.PutUint32(info[infoNode:], minBlock)
	le.PutUint32(info[infoKey:], 8)
	le.PutUint32(info[infoValue:], cacheLen)
	value := b[minBlock-treeInfo-cacheLen:]
	le.PutUint32(value[cacheLength:], 1)
	le.PutUint32(value[cacheFlags:], cacheDirty)
	h.putObject(h.quick, free, b)
}
