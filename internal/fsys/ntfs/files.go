package ntfs

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"io/fs"
	"iter"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/fsys"
)

// Files gives the volume's tree, without what the file system keeps there for itself. Names are found whatever their
// case.
func (v *Volume) Files() (fsys.Tree, error) { return tree{v}, nil }

var _ fsys.Files = (*Volume)(nil)

type tree struct{ v *Volume }

// ref names a file record and, in the upper 16 bits, how often it was used before.
type ref uint64

func (r ref) number() int64 { return int64(r & recNumberBytes) }

// open reads the record of an item.
func (t tree) open(r ref) (*record, error) {
	rec, err := t.v.readRecord(r.number())
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	switch {
	case le.Uint16(rec.b[recFlags:])&recordInUse == 0:
		return nil, fsys.Contradiction(rec.at, "file record %d, which a folder names, is not in use", rec.number)
	case r>>48 != 0 && le.Uint16(rec.b[recSequence:]) != uint16(r>>48):
		return nil, fsys.Contradiction(rec.at, "file record %d is another file's by now", rec.number)
	case le.Uint64(rec.b[recBaseRecord:])&recNumberBytes != 0:
		return nil, fsys.Contradiction(rec.at, "file record %d belongs to another", rec.number)
	}
	return rec, nil
}

func (t tree) record(it fsys.Item) (*record, error) {
	r, ok := it.Ref.(ref)
	if !ok {
		return nil, fmt.Errorf("%s isn't an item of this volume", it.Name)
	}
	return t.open(r)
}

func (t tree) folder(it fsys.Item) (*record, error) {
	rec, err := t.record(it)
	if err == nil && binary.LittleEndian.Uint16(rec.b[recFlags:])&recordIsDir == 0 {
		err = fmt.Errorf("%s is no folder", it.Name)
	}
	return rec, err
}

func (t tree) Root() (fsys.Item, error) {
	rec, err := t.open(recRoot)
	if err != nil {
		return fsys.Item{}, fmt.Errorf("root directory: %w", err)
	}
	return t.item("", recRoot, rec)
}

// shown says whether an entry is one for people: no short name beside a long one, and nothing of the file system's own.
func shown(e indexEntry) bool {
	return e.space != spaceDOS && ref(e.ref).number() >= firstShown && e.name != "." && e.name != ".." && e.name != ""
}

// List reads the records of the entries in the order in which they lie.
func (t tree) List(it fsys.Item) iter.Seq2[fsys.Item, error] {
	return func(yield func(fsys.Item, error) bool) {
		rec, err := t.folder(it)
		if err != nil {
			yield(fsys.Item{}, err)
			return
		}
		var all []indexEntry
		err = t.v.index(rec, func(e indexEntry) bool {
			if shown(e) {
				all = append(all, e)
			}
			return true
		})
		slices.SortStableFunc(all, func(a, b indexEntry) int { return int(ref(a.ref).number() - ref(b.ref).number()) })
		for _, e := range all {
			if !yield(t.entry(e)) {
				return
			}
		}
		if err != nil {
			yield(fsys.Item{}, err)
		}
	}
}

func (t tree) entry(e indexEntry) (fsys.Item, error) {
	if strings.ContainsAny(e.name, "/\x00") {
		return fsys.Item{Name: strings.NewReplacer("/", "_", "\x00", "_").Replace(e.name)},
			fmt.Errorf("its name has a slash or a zero in it")
	}
	rec, err := t.open(ref(e.ref))
	if err != nil {
		return fsys.Item{Name: e.name}, err
	}
	it, err := t.item(e.name, ref(e.ref), rec)
	if err != nil {
		return fsys.Item{Name: e.name}, err
	}
	return it, nil
}

// Lookup prefers the name as it is written, since a folder may hold two that differ by case only.
func (t tree) Lookup(it fsys.Item, name string) (fsys.Item, error) {
	rec, err := t.folder(it)
	if err != nil {
		return fsys.Item{}, err
	}
	var exact, folded *indexEntry
	err = t.v.index(rec, func(e indexEntry) bool {
		if ref(e.ref).number() < firstShown {
			return true
		}
		if e.name == name {
			exact = &e
		} else if folded == nil && strings.EqualFold(e.name, name) {
			folded = &e
		}
		return exact == nil
	})
	switch {
	case exact != nil:
		return t.entry(*exact)
	case folded != nil:
		return t.entry(*folded)
	case err != nil:
		return fsys.Item{}, err
	}
	return fsys.Item{}, fs.ErrNotExist
}

func (t tree) Open(it fsys.Item, name string) (fsys.Contents, error) {
	rec, err := t.record(it)
	if err != nil {
		return nil, err
	}
	if name == "" && !it.Mode.IsRegular() {
		return nil, fmt.Errorf("%s has no contents", it.Name)
	}
	s, err := t.v.stream(rec, attrData, name)
	if err != nil {
		return nil, err
	}
	if !s.found && name != "" {
		return nil, fs.ErrNotExist
	}
	if name == "" {
		if why := away(t.v, rec); why != "" {
			return nil, &fsys.Unreadable{Why: why}
		}
		if packedBySystem(t.v, rec) != "" {
			return unpacked(t.v, rec, s.size)
		}
	}
	return t.v.contents(s, rec.at)
}

// More reads reparse points and lists streams.
func (t tree) More(it fsys.Item) (fsys.More, error) {
	rec, err := t.record(it)
	if err != nil {
		return fsys.More{}, err
	}
	packed := packedBySystem(t.v, rec)
	m := fsys.More{Remark: cmp.Or(away(t.v, rec), packed)}
	if link, ok := t.link(rec); ok {
		m.Target, m.Remark = link.target, link.what
	}
	var problem error
	if m.XAttrs, m.Access, problem = beside(t.v, rec); problem != nil {
		m.Access = append(m.Access, "who may use it can't be told: "+problem.Error())
	}
	m.Streams, err = t.streams(rec)
	if packed != "" { // what is packed is the file itself
		m.Streams = slices.DeleteFunc(m.Streams, func(s fsys.Stream) bool { return s.Name == wofStream })
	}
	return m, err
}

// streams lists the alternate streams, which may be in other records.
func (t tree) streams(rec *record) ([]fsys.Stream, error) {
	names := map[string]bool{}
	attrs := rec.attributes()
	for _, a := range attrs {
		if a.kind == attrList {
			list, err := t.v.list(a)
			if err != nil {
				return nil, err
			}
			for _, e := range list {
				if e.kind == attrData {
					names[e.name] = true
				}
			}
		}
		if a.kind == attrData {
			names[a.name] = true
		}
	}
	delete(names, "")
	var out []fsys.Stream
	for name := range names {
		s, err := t.v.stream(rec, attrData, name)
		if err != nil {
			return out, err
		}
		if s.found {
			out = append(out, fsys.Stream{Name: name, Size: s.size})
		}
	}
	slices.SortFunc(out, func(a, b fsys.Stream) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// sizeOf is the length of the unnamed stream, from its first piece alone.
func (t tree) sizeOf(rec *record) (int64, error) {
	for _, a := range rec.attributes() {
		if a.kind == attrData && a.name == "" && a.firstVCN == 0 {
			return a.size, nil
		}
		if a.kind != attrList {
			continue
		}
		list, err := t.v.list(a)
		if err != nil {
			return 0, err
		}
		for _, e := range list {
			if e.kind != attrData || e.name != "" || e.vcn != 0 {
				continue
			}
			holder, err := t.v.holder(rec, e)
			if err != nil {
				return 0, err
			}
			for _, a := range holder.attributes() {
				if a.kind == attrData && a.name == "" && a.firstVCN == 0 {
					return a.size, nil
				}
			}
		}
	}
	return 0, nil
}

// item describes a file record.
func (t tree) item(name string, r ref, rec *record) (fsys.Item, error) {
	le := binary.LittleEndian
	it := fsys.Item{Name: name, ID: uint64(r), Ref: r, Mode: 0o644, Links: int(le.Uint16(rec.b[recLinks:]))}
	if r == recRoot {
		it.ID |= uint64(le.Uint16(rec.b[recSequence:])) << 48
	}
	flags, ok := standardOf(rec)
	if !ok {
		return it, fsys.Contradiction(rec.at, "file record %d says nothing of its file", rec.number)
	}
	for _, a := range rec.attributes() {
		if a.kind == attrStandard && len(a.value) >= stdFlags {
			it.Created, it.Modified, it.Changed, it.Accessed = filetime(a.value[stdMade:]),
				filetime(a.value[stdModified:]), filetime(a.value[stdChanged:]), filetime(a.value[stdRead:])
		}
	}
	for bit, a := range map[uint32]fsys.Attr{fileReadOnly: fsys.ReadOnly, fileHidden: fsys.Hidden,
		fileSystem: fsys.System, fileArchive: fsys.Archive,
		fileCompressed: fsys.Compressed, fileEncrypted: fsys.Encrypted, fileSparse: fsys.Sparse,
		fileReparse: fsys.Elsewhere} {
		if flags&bit != 0 {
			it.Attr |= a
		}
	}
	link, isLink := t.link(rec)
	switch {
	case isLink && link.mode != 0:
		it.Mode = link.mode | 0o777
		if it.Size = 0; link.mode == fs.ModeSymlink {
			it.Size = int64(len(link.target))
		}
		return it, nil
	case le.Uint16(rec.b[recFlags:])&recordIsDir != 0:
		it.Mode = fs.ModeDir | 0o755
		return it, nil
	case flags&fileReadOnly != 0:
		it.Mode = 0o444
	}
	var err error
	it.Size, err = t.sizeOf(rec)
	if err == nil && it.Size < 0 {
		err = fsys.Contradiction(rec.at, "file record %d claims %d bytes", rec.number, it.Size)
	}
	return it, err
}

// standardOf is the attributes in $STANDARD_INFORMATION; false when there is none.
func standardOf(rec *record) (uint32, bool) {
	for _, a := range rec.attributes() {
		if a.kind == attrStandard && len(a.value) >= stdLen {
			return binary.LittleEndian.Uint32(a.value[stdFlags:]), true
		}
	}
	return 0, false
}

func filetime(b []byte) time.Time {
	n := int64(binary.LittleEndian.Uint64(b))
	if n <= 0 {
		return time.Time{}
	}
	n -= epoch
	sec, rest := n/10_000_000, n%10_000_000
	return time.Unix(sec, rest*100)
}
