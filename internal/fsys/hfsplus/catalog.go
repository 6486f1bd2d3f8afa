package hfsplus

import (
	"encoding/binary"
	"fmt"
	"slices"
	"time"
)

// catalog is the tree of all files and folders.
type catalog struct {
	*btree
	folds bool // the case of names doesn't count
}

// item is a file or a folder as the catalog has it.
type item struct {
	folder    bool
	id        uint32
	mode      uint16
	owner     uint32
	group     uint32
	ownFlags  byte
	special   uint32 // links of a file, number of a linked one, or of a device
	kind      string // four letters
	creator   string
	hints     uint16
	finder    []byte // 32 bytes
	made      time.Time
	modified  time.Time
	changed   time.Time
	read      time.Time
	data, res fork
	// hurt is why a link leads nowhere.
	hurt error
}

// threadOf is what the catalog has of a number: where it is, and its name.
type threadOf struct {
	parent uint32
	name   []uint16
}

// epoch is where times count from, in seconds since 1970.
const epoch = -2082844800

// stamp decodes a time: seconds since the beginning of 1904; zero where there is none.
func stamp(b []byte) time.Time {
	n := binary.BigEndian.Uint32(b)
	if n == 0 {
		return time.Time{}
	}
	return time.Unix(int64(n)+epoch, 0)
}

// catalogKeyOf is a key of the catalog, without its length.
type catalogKeyOf struct {
	parent uint32
	name   []uint16
}

func readKey(key []byte) (catalogKeyOf, error) {
	n := int(binary.BigEndian.Uint16(key[keyName-2:]))
	if n > maxName || keyName+2*n > len(key) {
		return catalogKeyOf{}, fmt.Errorf("a name of %d characters in a key of %d bytes", n, len(key))
	}
	return catalogKeyOf{binary.BigEndian.Uint32(key[keyParent-2:]), unitsOf(key[keyName:], n)}, nil
}

// compareTo orders a key of the catalog against what is looked for.
func (c catalog) compareTo(want catalogKeyOf) func([]byte) int {
	name := want.name
	if c.folds {
		name = folded(name)
	}
	return func(key []byte) int {
		have, err := readKey(key)
		switch {
		case err != nil:
			return -1
		case have.parent < want.parent:
			return -1
		case have.parent > want.parent:
			return 1
		}
		if c.folds {
			return slices.Compare(folded(have.name), name)
		}
		return slices.Compare(have.name, name)
	}
}

// thread is where a file or a folder is.
func (c catalog) thread(id uint32) (threadOf, error) {
	rec, err := c.find(c.compareTo(catalogKeyOf{parent: id}))
	if err != nil {
		return threadOf{}, err
	}
	return readThread(rec, id)
}

func readThread(rec []byte, id uint32) (threadOf, error) {
	if len(rec) < threadName+2 {
		return threadOf{}, fmt.Errorf("the catalog doesn't say where number %d is", id)
	}
	kind, n := binary.BigEndian.Uint16(rec), int(binary.BigEndian.Uint16(rec[threadName:]))
	if kind != recFolderTo && kind != recFileTo || n > maxName || threadName+2+2*n > len(rec) {
		return threadOf{}, fmt.Errorf("what the catalog says of number %d isn't where it is", id)
	}
	return threadOf{binary.BigEndian.Uint32(rec[threadParent:]), unitsOf(rec[threadName+2:], n)}, nil
}

// kindOf is the kind of a record; 0 for one that is too short.
func kindOf(rec []byte) uint16 {
	if len(rec) < 2 {
		return 0
	}
	return binary.BigEndian.Uint16(rec)
}

// readItem decodes the record of a file or a folder.
func readItem(rec []byte) (item, error) {
	be := binary.BigEndian
	it := item{folder: kindOf(rec) == recFolder}
	need := fileLen
	if it.folder {
		need = folderLen
	}
	if len(rec) < need || !it.folder && kindOf(rec) != recFile {
		return it, fmt.Errorf("a record of the catalog of %d bytes and kind %d", len(rec), kindOf(rec))
	}
	it.id, it.mode = be.Uint32(rec[itemID:]), be.Uint16(rec[itemMode:])
	it.owner, it.group, it.ownFlags = be.Uint32(rec[itemOwner:]), be.Uint32(rec[itemGroup:]), rec[itemFlagsOf]
	it.special, it.hints = be.Uint32(rec[itemSpecial:]), be.Uint16(rec[itemHints:])
	it.made, it.modified = stamp(rec[itemMade:]), stamp(rec[itemModified:])
	it.changed, it.read = stamp(rec[itemChanged:]), stamp(rec[itemRead:])
	it.finder = slices.Clone(rec[itemFinder:itemEncoding])
	if it.id < idFirst && it.id != idRoot {
		return it, fmt.Errorf("a file or folder has the number %d", it.id)
	}
	if !it.folder {
		it.kind, it.creator = string(rec[itemType:itemType+4]), string(rec[itemCreator:itemCreator+4])
		it.data = readFork(rec[fileData:], it.id, forkIsData)
		it.res = readFork(rec[fileResource:], it.id, forkIsRes)
	}
	return it, nil
}

// byID is a file or a folder by its number.
func (c catalog) byID(id uint32) (item, error) {
	t, err := c.thread(id)
	if err != nil {
		return item{}, err
	}
	it, err := c.byName(catalogKeyOf(t))
	if err == nil && it.id != id {
		err = fmt.Errorf("the catalog has number %d where %d should be", it.id, id)
	}
	return it, err
}

// byName is a file or a folder by its name in a folder, written as the volume writes names. The error wraps
// fs.ErrNotExist when there is none.
func (c catalog) byName(k catalogKeyOf) (item, error) {
	rec, err := c.find(c.compareTo(k))
	if err != nil {
		return item{}, err
	}
	if rec == nil {
		return item{}, notThere(k)
	}
	return readItem(rec)
}

func notThere(k catalogKeyOf) error {
	return fmt.Errorf("%q in folder %d: %w", nameOf(k.name), k.parent, errNotExist)
}
