package startup

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/startup/image"
	"twinshelf/internal/startup/script"
	"twinshelf/internal/table"
	"twinshelf/internal/units"
)

const (
	maxLinks   = 16      // links on the way to a file
	maxMenu    = 4 << 20 // bytes of a file that a menu's script reads
	memdisk    = "memdisk"
	unreadDisk = "hd1" // stands for whatever isn't on this disk, or isn't read here
)

// stand is the disk as a loader's script sees it.
type stand struct {
	c        *checker
	g        *image.Grub
	platform string // folder of the loader's modules
	inside   fs.FS  // what the loader carries; nil when nothing
}

func (c *checker) standFor(g *image.Grub, platform string) *stand {
	s := &stand{c: c, g: g, platform: platform}
	if g != nil && len(g.Memdisk) > 0 {
		s.inside = carried(c.ctx, g.Memdisk)
	}
	return s
}

// carried opens what a loader carries: a file system, or an archive.
func carried(ctx context.Context, b []byte) fs.FS {
	d := &disk.Memory{Bytes: b, Sector: 512, ID: disk.Identity{Size: int64(len(b)), Sector: 512}}
	if v, err := families.Identify(ctx, d, d.Size(), 512); err == nil {
		if tree, err := fsys.TreeOf(v); err == nil {
			return fsys.FS(tree)
		}
	}
	out := archived{}
	for r := tar.NewReader(bytes.NewReader(b)); len(out) < maxListed; {
		h, err := r.Next()
		if err != nil {
			break
		}
		body, err := io.ReadAll(io.LimitReader(r, maxMenu))
		if err == nil && h.Typeflag == tar.TypeReg {
			out[path.Clean(strings.TrimPrefix(h.Name, "/"))] = body
		}
	}
	return out
}

// archived is the files of an archive by their paths.
type archived map[string][]byte

func (a archived) Open(name string) (fs.File, error) {
	b, ok := a[name]
	if !ok {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return &archivedFile{Reader: bytes.NewReader(b), size: int64(len(b))}, nil
}

type archivedFile struct {
	*bytes.Reader
	size int64
}

func (f *archivedFile) Close() error               { return nil }
func (f *archivedFile) Stat() (fs.FileInfo, error) { return nil, fs.ErrInvalid }

// Read gives a file of the disk to a script.
func (s *stand) Read(device, name string) ([]byte, error) {
	if device == memdisk {
		if s.inside == nil {
			return nil, fs.ErrNotExist
		}
		return readFile(s.inside, relative(name), maxMenu)
	}
	p := s.c.partOf(device)
	if p == nil {
		return nil, s.c.noPart(device)
	}
	if why := s.cant(p); why != "" {
		return nil, errors.New(why)
	}
	return p.read(name, maxMenu)
}

// cant says which module a loader lacks to read a part: it needs one for the table and one for the file system, in
// itself, or in a folder that it can read.
func (s *stand) cant(p *part) string {
	if s.g == nil || p.volume == nil {
		return ""
	}
	needs := []string{map[table.Kind]string{table.GPT: "part_gpt", table.MBR: "part_msdos",
		table.APM: "part_apple"}[s.c.t.Kind]}
	if v, ok := p.volume.(fsys.LoaderRead); ok {
		needs = append(needs, v.LoaderModule())
	}
	for _, module := range needs {
		if module != "" && !slices.Contains(s.g.Modules, module) && !s.beside(module, needs[0]) {
			return "the loader has no module " + module + " to read it"
		}
	}
	return ""
}

// beside says whether a module lies in a folder of modules on a part that the loader can read without it.
func (s *stand) beside(module, forTable string) bool {
	if !slices.Contains(s.g.Modules, forTable) {
		return false
	}
	for i := range s.c.parts {
		p := &s.c.parts[i]
		if p.files == nil {
			continue
		}
		v, ok := p.volume.(fsys.LoaderRead)
		if !ok || !slices.Contains(s.g.Modules, v.LoaderModule()) {
			continue
		}
		for _, dir := range moduleFolders {
			if _, err := p.resolve(dir + s.platform + "/" + module + ".mod"); err == nil {
				return true
			}
		}
	}
	return false
}

// noPart is why a device can't be found: it isn't on this disk, or nobody can tell.
func (c *checker) noPart(device string) error {
	if device == "hd0" || strings.HasPrefix(device, "hd0,") {
		return fs.ErrNotExist
	}
	return script.ErrUnread
}

// relative is a path from the root on as io/fs has it.
func relative(name string) string {
	name = strings.TrimPrefix(path.Clean("/"+strings.ReplaceAll(name, "\\", "/")), "/")
	if name == "" {
		return "."
	}
	return name
}

// read reads a file of at most so many bytes, through links.
func (p *part) read(name string, most int64) ([]byte, error) {
	f, err := p.open(name)
	if err != nil {
		return nil, err
	}
	return drained(f, name, most)
}

// drained reads an open file of at most so many bytes, and closes it.
func drained(f fs.File, name string, most int64) ([]byte, error) {
	defer f.Close()
	return limited(f, name, most)
}

// limited reads all of at most so many bytes.
func limited(r io.Reader, name string, most int64) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(b)) > most {
		err = fmt.Errorf("%s is larger than %s", name, units.Bytes(most))
	}
	return b, err
}

// open opens a file by its path, through links. What holds it may be something that isn't read here: script.ErrUnread.
func (p *part) open(name string) (fs.File, error) {
	at, err := p.resolve(relative(name))
	if err != nil {
		return nil, err
	}
	return p.files.Open(at)
}

// resolve follows the links on a path. What holds it may be something that isn't read here: script.ErrUnread.
func (p *part) resolve(name string) (string, error) {
	if p.files == nil {
		return "", script.ErrUnread
	}
	done, todo, links := ".", strings.Split(name, "/"), 0
	for len(todo) > 0 {
		next := path.Join(done, todo[0])
		todo = todo[1:]
		if strings.HasPrefix(next, "..") {
			next = "."
		}
		st, err := fs.Lstat(p.files, next)
		if err != nil {
			return "", err
		}
		if st.Mode().Type() != fs.ModeSymlink {
			done = next
			continue
		}
		to, err := fs.ReadLink(p.files, next)
		if links++; err != nil || links > maxLinks {
			return "", errors.Join(fs.ErrInvalid, err)
		}
		if path.IsAbs(to) {
			done, to = ".", strings.TrimPrefix(to, "/")
		}
		todo = append(strings.Split(to, "/"), todo...)
	}
	return done, nil
}

// partOf finds the part that a script names by its device: hd0,gpt2, hd0,msdos2 or hd0,2.
func (c *checker) partOf(device string) *part {
	disk, name, ok := strings.Cut(device, ",")
	if !ok || disk != "hd0" {
		return nil
	}
	n, err := strconv.Atoi(strings.TrimPrefix(strings.TrimPrefix(name, "gpt"), "msdos"))
	i := slices.IndexFunc(c.parts, func(p part) bool { return err == nil && p.Number == n })
	if i < 0 {
		return nil
	}
	return &c.parts[i]
}

// deviceOf is what a script calls a part.
func (c *checker) deviceOf(p *part) string {
	if c.t.Kind == table.MBR {
		return fmt.Sprintf("hd0,msdos%d", p.Number)
	}
	return fmt.Sprintf("hd0,gpt%d", p.Number)
}

// Search finds a part by the identity or label of its file system, or by a file.
func (s *stand) Search(by, value string) (string, bool) {
	c := s.c
	for i := range c.parts {
		p := &c.parts[i]
		if p.volume == nil {
			continue
		}
		info := p.volume.Info()
		if s.cant(p) != "" {
			continue
		}
		found := by == "uuid" && strings.EqualFold(info.ID, value) || by == "label" && info.Label == value
		if by == "file" && p.files != nil {
			_, err := p.open(value)
			found = err == nil
		}
		if found {
			return c.deviceOf(p), true
		}
	}
	elsewhere := slices.ContainsFunc(c.o.Elsewhere, func(id string) bool { return strings.EqualFold(id, value) })
	if elsewhere || c.unread() {
		return unreadDisk, true
	}
	return "", false
}

// Command says whether the loader knows a command: its module is in it, or beside its menu.
func (s *stand) Command(name, prefix string) bool {
	if s.g == nil {
		return true
	}
	module := strings.TrimSuffix(name, "efi")
	if slices.Contains(s.g.Modules, module) || slices.Contains(s.g.Modules, name) {
		return true
	}
	device, dir, _ := strings.Cut(strings.TrimPrefix(prefix, "("), ")")
	_, err := s.Read(device, dir+"/"+s.platform+"/"+module+".mod")
	return err == nil || errors.Is(err, script.ErrUnread)
}

// unread says whether some part holds a system that isn't read here.
func (c *checker) unread() bool {
	return len(c.inner) > 0 || slices.ContainsFunc(c.parts, func(p part) bool {
		return p.volume != nil && p.volume.Info().Opaque != "" || p.volume == nil && p.why != "" &&
			p.Type != table.TypeBIOSBoot && p.Type != table.TypeMSReserved
	})
}
