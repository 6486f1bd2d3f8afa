package takeout

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"io/fs"
	pathpkg "path"
	"strings"
	"time"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zip"

	"twinshelf/internal/fsys"
	"twinshelf/internal/run"
)

// packer is a kind of stream that items go into. Names are paths with "/"; a folder's doesn't end in one.
type packer interface {
	folder(name string, it fsys.Item, more fsys.More) error
	file(name string, it fsys.Item, more fsys.More, c io.Reader) error
	link(name string, it fsys.Item, more fsys.More) error
	// again is another name of a file that is in the stream; false when the stream can't say that.
	again(name, first string, it fsys.Item) (bool, error)
	end() error
}

// ToTar writes items as a tar stream (POSIX.1-2001, pax): exact times, owners, attributes and hard links are kept,
// holes are written out.
func ToTar(rc *run.Context, choices []Choice, w io.Writer, o Options) (*Report, error) {
	return toStream(rc, choices, &tarPacker{tar.NewWriter(w)}, o, false)
}

// ToZip writes items as a zip archive: permissions and times to the second are kept, owners and attributes aren't, and
// names that some system couldn't take are changed and reported.
func ToZip(rc *run.Context, choices []Choice, w io.Writer, o Options) (*Report, error) {
	z := zip.NewWriter(w)
	z.RegisterCompressor(zip.Deflate, func(w io.Writer) (io.WriteCloser, error) {
		return flate.NewWriter(w, flate.BestSpeed)
	})
	return toStream(rc, choices, &zipPacker{z}, o, true)
}

type streamer struct {
	rc     *run.Context
	p      packer
	o      Options
	r      *Report
	tree   fsys.Tree
	source any
	links  map[identity]string
	seen   map[uint64]bool // folders of the choice that is taken out, by ID
	zip    bool
}

func toStream(rc *run.Context, choices []Choice, p packer, o Options, zip bool) (*Report, error) {
	if err := begin(rc, choices); err != nil {
		return nil, err
	}
	s := &streamer{rc: rc, p: p, o: o, r: &Report{}, links: map[identity]string{}, zip: zip}
	used, top := map[string]bool{}, newNamer(zip)
	for _, c := range choices {
		s.tree, s.source, s.seen = c.Tree, c.Source, map[uint64]bool{}
		name := c.name()
		for n := 1; used[name]; n++ { // two items of different folders
			name = tagged(c.name(), o.Tag, n)
		}
		if used[name] = true; name != c.name() {
			s.r.renamed(c.Path, name, errThere.Error())
		}
		if err := s.item(c.Item, s.named(top, name, c.Path), c.Path, top); err != nil {
			return s.r, err
		}
	}
	return s.r, p.end()
}

// below writes what a folder holds, so that it follows its folder.
func (s *streamer) below(folder fsys.Item, name, path string) error {
	if folder.ID != 0 && s.seen[folder.ID] {
		return errors.New("the folder is in another place too")
	}
	s.seen[folder.ID] = true
	in := newNamer(s.zip)
	entries, err := fsys.Entries(s.tree, folder)
	if err != nil {
		s.r.left(path, fmt.Errorf("the folder can't be read whole: %w", err))
	}
	for _, e := range entries {
		at := fsys.Join(path, e.Name)
		switch {
		case e.Err != nil:
			s.r.left(at, e.Err)
		case len(at) > maxPath:
			s.r.left(at[:100]+"…", errors.New("it lies too deep"))
		default:
			if err := s.item(e.Item, name+"/"+s.named(in, e.Name, at), at, in); err != nil {
				return err
			}
		}
	}
	return nil
}

// named gives an item its name in the stream.
func (s *streamer) named(in *namer, name, path string) string {
	safe := in.take(name)
	if safe != name {
		s.r.renamed(path, safe, "other systems couldn't take its name")
	}
	return safe
}

// streamError is an error of the stream itself, after which it can't go on.
type streamError struct{ error }

func (e streamError) Unwrap() error { return e.error }

func broken(err error) error {
	if err == nil {
		return nil
	}
	return streamError{err}
}

func (s *streamer) item(it fsys.Item, name, path string, in *namer) error {
	if err := s.rc.Err(); err != nil {
		return err
	}
	err := s.put(it, name, path, in)
	if err == nil {
		return nil
	}
	if e := (streamError{}); errors.As(err, &e) || s.rc.Err() != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	s.r.left(path, err)
	return nil
}

func (s *streamer) put(it fsys.Item, name, path string, in *namer) error {
	if why := special(it); why != "" {
		return errors.New(why)
	}
	if !fs.ValidPath(name) || strings.Contains(name, "\x00") {
		return fmt.Errorf("%q is no name", name)
	}
	more, err := s.tree.More(it)
	if err != nil {
		s.r.left(path, fmt.Errorf("its attributes can't be read: %w", err))
	}
	switch {
	case it.IsDir():
		s.r.Folders++
		if err = broken(s.p.folder(name, it, more)); err == nil {
			err = s.below(it, name, path)
		}
	case it.Mode.Type() == fs.ModeSymlink:
		s.r.Links++
		err = broken(s.p.link(name, it, more))
	default:
		err = s.file(it, more, name)
	}
	if err != nil || len(more.Streams) == 0 {
		return err
	}
	if s.o.NoStreams {
		return errors.New("its alternate streams were left out")
	}
	for _, x := range more.Streams {
		c, err := s.tree.Open(it, x.Name)
		if err != nil {
			s.r.left(path+":"+x.Name, err)
			continue
		}
		side := it
		side.Mode, side.Size = it.Mode.Perm()&^0o111|0o600, c.Size()
		dir, base := pathpkg.Split(name)
		if err := s.contents(side, fsys.More{}, dir+in.take(base+":"+strings.ReplaceAll(x.Name, "/", "_")),
			c); err != nil {
			return err
		}
	}
	return nil
}

func (s *streamer) file(it fsys.Item, more fsys.More, name string) error {
	if first, ok := s.links[identity{s.source, it.ID}]; ok && it.Links > 1 && it.ID != 0 {
		if done, err := s.p.again(name, first, it); done || err != nil {
			s.r.Files++
			return errors.Join(broken(err), s.rc.Step(it.Size))
		}
	}
	c, err := s.tree.Open(it, "")
	if err != nil {
		return err
	}
	it.Size = c.Size()
	if it.Links > 1 && it.ID != 0 {
		s.links[identity{s.source, it.ID}] = name
	}
	return s.contents(it, more, name, c)
}

// contents writes a file. What can't be read is zeros in the stream, whose length is promised by then, and noted.
func (s *streamer) contents(it fsys.Item, more fsys.More, name string, c fsys.Contents) error {
	r := &lenient{rc: s.rc, c: c}
	if err := s.p.file(name, it, more, r); err != nil {
		return broken(err)
	}
	s.r.Files++
	s.r.Bytes += c.Data().Total()
	s.r.gap(name, c)
	if r.bad > 0 {
		return fmt.Errorf("%d bytes of it can't be read and are zeros: %w", r.bad, r.first)
	}
	return nil
}

// lenient reads contents to their end, whatever can't be read.
type lenient struct {
	rc    *run.Context
	c     fsys.Contents
	at    int64
	bad   int64
	first error
}

const smallest = 4096 // bytes that are given up at once

func (l *lenient) Read(p []byte) (int, error) {
	if l.at >= l.c.Size() {
		return 0, io.EOF
	}
	p = p[:min(int64(len(p)), l.c.Size()-l.at, chunk)]
	n, err := l.c.ReadAt(p, l.at)
	if n < len(p) {
		if n == 0 {
			n = min(len(p), smallest)
			clear(p[:n])
			l.bad += int64(n)
			if l.first == nil {
				if l.first = err; err == nil {
					l.first = io.ErrUnexpectedEOF
				}
			}
		}
	}
	l.at += int64(n)
	return n, l.rc.Step(int64(n))
}

// tarPacker writes the pax form.
type tarPacker struct{ w *tar.Writer }

func (t *tarPacker) head(name string, kind byte, it fsys.Item, more fsys.More) *tar.Header {
	h := &tar.Header{Typeflag: kind, Name: name, Mode: int64(it.Mode.Perm()), Uid: int(it.UID), Gid: int(it.GID),
		ModTime: it.Modified, AccessTime: it.Accessed, ChangeTime: it.Changed, Format: tar.FormatPAX,
		PAXRecords: map[string]string{}}
	for bit, m := range map[fs.FileMode]int64{fs.ModeSetuid: 0o4000, fs.ModeSetgid: 0o2000, fs.ModeSticky: 0o1000} {
		if it.Mode&bit != 0 {
			h.Mode |= m
		}
	}
	for _, x := range more.XAttrs {
		if !strings.ContainsAny(x.Name, "=\x00") {
			h.PAXRecords["SCHILY.xattr."+x.Name] = string(x.Value)
		}
	}
	return h
}

func (t *tarPacker) folder(name string, it fsys.Item, more fsys.More) error {
	return t.w.WriteHeader(t.head(name+"/", tar.TypeDir, it, more))
}

func (t *tarPacker) link(name string, it fsys.Item, more fsys.More) error {
	h := t.head(name, tar.TypeSymlink, it, more)
	h.Linkname = more.Target
	return t.w.WriteHeader(h)
}

func (t *tarPacker) file(name string, it fsys.Item, more fsys.More, c io.Reader) error {
	h := t.head(name, tar.TypeReg, it, more)
	h.Size = it.Size
	if err := t.w.WriteHeader(h); err != nil {
		return err
	}
	_, err := io.CopyBuffer(struct{ io.Writer }{t.w}, c, make([]byte, min(chunk, max(it.Size, 512))))
	return err
}

func (t *tarPacker) again(name, first string, it fsys.Item) (bool, error) {
	h := t.head(name, tar.TypeLink, it, fsys.More{})
	h.Linkname = first
	return true, t.w.WriteHeader(h)
}

func (t *tarPacker) end() error { return t.w.Close() }

// zipPacker packs every file by itself.
type zipPacker struct{ w *zip.Writer }

func (z *zipPacker) create(name string, it fsys.Item, method uint16) (io.Writer, error) {
	h := &zip.FileHeader{Name: name, Method: method, Modified: it.Modified}
	if h.Modified.Before(time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)) {
		h.Modified = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC) // zip knows no earlier one
	}
	h.SetMode(it.Mode)
	return z.w.CreateHeader(h)
}

func (z *zipPacker) folder(name string, it fsys.Item, _ fsys.More) error {
	_, err := z.create(name+"/", it, zip.Store)
	return err
}

func (z *zipPacker) link(name string, it fsys.Item, more fsys.More) error {
	w, err := z.create(name, it, zip.Store)
	if err == nil {
		_, err = io.WriteString(w, more.Target)
	}
	return err
}

func (z *zipPacker) file(name string, it fsys.Item, _ fsys.More, c io.Reader) error {
	w, err := z.create(name, it, zip.Deflate)
	if err != nil {
		return err
	}
	_, err = io.CopyBuffer(struct{ io.Writer }{w}, c, make([]byte, min(chunk, max(it.Size, 512))))
	return err
}

func (z *zipPacker) again(string, string, fsys.Item) (bool, error) { return false, nil }
func (z *zipPacker) end() error                                    { return z.w.Close() }
