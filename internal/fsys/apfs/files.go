package apfs

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"slices"
	"strings"
	"time"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/decmpfs"
	"twinshelf/internal/span"
)

var _ fsys.Files = (*Container)(nil)

// Files gives a tree with a folder for each volume, and one for each snapshot of it beside that.
func (c *Container) Files() (fsys.Tree, error) { return tree{c}, nil }

type tree struct{ c *Container }

// top is the folder of all volumes.
type top struct{}

// item is a file or a folder of a volume.
type item struct {
	v        *volume
	id       uint64
	private  uint64 // the number of its contents
	mode     uint16
	bsd      uint32
	size     int64
	unpacked int64
	hasData  bool
	device   uint32
	finder   []byte
}

// mostRecords bounds what a folder or a file has.
const mostRecords = 1 << 26

// records calls each with the records of a kind that a number has.
func (v *volume) records(id uint64, kind uint64, each func(key, value []byte) (bool, error)) error {
	t, err := v.files()
	if err != nil {
		return err
	}
	le := binary.LittleEndian
	want := func(key []byte) int {
		h := le.Uint64(key)
		return cmp.Or(cmp.Compare(h&keyIDMask, id), cmp.Compare(h>>keyKind, kind))
	}
	n := 0
	return t.seek(want, func(key, value []byte) (bool, error) {
		if want(key) != 0 {
			return false, nil
		}
		if n++; n > mostRecords {
			return false, fmt.Errorf("number %d has more than %d records", id, mostRecords)
		}
		return each(key, value)
	})
}

func (t tree) Root() (fsys.Item, error) {
	return fsys.Item{Mode: fs.ModeDir | 0o755, Links: 1, Ref: top{}}, nil
}

// entries are the folders of volumes and snapshots.
func (t tree) entries() (out []fsys.Entry) {
	taken := map[string]bool{}
	add := func(name string, v *volume, made time.Time, attr fsys.Attr, err error) {
		name = strings.NewReplacer("/", ":", "\x00", "").Replace(cmp.Or(name, "unnamed"))
		for i, plain := 2, name; taken[name]; i++ {
			name = fmt.Sprintf("%s (%d)", plain, i)
		}
		taken[name] = true
		it := fsys.Item{Name: name, Mode: fs.ModeDir | 0o755, Links: 1, Modified: made, Ref: v}
		if err == nil {
			if root, err := t.inode(v, rootFolder); err == nil {
				it, it.Name = root, name
			}
		}
		it.Attr |= attr
		out = append(out, fsys.Entry{Item: it, Err: err})
	}
	for _, v := range t.c.volumes {
		add(v.name, v, time.Time{}, 0, nil)
		for i, s := range v.snapshots {
			old, err := v.then(s, i+1)
			add(fmt.Sprintf("%s as of %s (%s)", v.name, s.made.UTC().Format("2006-01-02 15.04"), s.name), old, s.made,
				fsys.Earlier, err)
		}
	}
	return out
}

// itemID is a number that no item of another volume or snapshot has: those of files stay far below 2^40.
func (v *volume) itemID(id uint64) uint64 { return v.number<<40 ^ id }

func (t tree) List(folder fsys.Item) iter.Seq2[fsys.Item, error] {
	return func(yield func(fsys.Item, error) bool) {
		if _, is := folder.Ref.(top); is {
			for _, e := range t.entries() {
				if !yield(e.Item, e.Err) {
					return
				}
			}
			return
		}
		dir, err := dirOf(folder)
		if err != nil {
			yield(fsys.Item{}, err)
			return
		}
		on := true
		err = dir.v.records(dir.id, recEntry, func(key, value []byte) (bool, error) {
			on = yield(t.entry(dir.v, key, value))
			return on, nil
		})
		if err != nil && on {
			yield(fsys.Item{}, err)
		}
	}
}

func dirOf(it fsys.Item) (item, error) {
	switch r := it.Ref.(type) {
	case item:
		if !it.IsDir() {
			return r, fmt.Errorf("%s is no folder", it.Name)
		}
		return r, nil
	case *volume: // whose root couldn't be read
		_, err := r.files()
		return item{v: r, id: rootFolder}, err
	}
	return item{}, fmt.Errorf("%s isn't an item of this container", it.Name)
}

// entry is what a record of a folder stands for.
func (t tree) entry(v *volume, key, value []byte) (fsys.Item, error) {
	name, err := nameOf(key)
	if err == nil && len(value) < entLen {
		err = fmt.Errorf("an entry of %d bytes", len(value))
	}
	if err != nil {
		return fsys.Item{Name: cmp.Or(name, "?")}, err
	}
	it, err := t.inode(v, binary.LittleEndian.Uint64(value[entFile:]))
	it.Name = name
	return it, err
}

// nameOf is the name in the key of a folder's entry. Its length stands in two bytes, or with a hash in four: the one
// that fits the key is right.
func nameOf(key []byte) (string, error) {
	le := binary.LittleEndian
	var raw []byte
	switch {
	case len(key) > 12 && int(le.Uint32(key[8:])&0x3FF) == len(key)-12:
		raw = key[12:]
	case len(key) > 10 && int(le.Uint16(key[8:])) == len(key)-10:
		raw = key[10:]
	default:
		return "", fmt.Errorf("the key of an entry has %d bytes", len(key))
	}
	raw, _, _ = bytes.Cut(raw, []byte{0})
	name := strings.ReplaceAll(string(raw), "/", ":")
	if name == "" || name == "." || name == ".." || len(name) > maxName {
		return name, fmt.Errorf("a file or folder can't be called %q", name)
	}
	return name, nil
}

// inode is a file or folder by its number.
func (t tree) inode(v *volume, id uint64) (fsys.Item, error) {
	var out fsys.Item
	there := false
	err := v.records(id, recInode, func(_, value []byte) (bool, error) {
		if len(value) < inoLen {
			return false, fmt.Errorf("file %d is described in %d bytes", id, len(value))
		}
		there = true
		out = describe(v, id, value)
		return false, nil
	})
	if err == nil && !there {
		err = fmt.Errorf("file %d isn't described", id)
	}
	return out, err
}

func describe(v *volume, id uint64, b []byte) fsys.Item {
	le := binary.LittleEndian
	i := item{v: v, id: id, private: le.Uint64(b[inoPrivate:]), mode: le.Uint16(b[inoMode:]),
		bsd:      le.Uint32(b[inoBSD:]),
		unpacked: int64(min(le.Uint64(b[inoSize:]), 1<<62))}
	fields(b[inoLen:], func(kind byte, x []byte) {
		switch {
		case kind == extStream && len(x) >= 8:
			i.size, i.hasData = int64(min(le.Uint64(x), 1<<62)), true
		case kind == extDevice && len(x) >= 4:
			i.device = le.Uint32(x)
		case kind == extFinder && len(x) >= 32:
			i.finder = bytes.Clone(x[:32])
		}
	})
	stamp := func(at int) time.Time { return time.Unix(0, int64(le.Uint64(b[at:]))) }
	out := fsys.Item{ID: v.itemID(id), Mode: modeOf(i.mode), UID: le.Uint32(b[inoOwner:]), GID: le.Uint32(b[inoGroup:]),
		Modified: stamp(inoChanged), Changed: stamp(inoMeta), Created: stamp(inoMade), Accessed: stamp(inoRead),
		Links: 1,
		Major: i.device >> 24, Minor: i.device & 0xFFFFFF, Ref: i}
	if !out.IsDir() {
		out.Links = int(min(le.Uint32(b[inoLinks:]), 1<<20))
		out.Size = i.size
	}
	if i.packed() {
		out.Attr |= fsys.Compressed
		if p, err := v.packing(i); err == nil {
			out.Size = p.Size
		}
	}
	for bit, a := range map[uint32]fsys.Attr{immutable: fsys.ReadOnly, hiddenFlag: fsys.Hidden} {
		if i.bsd&bit != 0 {
			out.Attr |= a
		}
	}
	return out
}

func (i item) packed() bool { return i.bsd&decmpfs.Flag != 0 && i.mode&0o170000 == 0o100000 }

// fields calls each with the extended fields of a record.
func fields(b []byte, each func(kind byte, x []byte)) {
	if len(b) < 4 {
		return
	}
	le := binary.LittleEndian
	n := int(le.Uint16(b))
	at := 4 + 4*n
	for k := range n {
		if 4+4*k+4 > len(b) {
			return
		}
		e := b[4+4*k:]
		size := int(le.Uint16(e[2:]))
		if at+size > len(b) {
			return
		}
		each(e[0], b[at:at+size])
		at += (size + 7) &^ 7
	}
}

func modeOf(mode uint16) fs.FileMode {
	m := fs.FileMode(mode & 0o777)
	for bit, x := range map[uint16]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky} {
		if mode&bit != 0 {
			m |= x
		}
	}
	return m | map[uint16]fs.FileMode{0o040000: fs.ModeDir, 0o120000: fs.ModeSymlink, 0o060000: fs.ModeDevice,
		0o020000: fs.ModeDevice | fs.ModeCharDevice, 0o010000: fs.ModeNamedPipe, 0o140000: fs.ModeSocket}[mode&0o170000]
}

func (t tree) Lookup(folder fsys.Item, name string) (fsys.Item, error) {
	if _, is := folder.Ref.(top); is {
		for _, e := range t.entries() {
			if e.Name == name {
				return e.Item, e.Err
			}
		}
		return fsys.Item{}, fs.ErrNotExist
	}
	dir, err := dirOf(folder)
	if err != nil {
		return fsys.Item{}, err
	}
	var found fsys.Item
	there, problem := false, error(nil)
	err = dir.v.records(dir.id, recEntry, func(key, value []byte) (bool, error) {
		have, err := nameOf(key)
		exact := have == name
		if err == nil && (exact || !there && dir.v.alike(have, name)) {
			there = true
			found, problem = t.entry(dir.v, key, value)
		}
		return !exact, nil
	})
	switch {
	case there:
		return found, problem
	case err != nil:
		return found, err
	}
	return found, fs.ErrNotExist
}

// alike says whether two names are the same for the volume.
func (v *volume) alike(a, b string) bool {
	if a == b || norm.NFD.String(a) == norm.NFD.String(b) {
		return true
	}
	fold := cases.Fold()
	return v.anyCase && norm.NFD.String(fold.String(a)) == norm.NFD.String(fold.String(b))
}

func (t tree) Open(it fsys.Item, stream string) (fsys.Contents, error) {
	i, ok := it.Ref.(item)
	if !ok || it.IsDir() {
		return nil, fmt.Errorf("%s has no contents", it.Name)
	}
	switch {
	case stream == "" && i.packed():
		p, err := i.v.packing(i)
		if err != nil {
			return nil, err
		}
		return p.Open(func() (fsys.Contents, error) { return i.v.resource(i) })
	case stream == "":
		return i.v.stream(i.private, i.size)
	case stream == resourceStream:
		return i.v.resource(i)
	}
	return nil, fs.ErrNotExist
}

// resourceStream is the name of the stream that a file's resource fork is.
const resourceStream = "rsrc"

// stream is contents by the number that they have.
func (v *volume) stream(id uint64, size int64) (fsys.Contents, error) {
	m := &fsys.Mapped{R: v.c.r, Length: size}
	le := binary.LittleEndian
	plain := &plainly{r: v.c.r, x: v.cipher}
	if v.cipher != nil {
		m.R = plain
		defer plain.sort()
	}
	add := func(at uint64, value []byte) error {
		if len(value) < filePhysical+8 {
			return fmt.Errorf("an extent of %d bytes", len(value))
		}
		n, block := int64(le.Uint64(value)&fileLenMask), v.c.address(le.Uint64(value[filePhysical:]))
		sp := span.At(int64(min(at, 1<<62)), n)
		if k := len(m.Places); k > 0 && m.Places[k-1].End > sp.Start {
			return fmt.Errorf("extents of contents %d lie over each other", id)
		}
		if block == 0 || n == 0 {
			return nil
		}
		if !v.c.within(extent{block, (n + v.c.unit - 1) / v.c.unit}) {
			return fmt.Errorf("contents %d reach beyond the container", id)
		}
		if v.c.waits(extent{block, (n + v.c.unit - 1) / v.c.unit}) {
			return &fsys.Unreadable{Why: "some of it waits on the first disk to be written to the second, " +
				"which only a Mac can follow"}
		}
		m.Places = append(m.Places, fsys.Stretch{Span: sp, At: block * v.c.unit})
		tweak := block
		if len(value) >= fileCrypto+8 {
			tweak = int64(min(le.Uint64(value[fileCrypto:]), 1<<50))
		}
		plain.add(v.c.span(extent{block, (n + v.c.unit - 1) / v.c.unit}), tweak, v.c.unit)
		return nil
	}
	if v.sealed {
		if t := v.sealedExtents(); t != nil {
			err := t.seek(func(key []byte) int { return cmp.Compare(le.Uint64(key), id) },
				func(key, value []byte) (bool, error) {
					if len(key) < 16 || le.Uint64(key) != id {
						return false, nil
					}
					return true, add(le.Uint64(key[8:]), value)
				})
			return m, err
		}
	}
	err := v.records(id, recFile, func(key, value []byte) (bool, error) {
		if len(key) < fileAt+8 {
			return false, fmt.Errorf("the key of an extent has %d bytes", len(key))
		}
		return true, add(le.Uint64(key[fileAt:]), value)
	})
	if err != nil {
		return nil, err
	}
	return m, nil
}

// sealedExtents is the tree of the extents of a sealed volume's files; nil where it isn't kept as it is known.
func (v *volume) sealedExtents() *btree {
	le := binary.LittleEndian
	at := v.c.address(le.Uint64(v.super[volFileExtents:]))
	if at == 0 || le.Uint32(v.super[volFileKind:])&storageMask != storagePhysical {
		return nil
	}
	return &btree{c: v.c, root: at}
}

// mostValue bounds the value of an attribute that is read, in bytes.
const mostValue = 16 << 20

// attribute calls do with the value of an attribute, or why it can't be read.
func (v *volume) attributes(id uint64, want func(name string) bool, do func(name string, value []byte,
	err error)) error {
	le := binary.LittleEndian
	return v.records(id, recAttr, func(key, value []byte) (bool, error) {
		if len(key) < 10 || len(value) < attrData {
			return false, fmt.Errorf("an attribute has %d and %d bytes", len(key), len(value))
		}
		raw, _, _ := bytes.Cut(key[10:], []byte{0})
		name := string(raw)
		if !want(name) {
			return true, nil
		}
		n, x := int(le.Uint16(value[attrLen:])), value[attrData:]
		flags := le.Uint16(value[attrFlags:])
		switch {
		case flags&attrInline != 0 && n <= len(x):
			do(name, bytes.Clone(x[:n]), nil)
		case flags&attrStream != 0 && len(x) >= streamSize+8:
			b, err := v.small(le.Uint64(x[streamID:]), int64(min(le.Uint64(x[streamSize:]), 1<<62)))
			do(name, b, err)
		default:
			do(name, nil, fmt.Errorf("the attribute %s isn't one of a kind that is known", name))
		}
		return true, nil
	})
}

func (v *volume) small(id uint64, size int64) ([]byte, error) {
	if size > mostValue {
		return nil, &fsys.Unreadable{Why: fmt.Sprintf("an attribute has %d bytes: it is too large", size)}
	}
	c, err := v.stream(id, size)
	if err != nil {
		return nil, err
	}
	b := make([]byte, size)
	return b, disk.ReadFull(c, b, 0)
}

// one is the value of an attribute; fs.ErrNotExist where it isn't there.
func (v *volume) one(id uint64, name string) (b []byte, err error) {
	err = fs.ErrNotExist
	failed := v.attributes(id, func(n string) bool { return n == name }, func(_ string, value []byte, e error) {
		b, err = value, e
	})
	return b, cmp.Or(failed, err)
}

func (v *volume) packing(i item) (decmpfs.Packing, error) {
	b, err := v.one(i.id, decmpfs.Name)
	if err != nil {
		return decmpfs.Packing{}, fmt.Errorf("how its contents are packed can't be read: %w", err)
	}
	return decmpfs.Parse(b)
}

// resource is a file's resource fork: an attribute, mostly with contents of its own.
func (v *volume) resource(i item) (c fsys.Contents, err error) {
	err = fs.ErrNotExist
	le := binary.LittleEndian
	failed := v.records(i.id, recAttr, func(key, value []byte) (bool, error) {
		if len(key) < 10 || len(value) < attrData {
			return false, fmt.Errorf("an attribute has %d and %d bytes", len(key), len(value))
		}
		raw, _, _ := bytes.Cut(key[10:], []byte{0})
		if string(raw) != resourceAttr {
			return true, nil
		}
		n, x := int(le.Uint16(value[attrLen:])), value[attrData:]
		switch {
		case le.Uint16(value)&attrStream != 0 && len(x) >= streamSize+8:
			c, err = v.stream(le.Uint64(x), int64(min(le.Uint64(x[streamSize:]), 1<<62)))
		case n <= len(x):
			c, err = &fsys.Resident{Bytes: bytes.Clone(x[:n])}, nil
		}
		return false, nil
	})
	return c, cmp.Or(failed, err)
}

func (t tree) More(it fsys.Item) (fsys.More, error) {
	var more fsys.More
	i, ok := it.Ref.(item)
	if !ok {
		if v, is := it.Ref.(*volume); is && v.locked {
			more.Remark = "the volume is encrypted: its files can't be read here"
		}
		return more, nil
	}
	var problem error
	shown := func(name string) bool { return name != decmpfs.Name && name != resourceAttr }
	err := i.v.attributes(i.id, shown, func(name string, value []byte, err error) {
		switch {
		case err != nil:
			problem = errors.Join(problem, err)
		case name == symlinkAttr:
			more.Target = strings.TrimRight(string(value), "\x00")
		case name == firmlinkAttr:
			more.Remark = "a firm link: the system shows " + strings.TrimRight(string(value), "\x00") +
				" of the data volume here"
		default:
			more.XAttrs = append(more.XAttrs, fsys.XAttr{Name: name, Value: value})
		}
	})
	if len(i.finder) > 0 && slices.ContainsFunc(i.finder, func(b byte) bool { return b != 0 }) {
		more.XAttrs = append(more.XAttrs, fsys.XAttr{Name: "com.apple.FinderInfo", Value: i.finder})
	}
	slices.SortFunc(more.XAttrs, func(a, b fsys.XAttr) int { return strings.Compare(a.Name, b.Name) })
	if i.packed() {
		more.Remark = "its contents are packed by the system"
	} else if !it.IsDir() {
		if c, err := i.v.resource(i); err == nil {
			more.Streams = []fsys.Stream{{Name: resourceStream, Size: c.Size()}}
		}
	}
	if i.id == rootFolder && i.v.role != "" {
		more.Remark = "volume for: " + i.v.role
	}
	return more, errors.Join(problem, err)
}
