package ext

import (
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"io/fs"
	"iter"
	"slices"
	"strings"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
)

// Files gives the volume's tree. A hash-indexed directory is read as the plain
// list that it also is.
func (v *Volume) Files() (fsys.Tree, error) { return tree{v}, nil }

var _ fsys.Files = (*Volume)(nil)

type tree struct{ v *Volume }

const (
	maxDirBytes = 1 << 30
	dirChunk    = 64 << 10
	maxTarget   = 64 << 10
)

type dirent struct {
	name  string
	inode int64
}

// readDir calls each with the entries of a directory ("Linear (Classic) Directories") until it says no. What lies in
// blocks that can't be read, and after an entry that doesn't fit its block, is left out; the first such error is
// returned at the end.
func (v *Volume) readDir(n *inode, each func(dirent) bool) error {
	if n.size > maxDirBytes {
		return fsys.Contradiction(n.at, "directory inode %d claims %d bytes", n.number, n.size)
	}
	r, err := v.contents(n)
	if err != nil {
		return err
	}
	if n.flags&flagInline != 0 {
		return readInlineDir(n, r.(*fsys.Resident).Bytes, each)
	}
	var problem error
	per := max(1, dirChunk/v.blockSize) * v.blockSize
	b := make([]byte, min(per, n.size))
	for off := int64(0); off+v.blockSize <= n.size; off += per {
		chunk := b[:min(per, (n.size-off)/v.blockSize*v.blockSize)]
		hurt := disk.ReadFull(r, chunk, off) != nil
		for i := int64(0); i < int64(len(chunk)); i += v.blockSize {
			more, err := v.readDirBlock(n, r, chunk[i:][:v.blockSize], off+i, hurt, each)
			if problem == nil {
				problem = err
			}
			if !more {
				return problem
			}
		}
	}
	return problem
}

func readInlineDir(n *inode, b []byte, each func(dirent) bool) error {
	head := min(len(b), inoBlockSz)
	more, fits := dirents(b[min(dirParent, head):head], each)
	if more {
		_, rest := dirents(b[head:], each)
		fits = fits && rest
	}
	if !fits {
		return fsys.Contradiction(n.at, "directory inode %d has an entry that doesn't fit", n.number)
	}
	return nil
}

// readDirBlock gives the entries of the block of a directory at a byte of it, and says whether more are wanted. Of a
// stretch that couldn't be read at once each block has a chance of its own.
func (v *Volume) readDirBlock(n *inode, r fsys.Contents, b []byte, off int64, again bool, each func(dirent) bool) (bool,
	error) {
	if again {
		if err := disk.ReadFull(r, b, off); err != nil {
			return true, fmt.Errorf("block %d of the directory: %w", off/v.blockSize, err)
		}
	}
	more, fits := dirents(b, each)
	if !fits {
		return more, fsys.Contradiction(n.at, "directory inode %d has an entry that doesn't fit its block %d", n.number,
			off/v.blockSize)
	}
	return more, nil
}

// dirents calls each with the entries of a block. more is what each said last; fits is false where an entry doesn't
// fit, which ends the block.
func dirents(b []byte, each func(dirent) bool) (more, fits bool) {
	le := binary.LittleEndian
	whole := len(b)
	for len(b) >= dirHeader {
		ino, length, nameLen := int64(le.Uint32(b)), int(le.Uint16(b[4:])), int(b[6])
		if whole == 64<<10 && (length == 0xFFFF || length == 0) {
			length = whole // the only length that 16 bits don't hold
		}
		if length < dirHeader || length > len(b) || dirHeader+nameLen > length {
			return true, false
		}
		name := string(b[dirHeader : dirHeader+nameLen])
		if ino != 0 && name != "." && name != ".." && name != "" && !each(dirent{name, ino}) {
			return false, true
		}
		b = b[length:]
	}
	return true, len(b) == 0
}

// shown is a name as it can be shown and asked for: an encrypted one in letters.
func shown(n *inode, name string) string {
	if n.flags&flagEncrypted != 0 {
		s := base64.RawURLEncoding.EncodeToString([]byte(name))
		return s[:min(len(s), 255)]
	}
	return name
}

func (t tree) Root() (fsys.Item, error) {
	n, err := t.v.readInode(rootInode)
	if err != nil {
		return fsys.Item{}, fmt.Errorf("root directory: %w", err)
	}
	if n.mode&modeMask != modeDir {
		return fsys.Item{}, fsys.Contradiction(n.at, "the root directory isn't a directory")
	}
	return item("", n), nil
}

func (t tree) inodeOf(it fsys.Item) (*inode, error) {
	number, ok := it.Ref.(int64)
	if !ok {
		return nil, fmt.Errorf("%s isn't an item of this volume", it.Name)
	}
	return t.v.readInode(number)
}

func (t tree) folder(it fsys.Item) (*inode, error) {
	n, err := t.inodeOf(it)
	if err == nil && n.mode&modeMask != modeDir {
		err = fmt.Errorf("%s is no folder", it.Name)
	}
	return n, err
}

// List reads the inodes of the entries in the order in which they lie.
func (t tree) List(folder fsys.Item) iter.Seq2[fsys.Item, error] {
	return func(yield func(fsys.Item, error) bool) {
		n, err := t.folder(folder)
		if err != nil {
			yield(fsys.Item{}, err)
			return
		}
		var all []dirent
		err = t.v.readDir(n, func(e dirent) bool {
			all = append(all, e)
			return true
		})
		slices.SortFunc(all, func(a, b dirent) int { return int(a.inode - b.inode) })
		w := inodeWindow{v: t.v}
		for _, e := range all {
			it, err := t.item(n, e, w.inode)
			if !yield(it, err) {
				return
			}
		}
		if err != nil {
			yield(fsys.Item{}, err)
		}
	}
}

// item describes an entry, whose inode read gives.
func (t tree) item(folder *inode, e dirent, read func(number int64) (*inode, error)) (fsys.Item, error) {
	name := shown(folder, e.name)
	if strings.ContainsAny(name, "/\x00") {
		return fsys.Item{Name: strings.Map(func(r rune) rune {
			if r == '/' || r == 0 {
				return '_'
			}
			return r
		}, name)}, fsys.Contradiction(folder.at, "a name in the directory has a slash or a zero in it")
	}
	n, err := read(e.inode)
	if err == nil && n.mode == 0 {
		err = fsys.Contradiction(n.at, "inode %d, which the directory names, is not in use", e.inode)
	}
	if err != nil {
		return fsys.Item{Name: name}, err
	}
	return item(name, n), nil
}

// Lookup finds a name; in a directory that folds case, whatever its case.
func (t tree) Lookup(folder fsys.Item, name string) (fsys.Item, error) {
	n, err := t.folder(folder)
	if err != nil {
		return fsys.Item{}, err
	}
	want := name
	folds := n.flags&flagFolded != 0
	if folds {
		want = fold(name)
	}
	var found *dirent
	err = t.v.readDir(n, func(e dirent) bool {
		if s := shown(n, e.name); s == name || folds && fold(s) == want {
			found = &e
		}
		return found == nil
	})
	switch {
	case found != nil:
		return t.item(n, *found, t.v.readInode)
	case err != nil:
		return fsys.Item{}, err
	}
	return fsys.Item{}, fs.ErrNotExist
}

func fold(s string) string { return cases.Fold().String(norm.NFD.String(s)) }

// Open gives the contents of a file. ext has no other streams.
func (t tree) Open(it fsys.Item, stream string) (fsys.Contents, error) {
	n, err := t.inodeOf(it)
	switch {
	case err != nil:
		return nil, err
	case stream != "":
		return nil, fs.ErrNotExist
	case n.mode&modeMask != modeFile:
		return nil, fmt.Errorf("%s has no contents", it.Name)
	case n.flags&flagEncrypted != 0:
		return nil, fsys.ErrEncrypted
	}
	return t.v.contents(n)
}

// More reads the target of a link and the extended attributes.
func (t tree) More(it fsys.Item) (fsys.More, error) {
	n, err := t.inodeOf(it)
	if err != nil {
		return fsys.More{}, err
	}
	var m fsys.More
	if m.XAttrs, err = t.v.xattrs(n); err != nil {
		return m, err
	}
	if n.flags&flagEncrypted != 0 {
		m.Remark = "its contents are encrypted by its system"
		return m, nil
	}
	if n.mode&modeMask == modeLink {
		m.Target, err = t.v.target(n)
	}
	return m, err
}

// target is where a symbolic link leads ("Symbolic Links"): short ones stand in the inode.
func (v *Volume) target(n *inode) (string, error) {
	if n.size < inoBlockSz && n.flags&(flagInline|flagExtents) == 0 {
		return strings.TrimRight(string(n.block[:n.size]), "\x00"), nil
	}
	if n.size > maxTarget {
		return "", fsys.Contradiction(n.at, "the link of inode %d claims %d bytes", n.number, n.size)
	}
	r, err := v.contents(n)
	if err != nil {
		return "", err
	}
	b := make([]byte, n.size)
	if err := disk.ReadFull(r, b, 0); err != nil {
		return "", err
	}
	return strings.TrimRight(string(b), "\x00"), nil
}

var types = map[uint16]fs.FileMode{modeFile: 0, modeDir: fs.ModeDir, modeLink: fs.ModeSymlink,
	modeFIFO: fs.ModeNamedPipe, modeSock: fs.ModeSocket, modeBlock: fs.ModeDevice,
	modeChar: fs.ModeDevice | fs.ModeCharDevice}

// item describes an inode. A name that begins with a dot is hidden by custom.
func item(name string, n *inode) fsys.Item {
	le := binary.LittleEndian
	it := fsys.Item{
		Name: name, Ref: n.number, ID: uint64(n.number) | uint64(le.Uint32(n.raw[inoGeneration:]))<<32,
		Modified: n.when(inoMtime, inoMtimeExtra), Changed: n.when(inoCtime, inoCtimeExtra),
		Accessed: n.when(inoAtime, inoAtimeExtra),
		UID:      uint32(le.Uint16(n.raw[inoUID:])) | uint32(le.Uint16(n.raw[inoUIDHi:]))<<16,
		GID:      uint32(le.Uint16(n.raw[inoGID:])) | uint32(le.Uint16(n.raw[inoGIDHi:]))<<16,
		Links:    int(le.Uint16(n.raw[inoLinks:])),
	}
	if n.has(inoCrExtra + 4) {
		it.Created = n.when(inoCrtime, inoCrExtra)
	}
	kind, ok := types[n.mode&modeMask]
	if !ok {
		kind = fs.ModeIrregular
	}
	it.Mode = kind | fs.FileMode(n.mode&0o777)
	for bit, m := range map[uint16]fs.FileMode{modeSetUID: fs.ModeSetuid, modeSetGID: fs.ModeSetgid,
		modeSticky: fs.ModeSticky} {
		if n.mode&bit != 0 {
			it.Mode |= m
		}
	}
	if kind == 0 || kind == fs.ModeSymlink {
		it.Size = n.size
	}
	if kind&fs.ModeDevice != 0 {
		it.Major, it.Minor = deviceOf(n.block)
	}
	if n.flags&flagImmutable != 0 {
		it.Attr |= fsys.ReadOnly
	}
	if n.flags&flagEncrypted != 0 {
		it.Attr |= fsys.Encrypted
	}
	if strings.HasPrefix(name, ".") {
		it.Attr |= fsys.Hidden
	}
	return it
}

// deviceOf decodes a device's numbers: the old form in the first word, the newer in the second.
func deviceOf(b []byte) (major, minor uint32) {
	le := binary.LittleEndian
	if d := le.Uint32(b); d != 0 {
		return d >> 8 & 0xFF, d & 0xFF
	}
	d := le.Uint32(b[4:])
	return d >> 8 & 0xFFF, d&0xFF | d>>12&0xFFF00
}
