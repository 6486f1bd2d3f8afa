package hfsplus

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"golang.org/x/text/unicode/norm"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/decmpfs"
	"twinshelf/internal/fsys/decmpfs/decmpfstest"
	"twinshelf/internal/testkit"
	"twinshelf/internal/units"
)

// Volumes with what the kernel's driver doesn't write: packed files, resource forks, links of folders, large
// attributes. They are built here and read by other programs, too.

// built is a file or folder to build.
type built struct {
	name      string // path
	folder    bool
	data, res []byte
	flags     byte
	mode      uint16
	kind      string // and who made it
	special   uint32
	id        uint32 // 0 for the next one
	attrs     map[string][]byte
}

// builder builds a volume.
type builder struct {
	p                 plot
	b                 []byte
	next              int64 // free block
	laid              int64 // blocks
	id                uint32
	ids               map[string]uint32
	valence           map[uint32]uint32
	catalog           []record
	attributes        []record
	forks             []record // extents overflow
	pieces            int      // the most that a file's data is laid in at once
	files, foldersNum uint32
}

func build(t testing.TB, size int64, all []built) []byte {
	t.Helper()
	return buildAt(t, size, 0, 0, all)
}

// buildAt begins at a block, or where there is room; pieces is how many blocks lie together at the most, or 0.
func buildAt(t testing.TB, size, block int64, pieces int, all []built) []byte {
	t.Helper()
	f := fsys.Form{Kind: "HFS+", Label: "Built", Size: size, Unit: 4096, Sector: 512, ID: [16]byte{1, 2, 3},
		Now: time.Date(2026, 5, 4, 3, 2, 1, 0, time.UTC)}
	patches, err := format(f)
	if err != nil {
		t.Fatal(err)
	}
	o, err := disk.NewOverlay(disk.NewMemory(size, 512), patches, size)
	if err != nil {
		t.Fatal(err)
	}
	b := &builder{p: layOut(f), b: make([]byte, size), id: 100, ids: map[string]uint32{".": idRoot},
		valence: map[uint32]uint32{}}
	if err := disk.ReadFull(o, b.b, 0); err != nil {
		t.Fatal(err)
	}
	b.next, b.pieces = max(b.p.end, block), pieces
	for _, x := range all {
		b.add(x)
	}
	b.finish(t, f)
	return b.b
}

func (b *builder) parent(name string) (uint32, []uint16) {
	dir, base := filepath.Split(name)
	parent := b.ids[filepath.Clean(dir)]
	b.valence[parent]++
	base = strings.ReplaceAll(base, ":", "/")
	return parent, utf16.Encode([]rune(norm.NFD.String(base)))
}

func (b *builder) add(x built) {
	be := binary.BigEndian
	id := x.id
	if id == 0 {
		b.id++
		id = b.id
	}
	parent, name := b.parent(x.name)
	kind, n, thread := uint16(recFile), fileLen, uint16(recFileTo)
	if x.folder {
		kind, n, thread = recFolder, folderLen, recFolderTo
		b.ids[x.name] = id
		b.foldersNum++
	} else {
		b.files++
	}
	r := make([]byte, n)
	be.PutUint16(r, kind)
	be.PutUint16(r[itemFlags:], threadExists)
	be.PutUint32(r[itemID:], id)
	for _, at := range []int{itemMade, itemModified, itemChanged, itemRead} {
		be.PutUint32(r[at:], mac(time.Date(2026, 1, 2, 3, 4, 5, 0, time.UTC)))
	}
	r[itemFlagsOf] = x.flags
	be.PutUint16(r[itemMode:], x.mode)
	be.PutUint32(r[itemSpecial:], x.special)
	copy(r[itemType:], x.kind)
	if !x.folder {
		b.fork(r[fileData:], id, forkIsData, x.data)
		b.fork(r[fileResource:], id, forkIsRes, x.res)
	}
	b.catalog = append(b.catalog, record{keyOf(parent, name), r},
		record{keyOf(id, nil), threadRecord(thread, parent, name)})
	for _, a := range slices.Sorted(maps.Keys(x.attrs)) {
		b.attribute(id, a, x.attrs[a])
	}
}

// fork lays bytes down, in pieces with a free block between where it is wished, and writes their record.
func (b *builder) fork(r []byte, id uint32, kind byte, data []byte) {
	be := binary.BigEndian
	all := b.lay(data)
	be.PutUint64(r[forkSize:], uint64(len(data)))
	be.PutUint32(r[forkBlocks:], uint32(countOf(all)))
	put := func(to []byte, some []extent) {
		for i, e := range some {
			be.PutUint32(to[i*extentLen:], uint32(e.first))
			be.PutUint32(to[i*extentLen+4:], uint32(e.count))
		}
	}
	put(r[forkExtents:], all[:min(len(all), extents)])
	at := countOf(all[:min(len(all), extents)])
	for rest := all[min(len(all), extents):]; len(rest) > 0; rest = rest[min(len(rest), extents):] {
		some := rest[:min(len(rest), extents)]
		x := make([]byte, extentRecords)
		put(x, some)
		b.forks = append(b.forks, record{extentKey(kind, id, uint32(at)), x})
		at += countOf(some)
	}
}

func (b *builder) lay(data []byte) (all []extent) {
	unit := int(b.p.unit)
	for i := 0; len(data) > 0; i++ {
		n := len(data)
		if b.pieces > 0 {
			n = min(n, b.pieces*unit)
		}
		copy(b.b[b.next*b.p.unit:], data[:n])
		count := int64((n + unit - 1) / unit)
		setBits(b.b[b.p.bitmap.first*b.p.unit:], b.next, count)
		all = append(all, extent{b.next, count})
		b.next += count
		b.laid += count
		if data = data[n:]; b.pieces > 0 {
			b.next++
		}
	}
	return all
}

// attribute puts an attribute into the tree, or a large one into extents.
func (b *builder) attribute(id uint32, name string, value []byte) {
	const mostInline = 3000
	be := binary.BigEndian
	u := utf16.Encode([]rune(name))
	key := func(block uint32) []byte {
		k := make([]byte, attrName-2+2*len(u))
		be.PutUint32(k[attrFile-2:], id)
		be.PutUint32(k[attrBlock-2:], block)
		be.PutUint16(k[attrNameLen-2:], uint16(len(u)))
		for i, c := range u {
			be.PutUint16(k[attrName-2+2*i:], c)
		}
		return k
	}
	if len(value) <= mostInline {
		d := make([]byte, inlineData, inlineData+len(value)+1)
		be.PutUint32(d, attrInline)
		be.PutUint32(d[inlineSize:], uint32(len(value)))
		d = append(d, value...)
		b.attributes = append(b.attributes, record{key(0), append(d, make([]byte, len(d)%2)...)})
		return
	}
	all := b.lay(value)
	d := make([]byte, attrForkAt+forkLen)
	be.PutUint32(d, attrForkKind)
	f := d[attrForkAt:]
	be.PutUint64(f[forkSize:], uint64(len(value)))
	be.PutUint32(f[forkBlocks:], uint32(countOf(all)))
	for i, e := range all[:min(len(all), extents)] {
		be.PutUint32(f[forkExtents+i*extentLen:], uint32(e.first))
		be.PutUint32(f[forkExtents+i*extentLen+4:], uint32(e.count))
	}
	b.attributes = append(b.attributes, record{key(0), d})
	at := countOf(all[:min(len(all), extents)])
	for rest := all[min(len(all), extents):]; len(rest) > 0; rest = rest[min(len(rest), extents):] {
		x := make([]byte, attrForkAt+extentRecords)
		be.PutUint32(x, attrExtents)
		for i, e := range rest[:min(len(rest), extents)] {
			be.PutUint32(x[attrForkAt+i*extentLen:], uint32(e.first))
			be.PutUint32(x[attrForkAt+i*extentLen+4:], uint32(e.count))
		}
		b.attributes = append(b.attributes, record{key(uint32(at)), x})
		at += countOf(rest[:min(len(rest), extents)])
	}
}

// finish writes the trees and the volume headers.
func (b *builder) finish(t testing.TB, f fsys.Form) {
	t.Helper()
	be := binary.BigEndian
	old, err := Probe(bytes.NewReader(b.b), int64(len(b.b)), 512)
	if err != nil {
		t.Fatal(err)
	}
	v := old.(*Volume)
	for e, err := range v.catalog.records() {
		if err != nil {
			t.Fatal(err)
		}
		b.catalog = append(b.catalog, record{bytes.Clone(e.key), bytes.Clone(e.data)})
	}
	for _, r := range b.catalog {
		if kindOf(r.data) == recFolder {
			id := be.Uint32(r.data[itemID:])
			be.PutUint32(r.data[itemValence:], be.Uint32(r.data[itemValence:])+b.valence[id])
		}
	}
	sortBy(b.catalog, v.catalog)
	slices.SortFunc(b.attributes, func(x, y record) int {
		if c := bytes.Compare(x.key[2:6], y.key[2:6]); c != 0 {
			return c
		}
		n, m := int(be.Uint16(x.key[10:])), int(be.Uint16(y.key[10:]))
		if c := slices.Compare(unitsOf(x.key[12:], n), unitsOf(y.key[12:], m)); c != 0 {
			return c
		}
		return bytes.Compare(x.key[6:10], y.key[6:10])
	})
	slices.SortFunc(b.forks, func(x, y record) int { return compareExtent(x.key, y.key) })
	put := func(e extent, tree []byte) {
		if int64(len(tree)) > b.p.bytes(e) {
			t.Fatalf("a tree of %d bytes has %d", len(tree), b.p.bytes(e))
		}
		copy(b.b[e.first*b.p.unit:], tree)
	}
	put(b.p.catalog, treeOf(catalogLen, b.p.bytes(b.p.catalog), catalogKey, 6, b.catalog))
	put(b.p.attributes, treeOf(catalogLen, b.p.bytes(b.p.attributes), attrKey, 6, b.attributes))
	put(b.p.extents, treeOf(overLen, b.p.bytes(b.p.extents), extentKeyLen, 2, b.forks))
	h := b.b[headerAt : headerAt+headerLen]
	be.PutUint32(h[headFiles:], be.Uint32(h[headFiles:])+b.files)
	be.PutUint32(h[headFolders:], b.foldersNum)
	be.PutUint32(h[headFree:], be.Uint32(h[headFree:])-uint32(b.laid))
	be.PutUint32(h[headNextID:], 1000)
	copy(b.b[b.p.copyAt:], h)
}

// sortBy puts records into the order of a catalog.
func sortBy(all []record, c catalog) {
	slices.SortFunc(all, func(x, y record) int {
		k, _ := readKey(y.key)
		return c.compareTo(k)(x.key)
	})
}

// treeOf is a tree of sorted records in a room of so many bytes.
func treeOf(size, room int64, maxKey, flags uint32, all []record) []byte {
	return bulkTree(emptyTree(size, room, maxKey, flags), all)
}

// ferry is a volume with all of it, and what its files hold.
func ferry(t testing.TB, more ...built) (img []byte, want map[string][]byte) {
	t.Helper()
	short, long := []byte(strings.Repeat("pier 7, berth 2\n", 100)), bytes.Repeat([]byte("wind from west, sea "+
		"calm; "), 9000)
	mixed := append(bytes.Clone(long[:100_000]), testkit.Noise(3, 70_000)...)
	want = map[string][]byte{}
	all := []built{{name: linksFolder, folder: true, mode: 0o40000}, {name: folderLinksFolder, folder: true,
		mode: 0o40000},
		{name: "packed", folder: true, mode: 0o40755}}
	for size, content := range map[string][]byte{"short": short, "long": long, "mixed": mixed, "empty": nil} {
		forms := decmpfstest.Forms(content)
		for _, how := range slices.Sorted(maps.Keys(forms)) {
			x := built{attrs: map[string][]byte{decmpfs.Name: forms[how].Attr}, res: forms[how].Resource}
			x.name, x.flags, x.mode = "packed/"+size+", "+how, decmpfs.Flag, 0o100644
			all = append(all, x)
			want[x.name] = content
		}
	}
	all = append(all,
		built{name: "with resources", data: short, res: long, mode: 0o100644, kind: "TEXTttxt"},
		built{name: "attributes", data: short, mode: 0o100644,
			attrs: map[string][]byte{"com.example.small": []byte("berth"),
				"com.example.large": long[:200_000], "user.note": {}}},
		built{name: linksFolder + "/" + fmt.Sprintf(linkName, 555), data: long, mode: 0o100600, special: 2, id: 555},
		built{name: "first name", kind: linkType + linkCreator, special: 555, mode: 0o100600},
		built{name: "packed/second name", kind: linkType + linkCreator, special: 555, mode: 0o100600},
		built{name: folderLinksFolder + "/" + fmt.Sprintf(folderLinkName, 888), folder: true, mode: 0o40755,
			id: 888},
		built{name: folderLinksFolder + "/" + fmt.Sprintf(folderLinkName, 888) + "/inside", data: short,
			mode: 0o100644},
		built{name: "as a folder", kind: folderLinkType + folderLinkCreator, special: 888, mode: 0o100644},
		built{name: "old", data: short})
	for _, name := range []string{"with resources", "attributes", "as a folder/inside", "old"} {
		want[name] = short
	}
	want["first name"], want["packed/second name"] = long, long
	return build(t, 24*units.MiB, append(all, more...)), want
}

// TestBuilt: what a Mac writes and the kernel's driver doesn't.
func TestBuilt(t *testing.T) {
	img, want := ferry(t, built{name: "lost", kind: linkType + linkCreator, special: 777, mode: 0o100600})
	d := &disk.Memory{Bytes: img, Sector: 512}
	p, err := Probe(d, d.Size(), 512)
	if err != nil {
		t.Fatal(err)
	}
	c, err := fsys.Judge(t.Context(), p, d.Size())
	if err != nil || !c.Sound {
		t.Fatalf("%v, %s", err, c.Why)
	}
	tree, err := fsys.TreeOf(p)
	if err != nil {
		t.Fatal(err)
	}
	files := fsys.FS(tree)
	for name, content := range want {
		if b, err := fs.ReadFile(files, name); err != nil || !bytes.Equal(b, content) {
			t.Errorf("%s: %d bytes of %d, %v", name, len(b), len(content), err)
		}
	}
	it, err := fsys.Find(tree, "with resources")
	if err != nil {
		t.Fatal(err)
	}
	more, err := tree.More(it)
	if err != nil || len(more.Streams) != 1 || more.Streams[0].Size != 234_000 {
		t.Errorf("%+v, %v", more, err)
	}
	s, err := tree.Open(it, resources)
	if err != nil || s.Size() != 234_000 {
		t.Errorf("the resource fork: %v", err)
	}
	it, _ = fsys.Find(tree, "attributes")
	more, err = tree.More(it)
	if err != nil || len(more.XAttrs) != 3 || string(more.XAttrs[1].Value) != "berth" ||
		len(more.XAttrs[0].Value) != 200_000 {
		t.Errorf("%d attributes, %v", len(more.XAttrs), err)
	}
	if it, err = fsys.Find(tree, "first name"); err != nil || it.Links != 2 || it.ID == 0 {
		t.Errorf("%+v, %v", it, err)
	}
	root, _ := tree.Root()
	for item, err := range tree.List(root) {
		if (err != nil) != (item.Name == "lost") || strings.Contains(item.Name, "HFS+") {
			t.Errorf("%q: %v", item.Name, err)
		}
	}
}

// TestOthersRead: an independent reader finds the same files, and unpacks the same contents as far as it knows how.
func TestOthersRead(t *testing.T) {
	testkit.Need(t, "fls", "icat", "fsstat")
	b, want := ferry(t)
	img := filepath.Join(t.TempDir(), "built.img")
	if err := os.WriteFile(img, b, 0o600); err != nil {
		t.Fatal(err)
	}
	numbers := map[string]string{}
	for line := range strings.Lines(testkit.Do(t, "fls", "-rp", img)) {
		if kind, name, ok := strings.Cut(strings.TrimSuffix(line, "\n"), ":\t"); ok {
			numbers[name] = kind[strings.LastIndexByte(kind, ' ')+1:]
		}
	}
	read := 0
	for name, content := range want {
		if strings.Contains(name, "lzfse") || strings.Contains(name, "plain here") || name == "attributes" ||
			strings.HasPrefix(name, "as a folder") {
			continue // it doesn't know these
		}
		out, err := testkit.Try("icat", img, numbers[name])
		if err != nil || out != string(content) {
			t.Errorf("%s (%s): %d bytes of %d, %v", name, numbers[name], len(out), len(content), err)
			continue
		}
		read++
	}
	if read < 20 {
		t.Errorf("only %d of %d files are compared", read, len(want))
	}
}

// TestBlessedPath: the way to what the volume header names is told by its names.
func TestBlessedPath(t *testing.T) {
	b := build(t, 16*units.MiB, []built{{name: "System", folder: true, mode: 0o40755},
		{name: "System/Core: services", folder: true, mode: 0o40755, id: 300},
		{name: "System/Core: services/boot.efi", data: []byte("MZ"), mode: 0o100644, id: 301}})
	be := binary.BigEndian
	for want, x := range map[string][2]uint32{"": {0, 0}, "System/Core: services/boot.efi": {300, 0},
		"boot.efi": {idRoot, 0}, "System/Core: services": {0, 300}} {
		be.PutUint32(b[headerAt+headBlessedFolder:], x[0])
		be.PutUint32(b[headerAt+headBlessedFile:], x[1])
		p, err := Probe(bytes.NewReader(b), int64(len(b)), 512)
		if err != nil {
			t.Fatal(err)
		}
		got, err := p.(*Volume).Blessed()
		if err != nil || strings.Join(got, "") != want {
			t.Errorf("%v: %q, not %q, %v", x, got, want, err)
		}
	}
}
