package shelf

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"strings"
)

// Records of customers' cases lie on the shelf as notes, one for each entry: nothing is ever rewritten, and what two
// machines enter into one case comes together.

var plainName = regexp.MustCompile(`^[0-9A-Za-z][0-9A-Za-z.-]{0,80}$`)

func jobFile(job, entry string) (string, error) {
	if !plainName.MatchString(job) || !plainName.MatchString(entry) {
		return "", fmt.Errorf("an entry %q of case %q can't be on a shelf", entry, job)
	}
	return "jobs/" + job + "/" + entry + ".note", nil
}

// PutJobEntry keeps an entry of a case.
func (s *Shelf) PutJobEntry(ctx context.Context, job, entry string, e any) error {
	file, err := jobFile(job, entry)
	if err != nil {
		return err
	}
	return s.PutNote(ctx, nil, file, e)
}

// JobEntry reads an entry of a case into e.
func (s *Shelf) JobEntry(ctx context.Context, job, entry string, e any) error {
	file, err := jobFile(job, entry)
	if err != nil {
		return err
	}
	there, err := s.GetNote(ctx, file, e)
	if err == nil && !there {
		err = fmt.Errorf("%s: %w", file, fs.ErrNotExist)
	}
	return err
}

// JobEntries names the entries of a case that the shelf has.
func (s *Shelf) JobEntries(ctx context.Context, job string) ([]string, error) {
	if !plainName.MatchString(job) {
		return nil, fmt.Errorf("case %q can't be on a shelf", job)
	}
	names, err := s.Backend().List(ctx, "jobs/"+job)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var out []string
	for _, n := range names {
		if id, is := strings.CutSuffix(n, ".note"); is && plainName.MatchString(id) {
			out = append(out, id)
		}
	}
	return out, nil
}

// Jobs names the cases that the shelf has entries of.
func (s *Shelf) Jobs(ctx context.Context) ([]string, error) {
	names, err := s.Backend().List(ctx, "jobs")
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var out []string
	for _, n := range names {
		if n = strings.TrimSuffix(n, "/"); plainName.MatchString(n) {
			out = append(out, n)
		}
	}
	return out, nil
}
