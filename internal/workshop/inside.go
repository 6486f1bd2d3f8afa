package workshop

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/inside"
	"twinshelf/internal/names"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/takeout"
)

// Inside is a machine at a date, or an attached or planned disk, to be looked into.
type Inside struct {
	Title string
	Twin  *shelf.Twin // nil unless it is one
	Disks int
	Parts []*inside.Part
}

// LookInto opens what an origin has: of a twin all its disks. Part numbers and paths are the same at every date.
func (w *looking) LookInto(ctx context.Context, o Origin) (*Inside, error) {
	if o.Bench != nil {
		if o.Bench.Device == nil {
			return nil, fmt.Errorf("%s can't be read: %s", o.Bench.Path, o.Bench.Words())
		}
		return lookAt(ctx, o.Title(), o.Bench.Device)
	}
	if w.shelf() == nil {
		return nil, ErrNoShelf
	}
	in := &Inside{Title: o.Twin.Machine, Twin: o.Twin, Disks: len(o.Twin.Disks)}
	for i := range o.Twin.Disks {
		d, err := w.shelf().OpenDisk(ctx, o.Twin, i)
		if err != nil {
			return nil, err
		}
		parts, err := inside.Parts(ctx, d, i)
		if err != nil {
			return nil, err
		}
		in.Parts = append(in.Parts, parts...)
	}
	inside.Join(in.Parts)
	return in, nil
}

// LookIntoPlan opens the planned disk of a pair, as it will be.
func LookIntoPlan(ctx context.Context, p *Pair) (*Inside, error) {
	return lookAt(ctx, "planned for "+disk.Sticker(p.Target.Identity), p.Plan.Disk)
}

func lookAt(ctx context.Context, title string, d disk.Device) (*Inside, error) {
	parts, err := inside.Parts(ctx, d, 0)
	if err != nil {
		return nil, err
	}
	inside.Join(parts)
	return &Inside{Title: title, Disks: 1, Parts: parts}, nil
}

// Part finds a part by numbers from 1; disk 0 means any.
func (in *Inside) Part(diskNo, number int) (*inside.Part, error) {
	var found []*inside.Part
	for _, p := range in.Parts {
		if p.Number == number && (diskNo == 0 || p.Disk == diskNo-1) {
			found = append(found, p)
		}
	}
	switch {
	case len(found) == 1:
		return found[0], nil
	case len(found) == 0:
		return nil, fmt.Errorf("there is no part %d; these are there: %s", number, in.names())
	}
	return nil, fmt.Errorf("part %d is on more than one disk: write it as DISK.%d", number, number)
}

func (in *Inside) names() string {
	var out []string
	for _, p := range in.Parts {
		out = append(out, p.Label("", in.Disks)+" "+p.Name())
	}
	return strings.Join(out, "; ")
}

// Resolve finds what a path leads to, and gives it as the volume writes it. Without a part in front it is looked for in
// all of them.
func (in *Inside) Resolve(ctx context.Context, text string) (*inside.Part, fsys.Item, string, error) {
	where := inside.ParseWhere(text)
	if where.Part > 0 {
		p, err := in.Part(where.Disk, where.Part)
		if err != nil {
			return nil, fsys.Item{}, "", err
		}
		it, at, err := locate(ctx, p, where.Path)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, it, "", &NotThere{p.Label(where.Path, in.Disks) + " isn't there"}
		}
		if err != nil {
			return nil, it, "", fmt.Errorf("%s: %w", p.Label(where.Path, in.Disks), err)
		}
		return p, it, at, nil
	}
	var found []*inside.Part
	var item fsys.Item
	var path string
	var problem error
	for _, p := range in.Parts {
		it, at, err := locate(ctx, p, where.Path)
		if err == nil {
			found, item, path = append(found, p), it, at
		} else if !errors.Is(err, fs.ErrNotExist) && !errors.As(err, new(*fsys.Unreadable)) {
			problem = err
		}
	}
	switch {
	case len(found) == 1:
		return found[0], item, path, nil
	case len(found) > 1 && where.Path == ".":
		return nil, item, "", fmt.Errorf("say which part: %s", in.names())
	case len(found) > 1:
		return nil, item, "", fmt.Errorf("%s is in %d parts: write the part in front, as %s", where.Path, len(found),
			found[0].Label(where.Path, in.Disks))
	case problem != nil:
		return nil, item, "", problem
	}
	return nil, item, "", &NotThere{fmt.Sprintf("%s isn't there; parts are %s", where.Path, in.names())}
}

// NotThere means that a date or disk has no item by a name; the text says more.
type NotThere struct{ text string }

func (n *NotThere) Error() string { return n.text }

const mostLooked = 100 // other dates that are looked at

// Having finds the newest other date of the machine that has an item; nil when there is none.
func (w *looking) Having(ctx context.Context, in *Inside, text string) *shelf.Twin {
	if in.Twin == nil || w.shelf() == nil {
		return nil
	}
	twins, _ := w.shelf().Twins(ctx)
	twins = slices.DeleteFunc(twins, func(t *shelf.Twin) bool {
		return t.Machine != in.Twin.Machine || t.ID == in.Twin.ID
	})
	slices.SortFunc(twins, func(a, b *shelf.Twin) int { return b.Taken.Compare(a.Taken) })
	for _, t := range twins[:min(len(twins), mostLooked)] {
		if ctx.Err() != nil {
			return nil
		}
		other, err := w.LookInto(ctx, Origin{Twin: t})
		if err != nil {
			continue
		}
		if _, _, _, err := other.Resolve(ctx, text); err == nil {
			return t
		}
	}
	return nil
}

func locate(ctx context.Context, p *inside.Part, path string) (fsys.Item, string, error) {
	t, err := p.Tree(ctx)
	if err != nil {
		return fsys.Item{}, "", err
	}
	return fsys.Locate(t, path)
}

// Library is that of the open shelf.
func (w *looking) Library() (*inside.Library, error) {
	if w.shelf() == nil {
		return nil, ErrNoShelf
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.library == nil || w.libraryOf != w.shelf() {
		w.library, w.libraryOf = inside.NewLibrary(w.shelf(), Tool()), w.shelf()
	}
	return w.library, nil
}

// History follows an item of a twin over the dates of its machine, oldest first. Of a twin that can't be read only the
// ID and the time are there, and why nobody knows.
func (w *looking) History(ctx context.Context, machine string, p *inside.Part, path string) ([]inside.Sight, error) {
	lib, err := w.Library()
	if err != nil {
		return nil, err
	}
	twins, _ := w.shelf().Twins(ctx)
	unread, err := w.shelf().Unread(ctx, machine, twins)
	if err != nil {
		return nil, err
	}
	twins = slices.DeleteFunc(twins, func(t *shelf.Twin) bool { return t.Machine != machine })
	slices.Reverse(twins) // newest first, as they are listed
	sights, err := lib.History(ctx, twins, p.Key(), p.Disk, p.Number, path)
	if err != nil {
		return nil, err
	}
	for _, id := range unread {
		sights = append(sights, inside.Sight{Twin: &shelf.Twin{ID: id, Machine: machine, Taken: shelf.TakenOf(id)},
			Why: "the description of the twin can't be read; \"twinshelf shelf check --mend\" may mend it"})
	}
	slices.SortStableFunc(sights, func(a, b inside.Sight) int { return a.Twin.Taken.Compare(b.Twin.Taken) })
	return sights, nil
}

// SettleVersions looks at the contents where a version has the size of the one before and only its time or identity
// differs, and counts equal ones as one version. Files of more than most bytes are left as they are.
func (w *looking) SettleVersions(ctx context.Context, p *inside.Part, path string, sights []inside.Sight,
	most int64) error {
	was, fewer := 0, 0 // the version before as it was counted, and how many turned out to be none
	for i := range sights {
		s := &sights[i]
		now := s.Version
		if i > 0 && now > was && was > 0 && alike(sights[i-1], *s) && s.Entry.Size <= most {
			if w.sameAt(ctx, p, path, sights[i-1].Twin, s.Twin) {
				fewer++
			}
			if ctx.Err() != nil {
				return ctx.Err()
			}
		}
		if s.There {
			was = now
			s.Version -= fewer
		} else {
			was = 0
		}
	}
	return nil
}

// alike says whether an item was a file of the same size at two dates.
func alike(a, b inside.Sight) bool {
	return a.There && a.Entry.Kind == names.File && b.Entry.Kind == names.File && a.Entry.Size == b.Entry.Size
}

// sameAt says whether a file is known to have had the same contents at two dates.
func (w *looking) sameAt(ctx context.Context, p *inside.Part, path string, before, after *shelf.Twin) bool {
	a, err := w.openAt(ctx, p, path, before)
	if err != nil {
		return false
	}
	b, err := w.openAt(ctx, p, path, after)
	if err != nil {
		return false
	}
	same, err := inside.SameContents(ctx, a, b)
	return err == nil && same
}

// openAt opens a file of a part as it was in a twin.
func (w *looking) openAt(ctx context.Context, p *inside.Part, path string, t *shelf.Twin) (*inside.Opened, error) {
	in, err := w.LookInto(ctx, Origin{Twin: t})
	if err != nil {
		return nil, err
	}
	same := in.Same(p)
	if same == nil {
		return nil, fs.ErrNotExist
	}
	return same.Open(ctx, path)
}

// PartDifference is what differs in one part.
type PartDifference struct {
	Part *inside.Part // of the newer side
	Why  string       // why nothing can be told
	All  []names.Difference
}

// CompareInside gives what differs between two machines' contents, part by part. A path limits it to one folder of one
// part.
func (w *looking) CompareInside(ctx context.Context, before, after *Inside, only *inside.Part,
	folder string) ([]PartDifference, error) {
	var out []PartDifference
	for _, p := range after.Parts {
		if only != nil && p != only {
			continue
		}
		d := PartDifference{Part: p}
		was := before.Same(p)
		if was == nil {
			d.Why = "the other side has no such part"
			out = append(out, d)
			continue
		}
		a, err := w.indexOf(ctx, before, was)
		var b *names.Index
		if err == nil {
			b, err = w.indexOf(ctx, after, p)
		}
		if err == nil {
			d.All, err = names.Compare(ctx, a, b, folder)
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			d.Why = err.Error()
		}
		out = append(out, d)
	}
	return out, nil
}

// Same is the part that is the same one as p of another date or disk; nil when there is none.
func (in *Inside) Same(p *inside.Part) *inside.Part {
	var atPlace *inside.Part
	for _, o := range in.Parts {
		if o.Key() == p.Key() {
			return o
		}
		if o.Disk == p.Disk && o.Number == p.Number {
			atPlace = o
		}
	}
	return atPlace
}

// indexOf gives the index of a part: that of the shelf, or one made now.
func (w *looking) indexOf(ctx context.Context, in *Inside, p *inside.Part) (*names.Index, error) {
	if in.Twin != nil {
		lib, err := w.Library()
		if err != nil {
			return nil, err
		}
		all, err := lib.Of(ctx, in.Twin)
		if err != nil {
			return nil, err
		}
		for _, l := range all {
			if l.Disk == p.Disk && l.Part == p.Number {
				if l.Index == nil {
					return nil, errors.New(l.Why)
				}
				return l.Index, nil
			}
		}
		return nil, errors.New("the part has no index")
	}
	t, err := p.Tree(ctx)
	if err != nil {
		return nil, err
	}
	m := &names.Memory{}
	made, err := names.Make(ctx, t, m)
	if err != nil {
		return nil, err
	}
	return names.Open(ctx, m, made.Keys)
}

// ConfirmDifferences settles which of the differences that are unsure are real, by looking at the contents.
func ConfirmDifferences(ctx context.Context, before *Inside, d *PartDifference) error {
	was := before.Same(d.Part)
	var out []names.Difference
	for _, x := range d.All {
		if x.Unsure && x.New.Kind == names.File && was != nil {
			same, known := sameIn(ctx, was, d.Part, x.Path)
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if same {
				continue
			}
			x.Unsure = x.Unsure && !known
		}
		out = append(out, x)
	}
	d.All = out
	return nil
}

// sameIn says whether a file has the same contents in two parts; known is false when that can't be told.
func sameIn(ctx context.Context, before, after *inside.Part, path string) (same, known bool) {
	a, err := before.Open(ctx, path)
	if err != nil {
		return false, false
	}
	b, err := after.Open(ctx, path)
	if err != nil {
		return false, false
	}
	same, err = inside.SameContents(ctx, a, b)
	return same, err == nil
}

// Taking is where things that are taken out go.
type Taking struct {
	takeout.Options
	Folder   string
	Tar, Zip io.Writer // instead of a folder
}

// StartTake takes items out.
func (w *looking) StartTake(ctx context.Context, title string, choices []takeout.Choice,
	to Taking) (r *run.Run, report func() *takeout.Report, err error) {
	if to.Folder != "" {
		if err := w.mayTakeInto(to.Folder); err != nil {
			return nil, nil, err
		}
	}
	var result *takeout.Report
	r = run.Start(ctx, title, takeout.Phases, 0, func(rc *run.Context) (err error) {
		switch {
		case to.Tar != nil:
			result, err = takeout.ToTar(rc, choices, to.Tar, to.Options)
		case to.Zip != nil:
			result, err = takeout.ToZip(rc, choices, to.Zip, to.Options)
		default:
			result, err = takeout.ToFolder(rc, choices, to.Folder, to.Options)
		}
		return err
	})
	return r, func() *takeout.Report { return result }, nil
}

// mayTakeInto refuses the shelf's own folder.
func (w *looking) mayTakeInto(folder string) error {
	if w.shelf() == nil {
		return nil
	}
	into, err1 := filepath.Abs(folder)
	place, err2 := filepath.Abs(w.shelf().Place())
	if rel, err := filepath.Rel(place, into); err1 == nil && err2 == nil && err == nil && rel != ".." &&
		!strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
		return &disk.Refusal{Disk: "the folder " + folder, Reason: "it belongs to the open shelf",
			Remedy: "take it out to another one"}
	}
	return nil
}

// ChoiceOf makes a choice of an item of a part.
func ChoiceOf(ctx context.Context, p *inside.Part, it fsys.Item, path string) (takeout.Choice, error) {
	t, err := p.Tree(ctx)
	c := takeout.Choice{Tree: t, Item: it, Path: path, Source: p}
	if path == "." {
		c.Name = strings.Map(func(r rune) rune {
			if r == '/' || r < ' ' {
				return '_'
			}
			return r
		}, p.Name())
	}
	return c, err
}

// Tag is what marks things of a date that are kept beside others.
func (in *Inside) Tag() string {
	if in.Twin != nil {
		return in.Twin.Taken.Format("2006-01-02")
	}
	return time.Now().Format("2006-01-02")
}
