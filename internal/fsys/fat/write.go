package fat

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// ErrFull means that there isn't room for a file.
var ErrFull = errors.New("the FAT volume has no room for it")

// addition is files that are being added, as patches.
type addition struct {
	v *Volume
	// table holds the changed entries, free the clusters that may be taken.
	table   map[int64]uint32
	next    int64
	patches []disk.Patch
	// dirs are the changed directories' clusters as they will be, by where they stand.
	dirs map[int64][]byte
}

// CreateFile gives the patches that put a file with the given contents into the volume, with the directories on its
// way. Names must be of the 8.3 kind; a file that is there is an error, and so is a volume that isn't quiet.
func (v *Volume) CreateFile(name string, contents []byte, when time.Time) ([]disk.Patch, error) {
	if err := v.quiet(); err != nil {
		return nil, err
	}
	if _, err := fsys.Find(tree{v}, name); !errors.Is(err, fs.ErrNotExist) {
		if err == nil {
			err = fmt.Errorf("%s is there already", name)
		}
		return nil, err
	}
	a := &addition{v: v, table: map[int64]uint32{}, next: 2, dirs: map[int64][]byte{}}
	dir := entry{attr: attrDir}
	steps := strings.Split(name, "/")
	for _, step := range steps[:len(steps)-1] {
		all, err := a.list(dir)
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(all, func(e entry) bool { return strings.EqualFold(e.name, step) })
		if i >= 0 && all[i].attr&attrDir == 0 {
			return nil, fmt.Errorf("%s is a file, not a directory", step)
		}
		if i >= 0 {
			dir = all[i]
			continue
		}
		if dir, err = a.makeDir(dir, step, when); err != nil {
			return nil, err
		}
	}
	first, err := a.contents(name, contents)
	if err != nil {
		return nil, err
	}
	if err := a.enter(dir, steps[len(steps)-1], 0x20, first, int64(len(contents)), when); err != nil {
		return nil, err
	}
	return a.finish()
}

// AddToRoot gives the patches that put a new file into the root folder.
func (v *Volume) AddToRoot(name string, contents []byte, when time.Time) ([]disk.Patch, error) {
	if err := fsys.NewInRoot(v, name); err != nil {
		return nil, err
	}
	patches, err := v.CreateFile(name, contents, when)
	if errors.Is(err, ErrFull) {
		err = &fsys.Cant{Why: err.Error()}
	}
	return patches, err
}

// quiet says why nothing is put into the volume.
func (v *Volume) quiet() error {
	if v.info.Unclean != "" {
		return errors.New(v.info.Unclean)
	}
	return v.compareTables()
}

// contents takes clusters for a file's bytes, and gives the first.
func (a *addition) contents(name string, contents []byte) (first int64, err error) {
	v := a.v
	clusters, err := a.take((int64(len(contents)) + v.cluster - 1) / v.cluster)
	if err != nil {
		return 0, err
	}
	for i, c := range clusters {
		at := int64(i) * v.cluster
		b := make([]byte, v.cluster)
		copy(b, contents[at:])
		a.patches = append(a.patches, disk.Patch{Off: v.clusterAt(c), Data: b, Why: "contents of " + name})
	}
	if len(clusters) > 0 {
		first = clusters[0]
	}
	return first, nil
}

// ReplaceFile gives the patches that put other contents into a file that is there. They get clusters of their own, so
// that the file is the old one until its directory entry changes.
func (v *Volume) ReplaceFile(name string, contents []byte, when time.Time) ([]disk.Patch, error) {
	if err := v.quiet(); err != nil {
		return nil, err
	}
	item, err := fsys.Find(tree{v}, name)
	if err != nil {
		return nil, err
	}
	old, ok := item.Ref.(entry)
	if !ok || old.attr&attrDir != 0 || old.at == 0 {
		return nil, fmt.Errorf("%s is no file that can be replaced", name)
	}
	a := &addition{v: v, table: map[int64]uint32{}, next: 2, dirs: map[int64][]byte{}}
	first, err := a.contents(name, contents)
	if err != nil {
		return nil, err
	}
	if old.first != 0 {
		runs, err := v.chain(old.first)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		for _, run := range runs {
			for at := run.Start; at < run.End; at += v.cluster {
				a.table[(at-v.dataAt)/v.cluster+2] = 0
			}
		}
	}
	e := make([]byte, dirEntry)
	if err := disk.ReadFull(v.r, e, old.at); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	le.PutUint16(e[entClusterHi:], uint16(first>>16))
	le.PutUint16(e[entCluster:], uint16(first))
	le.PutUint32(e[entSize:], uint32(len(contents)))
	d, t := dosTime(when)
	le.PutUint16(e[entTime:], t)
	le.PutUint16(e[entDate:], d)
	a.patches = append(a.patches, disk.Patch{Off: old.at, Data: e, Why: "directory entry of " + name})
	return a.finish()
}

func (v *Volume) clusterAt(c int64) int64 { return v.dataAt + (c-2)*v.cluster }

// take finds n free clusters and chains them.
func (a *addition) take(n int64) ([]int64, error) {
	var out []int64
	for end := a.v.count + 2; int64(len(out)) < n && a.next < end; {
		to := min(a.next+tableChunk, end)
		entries, err := a.v.entries(a.v.active, a.next, to)
		if err != nil {
			return nil, err
		}
		for i, e := range entries {
			if c := a.next + int64(i); e == 0 && int64(len(out)) < n {
				out = append(out, c)
			}
		}
		if int64(len(out)) == n {
			to = out[n-1] + 1
		}
		a.next = to
	}
	if int64(len(out)) < n {
		return nil, fmt.Errorf("%w: it needs %d clusters of %d bytes", ErrFull, n, a.v.cluster)
	}
	for i, c := range out {
		if a.table[c] = 0x0FFFFFFF; i+1 < len(out) {
			a.table[c] = uint32(out[i+1])
		}
	}
	return out, nil
}

// list is readDir for a directory that may have been made just now.
func (a *addition) list(dir entry) ([]entry, error) {
	if a.made(dir) {
		return nil, nil // it is empty
	}
	return a.v.readDir(dir)
}

// made says whether a directory is one that is being added.
func (a *addition) made(dir entry) bool { return dir.first != 0 && a.table[dir.first] != 0 }

func (a *addition) makeDir(parent entry, name string, when time.Time) (entry, error) {
	c, err := a.take(1)
	if err != nil {
		return entry{}, err
	}
	b := make([]byte, a.v.cluster)
	a.fill(b, ".          ", attrDir, c[0], 0, when)
	a.fill(b[dirEntry:], "..         ", attrDir, parent.first, 0, when)
	a.dirs[a.v.clusterAt(c[0])] = b
	return entry{name: name, attr: attrDir, first: c[0]}, a.enter(parent, name, attrDir, c[0], 0, when)
}

// fill writes a directory entry.
func (a *addition) fill(e []byte, name string, attr byte, first, size int64, when time.Time) {
	le := binary.LittleEndian
	clear(e[:dirEntry])
	copy(e[:11], name)
	e[entAttr] = attr
	le.PutUint16(e[entClusterHi:], uint16(first>>16))
	le.PutUint16(e[entCluster:], uint16(first))
	le.PutUint32(e[entSize:], uint32(size))
	d, t := dosTime(when)
	le.PutUint16(e[entMadeTime:], t)
	le.PutUint16(e[entMadeDate:], d)
	le.PutUint16(e[entReadDate:], d)
	le.PutUint16(e[entTime:], t)
	le.PutUint16(e[entDate:], d)
}

// shortName is a name of at most eight letters and three as a directory entry holds it.
func shortName(name string) (string, error) {
	base, ext, _ := strings.Cut(strings.ToUpper(name), ".")
	if base == "" || len(base) > 8 || len(ext) > 3 ||
		strings.Trim(base+ext, "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-~") != "" {
		return "", fmt.Errorf("%q is not a name of the 8.3 kind", name)
	}
	return fmt.Sprintf("%-8s%-3s", base, ext), nil
}

// enter puts an entry into the first free place of a directory; a full one gets one more cluster.
func (a *addition) enter(dir entry, name string, attr byte, first, size int64, when time.Time) error {
	short, err := shortName(name)
	if err != nil {
		return err
	}
	var runs []span.Span
	if a.made(dir) {
		runs = []span.Span{span.At(a.v.clusterAt(dir.first), a.v.cluster)}
	} else if runs, err = a.v.dirRuns(dir); err != nil {
		return err
	}
	for _, run := range runs {
		for sp := range disk.Chunks(run.Shift(-run.Start), a.v.cluster) {
			sp = sp.Shift(run.Start)
			b := a.dirs[sp.Start]
			if b == nil {
				b = make([]byte, sp.Len())
				if err := disk.ReadFull(a.v.r, b, sp.Start); err != nil {
					return err
				}
			}
			for i := 0; i+dirEntry <= len(b); i += dirEntry {
				if b[i] == 0 || b[i] == entFree {
					a.fill(b[i:], short, attr, first, size, when)
					a.dirs[sp.Start] = b
					return nil
				}
			}
		}
	}
	if dir.first == 0 && a.v.bits != 32 {
		return fmt.Errorf("%w: the root directory is full", ErrFull)
	}
	c, err := a.take(1)
	if err != nil {
		return err
	}
	last := runs[len(runs)-1]
	a.table[(last.End-a.v.dataAt)/a.v.cluster+1] = uint32(c[0])
	b := make([]byte, a.v.cluster)
	a.fill(b, short, attr, first, size, when)
	a.dirs[a.v.clusterAt(c[0])] = b
	return nil
}

// finish turns what was collected into patches: table entries in every copy, directories, and the count of what is
// free.
func (a *addition) finish() ([]disk.Patch, error) {
	for at, b := range a.dirs {
		a.patches = append(a.patches, disk.Patch{Off: at, Data: b, Why: "directory"})
	}
	// Whole sectors of the table, so that entries that share bytes are changed together.
	const unit = 1536 // bytes: a whole number of entries of every width
	units := map[int64][]byte{}
	for c, val := range a.table {
		bits := int64(a.v.bits)
		n := c * bits / 8 / unit
		b := units[n]
		if b == nil {
			b = make([]byte, min(unit, a.v.fatSize-n*unit))
			if err := disk.ReadFull(a.v.r, b, a.v.fatAt+a.v.active*a.v.fatSize+n*unit); err != nil {
				return nil, err
			}
			units[n] = b
		}
		put(b, a.v.bits, c-n*unit*8/bits, val)
	}
	for n, b := range units {
		for i := range a.v.fats {
			if a.v.mirrored || i == a.v.active {
				a.patches = append(a.patches,
					disk.Patch{Off: a.v.fatAt + i*a.v.fatSize + n*unit, Data: b, Why: "allocation table"})
			}
		}
	}
	if err := a.count(); err != nil {
		return nil, err
	}
	return disk.SortPatches(a.patches, a.v.info.Size)
}

// put writes entry i of a stretch of the table that begins with entry 0.
func put(b []byte, bits int, i int64, val uint32) {
	le := binary.LittleEndian
	switch bits {
	case 12:
		at := i * 3 / 2
		old := le.Uint16(b[at:])
		if i%2 == 0 {
			le.PutUint16(b[at:], old&0xF000|uint16(val&0xFFF))
		} else {
			le.PutUint16(b[at:], old&0x000F|uint16(val&0xFFF)<<4)
		}
	case 16:
		le.PutUint16(b[2*i:], uint16(val))
	default:
		le.PutUint32(b[4*i:], le.Uint32(b[4*i:])&0xF0000000|val&0x0FFFFFFF)
	}
}

// count takes the new clusters from the free ones that FAT32's info sectors count.
func (a *addition) count() error {
	if a.v.bits != 32 {
		return nil
	}
	boot := make([]byte, 512)
	if err := disk.ReadFull(a.v.r, boot, 0); err != nil {
		return err
	}
	taken := int64(0)
	for c := range a.table {
		e, err := a.v.entries(a.v.active, c, c+1)
		if err != nil {
			return err
		}
		switch free := e[0] == 0; {
		case free && a.table[c] != 0:
			taken++
		case !free && a.table[c] == 0:
			taken--
		}
	}
	var c fsys.Change
	err := a.v.countFree(&c, boot, int64(binary.LittleEndian.Uint16(boot[bpbSector:])), -taken)
	a.patches = append(a.patches, c.Patches...)
	return err
}
