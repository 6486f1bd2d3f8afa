package workshop

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"time"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/mounts"
	"twinshelf/internal/settings"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store/backend"
	"twinshelf/internal/survey"
)

// FoundShelf is a shelf that was found on an attached drive.
type FoundShelf struct {
	ID, Name string
	// Folder is where it can be opened, Drive the sticker of its drive, or where a far one lies.
	Folder, Drive string
	Sealed        bool
	Far           bool // it lies far away; its Twins are those that it had when it was open last
	Twins         int
	// Mine are its twins of disks that are attached here, Newest the date of the newest of them. A sealed shelf doesn't
	// tell.
	Mine   int
	Newest time.Time
}

// mostFolders is how many folders of a part are looked into for a shelf.
const mostFolders = 500

// FindShelves looks for shelves on a probed disk, in the uppermost folder of each part and in the folders in it, and
// mounts a part that has some: read-only, until something is written to one of them. here are the disks whose twins are
// counted. It is for machines that were started from a stick: elsewhere the system mounts drives.
func (w *shelves) FindShelves(ctx context.Context, d *bench.Disk, here []*bench.Disk) ([]FoundShelf, error) {
	if d.Survey == nil || d.Image {
		return nil, nil
	}
	var out []FoundShelf
	var problems error
	for i := range d.Survey.Areas {
		a := &d.Survey.Areas[i]
		drivers := fsys.DriversOf(a.Content.Volume)
		if len(drivers) == 0 {
			continue
		}
		folders := shelfFolders(ctx, a)
		if len(folders) == 0 {
			continue
		}
		point, err := pointOf(d, a, drivers)
		if err != nil {
			problems = errors.Join(problems, err)
			continue
		}
		for _, f := range folders {
			found, err := w.foundAt(ctx, filepath.Join(point, f), d, here)
			if err != nil {
				problems = errors.Join(problems, err)
				continue
			}
			out = append(out, *found)
		}
	}
	return out, problems
}

// shelfFolders are the folders of a part that look like shelves, as far as its folders can be read.
func shelfFolders(ctx context.Context, a *survey.Area) (out []string) {
	tree, err := fsys.TreeOf(a.Content.Volume)
	if err != nil {
		return nil
	}
	files := fsys.FS(tree)
	dirs := []string{"."}
	entries, _ := fs.ReadDir(files, ".")
	for _, e := range entries[:min(len(entries), mostFolders)] {
		if e.IsDir() {
			dirs = append(dirs, e.Name())
		}
	}
	for _, dir := range dirs {
		if ctx.Err() == nil && shelf.LooksLike(files, path.Clean(dir)) {
			out = append(out, dir)
		}
	}
	return out
}

// pointOf is where a part is mounted; it is mounted where it isn't.
func pointOf(d *bench.Disk, a *survey.Area, drivers []fsys.Driver) (point string, err error) {
	p := mounts.Part{Disk: d.Path, Span: a.Span, Kind: a.Content.Info.Kind, Drivers: slices.Clone(drivers),
		Label: a.Content.Info.Label}
	err = mounts.Alone(MountBase, func() (err error) { // the screen is on more than one console
		if point = mounts.PointOf(p); point == "" {
			point, err = mounts.Shelf(MountBase, p)
		}
		return err
	})
	return point, err
}

// foundAt describes the shelf in a folder, and remembers where it is.
func (w *shelves) foundAt(ctx context.Context, dir string, d *bench.Disk, here []*bench.Disk) (*FoundShelf, error) {
	id, err := shelf.IDOf(ctx, dir)
	if err != nil {
		return nil, err
	}
	sealed, err := shelf.IsSealed(ctx, dir)
	if err != nil {
		return nil, err
	}
	f := &FoundShelf{ID: id, Folder: dir, Drive: disk.Sticker(d.Identity), Sealed: sealed, Name: filepath.Base(dir)}
	if k := w.remembered(id); k != nil {
		f.Name, f.Twins = k.Name, k.Twins
	}
	if sealed {
		return f, w.amendPath(id, dir)
	}
	s, err := openAt(ctx, w.FarAsks, dir, nil)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	f.Name = s.Head().Name
	twins, _ := s.Twins(ctx) // what can't be read is said where the shelf is shown
	f.Twins = len(twins)
	for _, t := range twins {
		if slices.ContainsFunc(t.Disks, func(x shelf.TwinDisk) bool { return isHere(x.Identity, here) }) {
			f.Mine++
			if t.Taken.After(f.Newest) {
				f.Newest = t.Taken
			}
		}
	}
	return f, w.Remember(ctx, s)
}

// isHere says whether a disk is among the attached ones, by its sticker.
func isHere(id disk.Identity, here []*bench.Disk) bool {
	return id.Serial != "" && slices.ContainsFunc(here, func(d *bench.Disk) bool {
		return d.Identity.Serial == id.Serial && d.Identity.Model == id.Model
	})
}

// remembered is what is remembered of a shelf; nil for nothing.
func (w *shelves) remembered(id string) *settings.Known {
	w.mu.Lock()
	defer w.mu.Unlock()
	i := slices.IndexFunc(w.State.Shelves, func(k settings.Known) bool { return k.ID == id })
	if i < 0 {
		return nil
	}
	k := w.State.Shelves[i]
	return &k
}

// amendPath notes where a shelf is that was open here before.
func (w *shelves) amendPath(id, dir string) error {
	k := w.remembered(id)
	if k == nil || k.Path == dir {
		return nil
	}
	k.Path = dir
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.State.Remember(*k, false)
}

// LetGo takes away what was mounted from drives that are gone, which may take a while, and says whether the open shelf
// was on one: nil, or that shelf, which CloseLost closes.
func (w *shelves) LetGo(ctx context.Context) (lost *shelf.Shelf) {
	mounts.LetGo(MountBase) // another console may have been first: what counts is whether the shelf is there
	s := w.shelf()
	if s == nil || !within(s.Place(), MountBase) {
		return nil
	}
	if id, err := shelf.IDOf(ctx, s.Place()); err == nil && id == s.Head().ID {
		return nil
	}
	return s
}

// CloseLost closes the open shelf where it is the one that was lost, and says whether it was.
func (w *shelves) CloseLost(lost *shelf.Shelf) bool {
	if lost == nil || w.shelf() != lost {
		return false
	}
	w.shelfMu.Lock()
	w.Shelf = nil
	w.shelfMu.Unlock()
	w.Bench.SetShelves()
	lost.Close()
	return true
}

// within says whether a path is a folder or in it.
func within(name, folder string) bool {
	rel, err := filepath.Rel(folder, name)
	return err == nil && filepath.IsLocal(rel)
}

// ground is where the objects of a shelf lie that is in a folder. What was mounted here read-only is made writable when
// something is written.
func ground(dir string) backend.Backend {
	if !within(dir, MountBase) {
		return backend.InFolder(dir)
	}
	rel, err := filepath.Rel(MountBase, dir)
	if err != nil {
		return backend.InFolder(dir)
	}
	point := filepath.Join(MountBase, firstOf(rel))
	return backend.InFolderOnDemand(dir, func(context.Context) error { return mounts.Thaw(point) })
}

// firstOf is the first step of a path.
func firstOf(name string) string {
	for dir := path.Dir(name); dir != "."; dir = path.Dir(name) {
		name = dir
	}
	return name
}
