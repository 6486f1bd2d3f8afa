package ext

import (
	"encoding/binary"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/disk"
)

// Files gives the volume's tree. A hash-indexed directory is read as the plain
// list that it also is.
func (v *Volume) Files() (fs.FS, error) { return tree{v}, nil }

type tree struct{ v *Volume }

const (
	dirHeader   = 8
	maxDirBytes = 256 << 20
)

type dirent struct {
	name  string
	inode int64
}

// readDir lists a directory ("Linear (Classic) Directories").
func (v *Volume) readDir(n *inode) ([]dirent, error) {
	if n.size > maxDirBytes {
		return nil, fmt.Errorf("directory inode %d claims %d bytes", n.number, n.size)
	}
	if n.flags&flagInline != 0 {
		return inlineDir(n), nil
	}
	r, err := v.contents(n)
	if err != nil {
		return nil, err
	}
	b := make([]byte, v.blockSize)
	var out []dirent
	for off := int64(0); off+v.blockSize <= n.size; off += v.blockSize {
		if err := disk.ReadFull(r, b, off); err != nil {
			return out, err
		}
		out = dirents(b, out)
	}
	return out, nil
}

func inlineDir(n *inode) []dirent { return dirents(n.block[4:], nil) }

func dirents(b []byte, out []dirent) []dirent {
	le := binary.LittleEndian
	for len(b) >= dirHeader {
		ino, length, nameLen := int64(le.Uint32(b)), int(le.Uint16(b[4:])), int(b[6])
		if length < dirHeader || length > len(b) || dirHeader+nameLen > length {
			return out
		}
		if name := string(b[dirHeader : dirHeader+nameLen]); ino != 0 && name != "." && name != ".." && name != "" && !strings.ContainsAny(name, "/\x00") {
			out = append(out, dirent{name, ino})
		}
		b = b[length:]
	}
	return out
}

func (t tree) find(op, name string) (*inode, error) {
	bad := func(err error) (*inode, error) { return nil, &fs.PathError{Op: op, Path: name, Err: err} }
	if !fs.ValidPath(name) {
		return bad(fs.ErrInvalid)
	}
	n, err := t.v.readInode(rootInode)
	if err != nil {
		return bad(err)
	}
	if name == "." {
		return n, nil
	}
	for step := range strings.SplitSeq(name, "/") {
		if n.mode&modeMask != modeDir {
			return bad(fs.ErrNotExist)
		}
		entries, err := t.v.readDir(n)
		if err != nil {
			return bad(err)
		}
		i := slices.IndexFunc(entries, func(e dirent) bool { return e.name == step })
		if i < 0 {
			return bad(fs.ErrNotExist)
		}
		if n, err = t.v.readInode(entries[i].inode); err != nil {
			return bad(err)
		}
	}
	return n, nil
}

// Open opens a file or directory. Links are not followed.
func (t tree) Open(name string) (fs.File, error) {
	n, err := t.find("open", name)
	if err != nil {
		return nil, err
	}
	f := &openFile{info: info{path.Base(name), n}}
	if n.mode&modeMask == modeFile {
		r, err := t.v.contents(n)
		if err != nil {
			return nil, &fs.PathError{Op: "open", Path: name, Err: err}
		}
		f.r = io.NewSectionReader(r, 0, n.size)
		if f.blockSize = t.v.blockSize; n.flags&flagInline == 0 {
			if f.extents, err = t.v.extents(n); err != nil {
				return nil, &fs.PathError{Op: "open", Path: name, Err: err}
			}
		}
	} else if n.mode&modeMask == modeDir {
		if f.entries, err = t.ReadDir(name); err != nil {
			return nil, err
		}
	}
	return f, nil
}

// Stat describes a file.
func (t tree) Stat(name string) (fs.FileInfo, error) {
	n, err := t.find("stat", name)
	if err != nil {
		return nil, err
	}
	return info{path.Base(name), n}, nil
}

// ReadDir lists a directory by name. Entries whose inode can't be read are left out.
func (t tree) ReadDir(name string) ([]fs.DirEntry, error) {
	n, err := t.find("readdir", name)
	if err != nil {
		return nil, err
	}
	if n.mode&modeMask != modeDir {
		return nil, &fs.PathError{Op: "readdir", Path: name, Err: fmt.Errorf("not a directory")}
	}
	entries, err := t.v.readDir(n)
	if err != nil {
		return nil, &fs.PathError{Op: "readdir", Path: name, Err: err}
	}
	var out []fs.DirEntry
	for _, e := range entries {
		if child, err := t.v.readInode(e.inode); err == nil {
			out = append(out, fs.FileInfoToDirEntry(info{e.name, child}))
		}
	}
	slices.SortFunc(out, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return out, nil
}

type info struct {
	name string
	n    *inode
}

func (i info) Name() string       { return i.name }
func (i info) Size() int64        { return i.n.size }
func (i info) ModTime() time.Time { return i.n.mtime }
func (i info) IsDir() bool        { return i.n.mode&modeMask == modeDir }
func (i info) Sys() any           { return nil }

func (i info) Mode() fs.FileMode {
	m := fs.FileMode(i.n.mode & 0o777)
	switch i.n.mode & modeMask {
	case modeDir:
		m |= fs.ModeDir
	case modeLink:
		m |= fs.ModeSymlink
	case modeFile:
	default:
		m |= fs.ModeIrregular
	}
	return m
}

type openFile struct {
	info    info
	r       *io.SectionReader
	entries []fs.DirEntry
	// extents are where the contents lie, in blocks.
	extents   []extent
	blockSize int64
}

func (f *openFile) Stat() (fs.FileInfo, error) { return f.info, nil }
func (f *openFile) Close() error               { return nil }

func (f *openFile) Read(p []byte) (int, error) {
	if f.r == nil {
		return 0, &fs.PathError{Op: "read", Path: f.info.name, Err: fs.ErrInvalid}
	}
	return f.r.Read(p)
}

func (f *openFile) ReadDir(n int) ([]fs.DirEntry, error) {
	if n <= 0 {
		out := f.entries
		f.entries = nil
		return out, nil
	}
	if len(f.entries) == 0 {
		return nil, io.EOF
	}
	n = min(n, len(f.entries))
	out := f.entries[:n]
	f.entries = f.entries[n:]
	return out, nil
}
