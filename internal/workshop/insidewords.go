package workshop

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"twinshelf/internal/inside"
	"twinshelf/internal/keeping"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

const (
	mostDisks = 40
	mostFiles = 40
)

// damagedFiles names the files that damage of the shelf belongs to.
func damagedFiles(ctx context.Context, w *room, rep *keeping.Report) []string {
	type place struct {
		twin string
		disk int
	}
	where := map[place]*span.Set{}
	var order []keeping.Damage
	for _, d := range rep.Damage {
		p := place{d.Twin, d.Disk}
		if where[p] == nil {
			where[p] = &span.Set{}
			order = append(order, d)
		}
		where[p].Add(d.Span)
	}
	var out []string
	for i, d := range order {
		if i == mostDisks || ctx.Err() != nil {
			return append(out, fmt.Sprintf("… and those of %d more disks", len(order)-i))
		}
		t, err := w.shelf().Find(ctx, d.Twin)
		if err != nil {
			continue
		}
		dev, err := w.shelf().OpenDisk(ctx, t, d.Disk-1)
		if err != nil {
			continue
		}
		touched, err := inside.FilesIn(ctx, dev, *where[place{d.Twin, d.Disk}])
		if err != nil {
			continue
		}
		out = append(out, fmt.Sprintf("%s, twin of %s, disk %d: %s", d.Machine, units.Moment(d.Taken), d.Disk,
			touched.Words(mostFiles)))
	}
	return out
}

// NewFile makes a file that must not be there yet.
func NewFile(name string) (*os.File, error) {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("%s can't be made (nothing is written over): %w", name, err)
	}
	return f, nil
}

// WriteNew makes a file that must not be there yet, and writes it; one that can't be written whole is taken away.
func WriteNew(name string, b []byte) error {
	return FillNew(name, func(w io.Writer) error {
		_, err := w.Write(b)
		return err
	})
}

// FillNew is WriteNew for what is made while it is written.
func FillNew(name string, fill func(io.Writer) error) error {
	f, err := NewFile(name)
	if err != nil {
		return err
	}
	err = fill(f)
	if err = errors.Join(err, f.Close()); err != nil {
		return errors.Join(fmt.Errorf("%s can't be written: %w", name, err), os.Remove(name))
	}
	return nil
}
