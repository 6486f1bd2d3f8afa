package workshop

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/inside"
	"twinshelf/internal/job"
	"twinshelf/internal/run"
	"twinshelf/internal/store/far"
	"twinshelf/internal/takeout"
)

// LookInto opens what an origin has: of a twin all its disks. Part numbers and paths are the same at every date.
func (w *looking) LookInto(ctx context.Context, o Origin) (*inside.Machine, error) {
	if o.Bench != nil {
		if o.Bench.Device == nil {
			return nil, fmt.Errorf("%s can't be read: %s", o.Bench.Path, o.Bench.Words())
		}
		in, err := inside.OfDisk(ctx, o.Title(), o.Bench.Device)
		if err != nil && ctx.Err() == nil {
			err = fmt.Errorf("%s: %w; %s", o.Bench.Path, err, bench.MayFail)
		}
		return in, err
	}
	if w.shelf() == nil {
		return nil, ErrNoShelf
	}
	return inside.OfTwin(ctx, w.shelf(), o.Twin)
}

// LookIntoPlan opens the planned disk of a pair, as it will be.
func LookIntoPlan(ctx context.Context, p *Pair) (*inside.Machine, error) {
	return inside.OfDisk(ctx, "the plan for "+disk.Sticker(p.Target.Identity), p.Plan.Disk)
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
	r = run.Start(ctx, title, takeout.Phases, nil, func(rc *run.Context) (err error) {
		k := job.Work{Sort: job.TakeOut, Title: title}
		for _, c := range choices[:min(len(choices), mostEntered)] {
			k.Does = append(k.Does, "takes out "+c.Path)
		}
		return w.onRecord(rc, k, func() error {
			switch {
			case to.Tar != nil:
				result, err = takeout.ToTar(rc, choices, to.Tar, to.Options)
			case to.Zip != nil:
				result, err = takeout.ToZip(rc, choices, to.Zip, to.Options)
			default:
				result, err = takeout.ToFolder(rc, choices, to.Folder, to.Options)
			}
			return err
		}, func(*job.Result) {})
	})
	return r, func() *takeout.Report { return result }, nil
}

// mayTakeInto refuses the shelf's own folder.
func (w *looking) mayTakeInto(folder string) error {
	if w.shelf() == nil || far.Is(w.shelf().Place()) {
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
