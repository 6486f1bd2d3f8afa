package backend

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"time"
)

// SweepFolder is Sweep for backends whose uploads are objects in a folder, with their labels as names.
func SweepFolder(ctx context.Context, b Backend, folder string,
	abandoned func(label string, changed time.Time) bool) error {
	uploads, err := Entries(ctx, b, folder)
	if err != nil {
		return err
	}
	for _, u := range uploads {
		if !abandoned(u.Name, u.Changed) {
			continue
		}
		if err := b.Delete(ctx, path.Join(folder, u.Name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Names are those of a listing.
func Names(entries []Entry, err error) ([]string, error) {
	var names []string
	for _, e := range entries {
		names = append(names, e.Name)
	}
	return names, err
}
