package takeout

import (
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/zeebo/blake3"
	"golang.org/x/sys/unix"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/run"
)

// ToFolder takes items out into a folder, which is made when it is missing.
func ToFolder(rc *run.Context, choices []Choice, folder string, o Options) (*Report, error) {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, fmt.Errorf("the folder can't be made: %w", err)
	}
	f, err := os.Open(folder)
	if err != nil {
		return nil, fmt.Errorf("the folder can't be opened: %w", err)
	}
	defer f.Close()
	if err := begin(rc, choices); err != nil {
		return nil, err
	}
	t := &taker{rc: rc, o: o, r: &Report{}, root: f, links: map[identity]string{}, buf: make([]byte, chunk),
		owner: os.Geteuid() == 0, ahead: readAhead(rc)}
	defer t.ahead.stop()
	defer func() { _ = t.finish() }() // where something else ends it
	top := &dir{f: f, written: map[string]string{}}
	for _, c := range choices {
		t.tree, t.source, t.seen = c.Tree, c.Source, map[uint64]bool{}
		if err := t.item(top, c.Item, c.name(), c.Path, nil); err != nil {
			return t.r, err
		}
	}
	if err := t.settle(); err != nil {
		return t.r, err
	}
	return t.r, t.finish()
}

// dir is a folder outside that is being filled.
type dir struct {
	f    *os.File
	path string // below the destination
	// written are the names given in this run, by what they are where case doesn't count.
	written map[string]string
	// caseless is whether names that differ by case are one here; nil until it was tried.
	caseless *bool
}

// folds tries whether names that differ by case are one in this folder.
func (d *dir) folds() bool {
	if d.caseless == nil {
		name, found := partial("case"), false
		if fd, err := unix.Openat(d.fd(), name, unix.O_CREAT|unix.O_WRONLY|unix.O_NOFOLLOW|unix.O_CLOEXEC,
			0o600); err == nil {
			unix.Close(fd)
			var st unix.Stat_t
			found = unix.Fstatat(d.fd(), strings.ToUpper(name), &st, unix.AT_SYMLINK_NOFOLLOW) == nil
			_ = unix.Unlinkat(d.fd(), name, 0)
		}
		d.caseless = &found
	}
	return *d.caseless
}

func (d *dir) fd() int                  { return int(d.f.Fd()) }
func (d *dir) below(name string) string { return filepath.Join(d.path, name) }

type taker struct {
	rc     *run.Context
	o      Options
	r      *Report
	root   *os.File
	tree   fsys.Tree
	source any
	links  map[identity]string // where files with several names were put
	seen   map[uint64]bool     // folders of the choice that is taken out, by ID
	buf    []byte
	owner  bool // whether owners can be given
	ahead  *ahead

	now    lot  // not yet read back
	before *lot // being read back
}

// item takes out one item and what is below it; f is what was read ahead of it. Only what ends the whole run is an
// error.
func (t *taker) item(d *dir, it fsys.Item, name, path string, f *fetched) error {
	if err := t.rc.Err(); err != nil {
		return err
	}
	var err error
	switch why := special(it); {
	case why != "":
		err = errors.New(why)
	case it.IsDir():
		return t.folder(d, it, name, path)
	case it.Mode.Type() == fs.ModeSymlink:
		err = t.link(d, it, name, path)
	default:
		err = t.file(d, it, name, path, f)
	}
	if err != nil {
		if fatal(err) || t.rc.Err() != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		t.r.left(path, err)
	}
	return nil
}

// fatal are errors after which nothing else can be written.
func fatal(err error) bool {
	return errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EROFS) || errors.Is(err, unix.EDQUOT)
}

func (t *taker) folder(d *dir, it fsys.Item, name, path string) error {
	if it.ID != 0 && t.seen[it.ID] {
		t.r.left(path, errors.New("the folder is in another place too"))
		return nil
	}
	t.seen[it.ID] = true
	sub, err := t.enter(d, name, path)
	if err != nil {
		if fatal(err) {
			return fmt.Errorf("%s: %w", path, err)
		}
		t.r.left(path, err)
		return nil
	}
	defer sub.f.Close()
	t.r.Folders++
	entries, err := fsys.Entries(t.tree, it)
	if err != nil {
		t.r.left(path, fmt.Errorf("the folder can't be read whole: %w", err))
	}
	files := t.ahead.folder(t.tree, entries, func(name string) bool {
		var st unix.Stat_t
		return unix.Fstatat(sub.fd(), name, &st, unix.AT_SYMLINK_NOFOLLOW) != nil
	})
	for i, e := range entries {
		fetched := files.take(i)
		at := fsys.Join(path, e.Name)
		if e.Err != nil {
			t.r.left(at, e.Err)
			continue
		}
		if len(at) > maxPath {
			t.r.left(at[:100]+"…", errors.New("it lies too deep"))
			continue
		}
		if err := t.item(sub, e.Item, e.Name, at, fetched); err != nil {
			return err
		}
	}
	more := t.more(it, path)
	t.streams(d, it, more, filepath.Base(sub.path), path)
	t.dress(sub.fd(), it, more)
	return nil
}

const maxPath = 64 << 10 // bytes: a damaged volume may have folders within themselves

// enter makes a folder, or opens the one that is there.
func (t *taker) enter(d *dir, name, path string) (*dir, error) {
	name, err := t.place(d, name, path, func(name string, _ bool) error { return unix.Mkdirat(d.fd(), name, 0o700) },
		func(st *unix.Stat_t) bool {
			return st.Mode&unix.S_IFMT == unix.S_IFDIR
		})
	if err != nil {
		return nil, err
	}
	fd, err := unix.Openat(d.fd(), name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	return &dir{f: os.NewFile(uintptr(fd), name), path: d.below(name), written: map[string]string{}}, nil
}

// errThere is why something was skipped.
var errThere = errors.New("there is something else by this name already")

const maxTries = 1000

// place gives an item a name in a folder: its own where that can be, otherwise by the wishes. put makes it; it must
// fail with EEXIST where the name is taken unless it may replace what is there. join says whether what is there can be
// used as it is.
func (t *taker) place(d *dir, name, path string, put func(name string, replace bool) error,
	join func(*unix.Stat_t) bool) (string, error) {
	if name == "" || name == "." || name == ".." || strings.ContainsAny(name, "/\x00") {
		return "", fmt.Errorf("%q is no name", name)
	}
	base, why := name, ""
	for n := 0; n < maxTries; n++ {
		try, replace := base, false
		if n > 0 {
			try = tagged(base, t.o.Tag, n)
		}
		var st unix.Stat_t
		if unix.Fstatat(d.fd(), try, &st, unix.AT_SYMLINK_NOFOLLOW) == nil {
			exact, ours := d.written[folded(try)]
			if ours && exact != try && !d.folds() {
				ours = false
			}
			isDir := st.Mode&unix.S_IFMT == unix.S_IFDIR
			switch {
			case ours && exact != try:
				why = "the destination takes names that differ by case for one"
				continue
			case !ours && join(&st):
				d.written[folded(try)] = try
				return try, nil
			case ours || t.o.Clash == KeepBoth:
				why = errThere.Error()
				continue
			case t.o.Clash == Skip:
				return "", errThere
			case isDir:
				return "", errors.New("there is a folder by this name already")
			}
			replace = true
		}
		err := put(try, replace)
		switch {
		case err == nil:
			if d.written[folded(try)] = try; try != name {
				t.r.renamed(path, try, why)
			}
			return try, nil
		case errors.Is(err, unix.EEXIST) && !replace:
		case unfit(err) && base == name && mapped(name) != name:
			base, why, n = mapped(name), "the destination doesn't take the name", -1
		default:
			return "", err
		}
	}
	return "", errThere
}

// folded is a name as a destination may see it to which case doesn't count.
func folded(name string) string { return strings.ToLower(name) }

// unfit says whether an error means that a name can't be had there.
func unfit(err error) bool {
	// what some drivers say of letters they don't know
	return errors.Is(err, unix.EINVAL) || errors.Is(err, unix.EILSEQ) || errors.Is(err, unix.ENAMETOOLONG) ||
		errors.Is(err, unix.ENOENT)
}

const maxName = 200 // bytes of a mapped name: fewer than any file system takes

// mapped is a name that every destination takes.
func mapped(name string) string {
	s := everywhere(name)
	if len(s) <= maxName {
		return s
	}
	sum := blake3.Sum256([]byte(name))
	ext := filepath.Ext(s)
	if len(ext) > 16 {
		ext = ""
	}
	return strings.ToValidUTF8(s[:maxName-len(ext)-10], "") + "~" + hex.EncodeToString(sum[:4]) + ext
}

// partial is under which name a file is written until it is whole: the same each time, so that a cut-off run leaves
// nothing behind.
func partial(name string) string {
	sum := blake3.Sum256([]byte(name))
	return ".twinshelf-part-" + hex.EncodeToString(sum[:8])
}

func (t *taker) link(d *dir, it fsys.Item, name, path string) error {
	more, err := t.tree.More(it)
	if err != nil {
		return err
	}
	if more.Target == "" {
		return errors.New("it is a link to nowhere")
	}
	name, err = t.place(d, name, path, func(name string, replace bool) error {
		if replace {
			if err := unix.Unlinkat(d.fd(), name, 0); err != nil {
				return err
			}
		}
		return unix.Symlinkat(more.Target, d.fd(), name)
	}, func(st *unix.Stat_t) bool {
		b := make([]byte, len(more.Target)+1)
		n, err := unix.Readlinkat(d.fd(), name, b)
		return err == nil && string(b[:n]) == more.Target
	})
	if err != nil {
		return err
	}
	t.r.Links++
	if t.owner {
		_ = unix.Fchownat(d.fd(), name, int(it.UID), int(it.GID), unix.AT_SYMLINK_NOFOLLOW)
	}
	_ = unix.UtimesNanoAt(d.fd(), name, stamps(it), unix.AT_SYMLINK_NOFOLLOW)
	return nil
}

func stamps(it fsys.Item) []unix.Timespec {
	when := func(t time.Time) unix.Timespec {
		if t.IsZero() {
			return unix.Timespec{Nsec: unix.UTIME_OMIT}
		}
		return unix.Timespec{Sec: t.Unix(), Nsec: int64(t.Nanosecond())}
	}
	return []unix.Timespec{when(it.Accessed), when(it.Modified)}
}

// file takes out a regular file, with its streams.
func (t *taker) file(d *dir, it fsys.Item, name, path string, f *fetched) error {
	if first, ok := t.links[identity{t.source, it.ID}]; ok && it.Links > 1 && it.ID != 0 {
		if err := t.again(d, it, first, name, path); err == nil {
			return nil
		}
	}
	if f == nil {
		f = &fetched{}
		f.contents, f.err = t.tree.Open(it, "")
	}
	if f.err != nil {
		return f.err
	}
	more := t.more(it, path)
	as, err := t.write(d, it, more, f, name, path)
	if err != nil {
		t.ahead.hurt.Store(true) // it may have been the reading
		return err
	}
	if it.Links > 1 && it.ID != 0 {
		t.links[identity{t.source, it.ID}] = d.below(as)
	}
	t.streams(d, it, more, as, path)
	return nil
}

// more gives what a listing doesn't; what can't be read is noted.
func (t *taker) more(it fsys.Item, path string) fsys.More {
	m, err := t.tree.More(it)
	if err != nil {
		t.r.left(path, fmt.Errorf("its attributes can't be read: %w", err))
	}
	return m
}

// again makes another name of a file that was taken out under a first one.
func (t *taker) again(d *dir, it fsys.Item, first, name, path string) error {
	joined := false
	_, err := t.place(d, name, path, func(name string, replace bool) error {
		if replace {
			return unix.EEXIST
		}
		return unix.Linkat(int(t.root.Fd()), first, d.fd(), name, 0)
	}, func(st *unix.Stat_t) bool {
		joined = sameFile(st, it)
		return joined
	})
	if err != nil {
		return err
	}
	if t.r.Files++; joined {
		t.r.Already++
	}
	return t.rc.Step(it.Size)
}

// sameFile says whether what is there is this file, taken out before: its time is set last, so it is whole.
func sameFile(st *unix.Stat_t, it fsys.Item) bool {
	const coarse = 2 * time.Second // the finest time that every destination keeps
	d := time.Unix(st.Mtim.Sec, st.Mtim.Nsec).Sub(it.Modified)
	return st.Mode&unix.S_IFMT == unix.S_IFREG && st.Size == it.Size && d < coarse && d > -coarse
}

// write writes contents under a passing name, dresses the file and gives it its own name.
func (t *taker) write(d *dir, it fsys.Item, more fsys.More, from *fetched, name, path string) (string, error) {
	temp, c := partial(name), from.contents
	var sum []byte
	joined := false
	as, err := t.place(d, name, path, func(name string, replace bool) error {
		if sum == nil {
			var err error
			if sum, err = t.fill(d, it, more, from, temp); err != nil {
				return err
			}
		}
		return settled(d.fd(), temp, name, replace)
	}, func(st *unix.Stat_t) bool {
		joined = sameFile(st, it)
		return joined
	})
	if err != nil {
		_ = unix.Unlinkat(d.fd(), temp, 0)
		return "", err
	}
	t.r.Files++
	t.r.gap(path, c)
	if joined {
		t.r.Already++
		return as, t.rc.Skip(it.Size)
	}
	return as, t.remember(written{d.below(as), path, c.Data(), c.Size(), sum})
}

// settled gives a whole file its own name.
func settled(dir int, temp, name string, replace bool) error {
	if replace {
		return unix.Renameat(dir, temp, dir, name)
	}
	err := unix.Renameat2(dir, temp, dir, name, unix.RENAME_NOREPLACE)
	if !errors.Is(err, unix.EINVAL) && !errors.Is(err, unix.ENOSYS) {
		return err
	}
	// Not every driver knows that way, and some mean the name by EINVAL; it was free just now.
	return unix.Renameat(dir, temp, dir, name)
}

// fill writes the contents into a new file and gives their hash: holes stay holes.
func (t *taker) fill(d *dir, it fsys.Item, more fsys.More, from *fetched, temp string) ([]byte, error) {
	fd, err := unix.Openat(d.fd(), temp, unix.O_CREAT|unix.O_TRUNC|unix.O_RDWR|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0o600)
	if err != nil {
		return nil, err
	}
	f := os.NewFile(uintptr(fd), temp)
	defer f.Close()
	c, plain, done := from.contents, from.plain, int64(0)
	h := blake3.New()
	for data := range c.Data().All() {
		for sp := range disk.Chunks(data, chunk) {
			b := t.buf[:sp.Len()]
			if from.sum != nil {
				b, plain = plain[:sp.Len()], plain[sp.Len():]
			} else if err := disk.ReadFull(c, b, sp.Start); err != nil {
				return nil, err
			} else {
				h.Write(b)
			}
			if _, err := f.WriteAt(b, sp.Start); err != nil {
				return nil, err
			}
			t.r.Bytes += sp.Len()
			if err := t.rc.Step(sp.End - done); err != nil {
				return nil, err
			}
			done = sp.End
		}
	}
	if err := t.rc.Step(c.Size() - done); err != nil {
		return nil, err
	}
	if err := f.Truncate(c.Size()); err != nil {
		return nil, err
	}
	t.dress(fd, it, more)
	if from.sum != nil {
		return from.sum, nil
	}
	return h.Sum(nil), nil
}

// dress gives a file or folder its owner, attributes, permissions and times, as far as the destination holds them. In
// this order: another owner clears bits and attributes, and who may not write may not set attributes either.
func (t *taker) dress(fd int, it fsys.Item, more fsys.More) {
	switch {
	case t.owner && unix.Fchown(fd, int(it.UID), int(it.GID)) != nil:
		t.r.lost("owners")
	case !t.owner && (it.UID != 0 || it.GID != 0) && (int(it.UID) != os.Geteuid() || int(it.GID) != os.Getegid()):
		t.r.lost("owners (only root can give files to others)")
	}
	for _, x := range more.XAttrs {
		if unix.Fsetxattr(fd, x.Name, x.Value, 0) != nil {
			if strings.HasPrefix(x.Name, "system.ntfs") {
				t.r.lost("access lists and other attributes of NTFS (an archive keeps them)")
				continue
			}
			kind, _, _ := strings.Cut(x.Name, ".")
			t.r.lost("extended attributes (" + kind + ")")
		}
	}
	mode := uint32(it.Mode.Perm())
	for bit, m := range map[fs.FileMode]uint32{fs.ModeSetuid: unix.S_ISUID, fs.ModeSetgid: unix.S_ISGID,
		fs.ModeSticky: unix.S_ISVTX} {
		if it.Mode&bit != 0 && t.owner { // without the owner these would mean something else
			mode |= m
		}
	}
	if unix.Fchmod(fd, mode) != nil {
		t.r.lost("permissions")
	}
	ts := stamps(it)
	// older kernels want a path
	if unix.UtimesNanoAt(fd, "", ts, unix.AT_EMPTY_PATH) != nil &&
		unix.UtimesNanoAt(unix.AT_FDCWD, fmt.Sprintf("/proc/self/fd/%d", fd), ts, 0) != nil {
		t.r.lost("times")
	}
}

// streams puts alternate streams beside an item.
func (t *taker) streams(d *dir, it fsys.Item, more fsys.More, as, path string) {
	if len(more.Streams) > 0 && t.o.NoStreams {
		t.r.left(path, errors.New("its alternate streams were left out"))
		return
	}
	for _, s := range more.Streams {
		at := path + ":" + s.Name
		c, err := t.tree.Open(it, s.Name)
		if err == nil {
			side := it
			side.Size, side.Mode = c.Size(), it.Mode.Perm()&^0o111|0o600
			_, err = t.write(d, side, fsys.More{}, &fetched{contents: c},
				strings.ReplaceAll(as+":"+s.Name, "/", "_"), at)
		}
		if err != nil {
			t.r.left(at, err)
		}
	}
}
