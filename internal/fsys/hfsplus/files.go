package hfsplus

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"slices"
	"strings"
	"unicode/utf16"

	"golang.org/x/text/unicode/norm"

	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/decmpfs"
)

var (
	_ fsys.Files = (*Volume)(nil)

	errNotExist = fs.ErrNotExist
)

// resources is the name of the stream that a file's resource fork is.
const resources = "rsrc"

// Files gives the volume's tree. Names are given as the volume has them, decomposed, and found however they are
// composed. A slash in a name is a colon here, as the system itself has it.
func (v *Volume) Files() (fsys.Tree, error) {
	t := &tree{v: v}
	var err error
	if t.links, err = v.hidden(linksFolder); err != nil {
		return nil, err
	}
	t.folderLinks, err = v.hidden(folderLinksFolder)
	return t, err
}

type tree struct {
	v *Volume
	// links and folderLinks are the folders of what has several names; 0 where there is none.
	links, folderLinks uint32
}

// hidden is the number of one of the volume's own folders in the root; 0 where it isn't there.
func (v *Volume) hidden(name string) (uint32, error) {
	it, err := v.catalog.byName(catalogKeyOf{idRoot, utf16.Encode([]rune(name))})
	if errors.Is(err, errNotExist) {
		return 0, nil
	}
	return it.id, err
}

// nameOf is a name as paths have it.
func nameOf(units []uint16) string { return strings.ReplaceAll(string(utf16.Decode(units)), "/", ":") }

// unitsOfName is a name as the volume has it.
func unitsOfName(name string) []uint16 {
	return utf16.Encode([]rune(norm.NFD.String(strings.ReplaceAll(name, ":", "/"))))
}

func (t *tree) Root() (fsys.Item, error) {
	it, err := t.v.catalog.byID(idRoot)
	if err != nil {
		return fsys.Item{}, err
	}
	return t.item("", it), nil
}

func itemOf(it fsys.Item) (item, error) {
	i, ok := it.Ref.(item)
	if !ok {
		return i, fmt.Errorf("%s isn't an item of this volume", it.Name)
	}
	return i, i.hurt
}

func (t *tree) List(folder fsys.Item) iter.Seq2[fsys.Item, error] {
	return func(yield func(fsys.Item, error) bool) {
		dir, err := itemOf(folder)
		if err == nil && !dir.folder {
			err = fmt.Errorf("%s is no folder", folder.Name)
		}
		if err != nil {
			yield(fsys.Item{}, err)
			return
		}
		on := true
		err = t.each(dir.id, func(name []uint16, rec []byte) bool {
			if dir.id == idRoot && t.isOwn(name) {
				return true
			}
			on = yield(t.entry(name, rec))
			return on
		})
		if err != nil && on {
			yield(fsys.Item{}, err)
		}
	}
}

// isOwn says whether a name in the root is that of a folder that the volume keeps for itself.
func (t *tree) isOwn(name []uint16) bool {
	n := string(utf16.Decode(name))
	return n == linksFolder || n == folderLinksFolder
}

// each calls do with the records of a folder.
func (t *tree) each(id uint32, do func(name []uint16, rec []byte) bool) error {
	return t.v.catalog.seek(t.v.catalog.compareTo(catalogKeyOf{parent: id}), func(n node, i int) (bool, error) {
		key, rec, err := t.v.catalog.split(n, i)
		if err != nil {
			return false, err
		}
		k, err := readKey(key)
		if err != nil || k.parent != id {
			return false, err
		}
		if kind := kindOf(rec); kind == recFolderTo || kind == recFileTo {
			return true, nil
		}
		return do(k.name, rec), nil
	})
}

// entry is what a record of a folder stands for.
func (t *tree) entry(name []uint16, rec []byte) (fsys.Item, error) {
	shown := nameOf(name)
	if shown == "" || shown == "." || shown == ".." || strings.ContainsRune(shown, 0) {
		shown = strings.ReplaceAll(shown, "\x00", "␀")
		return fsys.Item{Name: cmp.Or(shown, "?")}, fsys.Contradiction(t.v.at, "a file or folder can't be called "+
			"%q", shown)
	}
	it, err := readItem(rec)
	if err != nil {
		return fsys.Item{Name: shown}, err
	}
	if it, err = t.resolved(it); err != nil {
		return fsys.Item{Name: shown}, err
	}
	return t.item(shown, it), nil
}

// resolved is what a hard link leads to; everything else is itself.
func (t *tree) resolved(it item) (item, error) {
	in, pattern := uint32(0), ""
	switch {
	case it.folder:
	case it.kind == linkType && it.creator == linkCreator && t.links != 0:
		in, pattern = t.links, linkName
	case it.kind == folderLinkType && it.creator == folderLinkCreator && t.folderLinks != 0 && it.special != 0:
		in, pattern = t.folderLinks, folderLinkName
	}
	if in == 0 {
		return it, nil
	}
	to, err := t.v.catalog.byName(catalogKeyOf{in, utf16.Encode([]rune(fmt.Sprintf(pattern, it.special)))})
	if err != nil {
		return it, fmt.Errorf("it is a hard link, and what it leads to isn't there: %w", err)
	}
	return to, nil
}

func (t *tree) Lookup(folder fsys.Item, name string) (fsys.Item, error) {
	dir, err := itemOf(folder)
	switch {
	case err != nil:
		return fsys.Item{}, err
	case !dir.folder:
		return fsys.Item{}, fmt.Errorf("%s is no folder", folder.Name)
	}
	units := unitsOfName(name)
	if len(units) <= maxName && len(units) > 0 {
		found, err := t.exactly(dir.id, units)
		if !errors.Is(err, errNotExist) {
			return found, err
		}
	}
	var found fsys.Item
	err, there := error(nil), false
	failed := t.each(dir.id, func(have []uint16, rec []byte) bool {
		if there = t.alike(have, name); there {
			found, err = t.entry(have, rec)
		}
		return !there
	})
	switch {
	case there:
		return found, err
	case failed != nil:
		return fsys.Item{}, failed
	}
	return fsys.Item{}, errNotExist
}

// exactly finds a name as the tree of the catalog orders names.
func (t *tree) exactly(id uint32, units []uint16) (fsys.Item, error) {
	var found fsys.Item
	err, there := error(nil), false
	compare := t.v.catalog.compareTo(catalogKeyOf{id, units})
	failed := t.v.catalog.seek(compare, func(n node, i int) (bool, error) {
		key, rec, err := t.v.catalog.split(n, i)
		if err != nil || compare(key) != 0 {
			return false, err
		}
		k, err := readKey(key)
		if err == nil && !(id == idRoot && t.isOwn(k.name)) {
			there = true
			found, err = t.entry(k.name, rec)
		}
		return false, err
	})
	if failed == nil && !there {
		failed = errNotExist
	}
	return found, cmp.Or(failed, err)
}

// alike says whether a name of the volume is the one that is asked for: volumes have names that they would write
// otherwise today.
func (t *tree) alike(have []uint16, name string) bool {
	shown := nameOf(have)
	if shown == name {
		return true
	}
	a, b := Decomposed(shown), Decomposed(name)
	if t.v.catalog.folds {
		a, b = folded(a), folded(b)
	}
	return slices.Equal(a, b)
}

// Decomposed is a name in a form that is the same for all ways to compose it. Older systems write the Greek tonos as
// another mark than newer ones (TN1150, table of decompositions).
func Decomposed(name string) []uint16 {
	const before, today = 0x030D, 0x0301
	out := utf16.Encode([]rune(norm.NFD.String(name)))
	for i, c := range out {
		if c == before {
			out[i] = today
		}
	}
	return out
}

// item describes a file or a folder.
func (t *tree) item(name string, it item) fsys.Item {
	out := fsys.Item{Name: name, ID: uint64(it.id), UID: it.owner, GID: it.group, Links: 1, Modified: it.modified,
		Changed: it.changed, Created: it.made, Accessed: it.read, Mode: modeOf(it), Ref: it}
	if it.folder {
		out.Links = 1
	} else {
		out.Size = it.data.size
		if it.special > 1 && out.Mode.IsRegular() {
			out.Links = int(min(it.special, 1<<20))
		}
	}
	if out.Mode&fs.ModeDevice != 0 {
		out.Major, out.Minor = it.special>>24, it.special&0xFFFFFF
	}
	if it.ownFlags&ownerImmutable != 0 {
		out.Attr |= fsys.ReadOnly
	}
	if it.hints&hintInvisible != 0 {
		out.Attr |= fsys.Hidden
	}
	if it.ownFlags&decmpfs.Flag != 0 && !it.folder {
		out.Attr |= fsys.Compressed
		if p, err := t.v.attributes.packed(it); err == nil {
			out.Size = p.Size
		}
	}
	return out
}

// modeOf is type and permissions as the BSD record has them; volumes of old systems have none.
func modeOf(it item) fs.FileMode {
	if it.mode == 0 {
		if it.folder {
			return fs.ModeDir | 0o755
		}
		return 0o644
	}
	m := fs.FileMode(it.mode & 0o777)
	for bit, mode := range map[uint16]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky} {
		if it.mode&bit != 0 {
			m |= mode
		}
	}
	if it.folder {
		return m | fs.ModeDir
	}
	switch it.mode & 0o170000 {
	case 0o120000:
		m |= fs.ModeSymlink
	case 0o060000:
		m |= fs.ModeDevice
	case 0o020000:
		m |= fs.ModeDevice | fs.ModeCharDevice
	case 0o010000:
		m |= fs.ModeNamedPipe
	case 0o140000:
		m |= fs.ModeSocket
	}
	return m
}

func (t *tree) Open(it fsys.Item, stream string) (fsys.Contents, error) {
	i, err := itemOf(it)
	switch {
	case err != nil:
		return nil, err
	case i.folder:
		return nil, fmt.Errorf("%s has no contents", it.Name)
	case stream == resources && i.res.size > 0:
		return t.v.contents(i.res)
	case stream != "":
		return nil, errNotExist
	case i.ownFlags&decmpfs.Flag != 0:
		return t.v.unpacked(i)
	}
	return t.v.contents(i.data)
}

func (v *Volume) contents(f fork) (fsys.Contents, error) {
	m, err := v.mapped(f)
	if err != nil {
		return nil, err // and no typed nil
	}
	return m, nil
}

// mostTarget bounds where a symbolic link leads, in bytes.
const mostTarget = 4096

func (t *tree) More(it fsys.Item) (fsys.More, error) {
	i, err := itemOf(it)
	if err != nil {
		return fsys.More{}, err
	}
	var more fsys.More
	var problem error
	more.XAttrs, problem = t.v.attributes.of(i.id)
	if slices.ContainsFunc(i.finder, func(b byte) bool { return b != 0 }) {
		more.XAttrs = append(more.XAttrs, fsys.XAttr{Name: "com.apple.FinderInfo", Value: i.finder})
	}
	slices.SortFunc(more.XAttrs, func(a, b fsys.XAttr) int { return strings.Compare(a.Name, b.Name) })
	switch {
	case i.folder:
		return more, problem
	case it.Mode.Type() == fs.ModeSymlink:
		var to []byte
		to, err = t.v.small(i.data, mostTarget)
		more.Target = strings.TrimRight(string(to), "\x00")
	case i.ownFlags&decmpfs.Flag != 0:
		more.Remark = "its contents are packed by the system"
		if _, err := t.v.attributes.packed(i); err != nil {
			more.Remark = "its contents are packed: " + err.Error()
		}
	}
	if i.res.size > 0 && i.ownFlags&decmpfs.Flag == 0 {
		more.Streams = []fsys.Stream{{Name: resources, Size: i.res.size}}
	}
	return more, errors.Join(problem, err)
}

// small reads a fork of so many bytes at the most.
func (v *Volume) small(f fork, most int64) ([]byte, error) {
	if f.size > most {
		return nil, fsys.Contradiction(v.at, "%s has %d bytes", f.owner(), f.size)
	}
	m, err := v.mapped(f)
	if err != nil {
		return nil, err
	}
	b := make([]byte, f.size)
	if n, err := m.ReadAt(b, 0); n < len(b) {
		return nil, err
	}
	return b, nil
}
