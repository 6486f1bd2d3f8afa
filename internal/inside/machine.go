package inside

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/shelf"
)

// Machine is a machine at a date, or an attached or planned disk, to be looked into.
type Machine struct {
	Title string
	Twin  *shelf.Twin // nil unless it is one
	Disks int
	Parts []*Part
}

// OfTwin opens all disks of a twin. Part numbers and paths are the same at every date.
func OfTwin(ctx context.Context, s *shelf.Shelf, t *shelf.Twin) (*Machine, error) {
	in := &Machine{Title: t.Machine, Twin: t, Disks: len(t.Disks)}
	for i := range t.Disks {
		d, err := s.OpenDisk(ctx, t, i)
		if err != nil {
			return nil, err
		}
		parts, err := Parts(ctx, d, i)
		if err != nil {
			return nil, err
		}
		in.Parts = append(in.Parts, parts...)
	}
	Join(in.Parts)
	return in, nil
}

// OfDisk opens one disk.
func OfDisk(ctx context.Context, title string, d disk.Device) (*Machine, error) {
	parts, err := Parts(ctx, d, 0)
	if err != nil {
		return nil, err
	}
	Join(parts)
	return &Machine{Title: title, Disks: 1, Parts: parts}, nil
}

// Part finds a part by numbers from 1; disk 0 means any.
func (in *Machine) Part(diskNo, number int) (*Part, error) {
	var found []*Part
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

func (in *Machine) names() string {
	var out []string
	for _, p := range in.Parts {
		out = append(out, p.Label("", in.Disks)+" "+p.Name())
	}
	return strings.Join(out, "; ")
}

// Resolve finds what a path leads to, and gives it as the volume writes it. Without a part in front it is looked for in
// all of them.
func (in *Machine) Resolve(ctx context.Context, text string) (*Part, fsys.Item, string, error) {
	where := ParseWhere(text)
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
	var found []*Part
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

func locate(ctx context.Context, p *Part, path string) (fsys.Item, string, error) {
	t, err := p.Tree(ctx)
	if err != nil {
		return fsys.Item{}, "", err
	}
	return fsys.Locate(t, path)
}

// Tag is what marks things of a date that are kept beside others.
func (in *Machine) Tag() string {
	if in.Twin != nil {
		return in.Twin.Taken.Format("2006-01-02")
	}
	return time.Now().Format("2006-01-02")
}
