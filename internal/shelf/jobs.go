package shelf

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"strings"
)

// Cases are the records of customers' cases on a shelf. They lie there as notes, one for each entry: nothing is ever
// rewritten, and what two machines enter into one case comes together.
type Cases struct{ s *Shelf }

// CasesOn are those on a shelf.
func CasesOn(s *Shelf) Cases { return Cases{s} }

var plainName = regexp.MustCompile(`^[0-9A-Za-z][0-9A-Za-z.-]{0,80}$`)

func jobFile(job, entry string) (string, error) {
	if !plainName.MatchString(job) || !plainName.MatchString(entry) {
		return "", fmt.Errorf("an entry %q of case %q can't be on a shelf", entry, job)
	}
	return "jobs/" + job + "/" + entry + ".note", nil
}

// Put keeps an entry of a case.
func (c Cases) Put(ctx context.Context, job, entry string, e any) error {
	file, err := jobFile(job, entry)
	if err != nil {
		return err
	}
	return c.s.PutNote(ctx, nil, file, e)
}

// Get reads an entry of a case into e.
func (c Cases) Get(ctx context.Context, job, entry string, e any) error {
	file, err := jobFile(job, entry)
	if err != nil {
		return err
	}
	there, err := c.s.GetNote(ctx, file, e)
	if err == nil && !there {
		err = fmt.Errorf("%s: %w", file, fs.ErrNotExist)
	}
	return err
}

// Entries names the entries of a case that the shelf has.
func (c Cases) Entries(ctx context.Context, job string) ([]string, error) {
	if !plainName.MatchString(job) {
		return nil, fmt.Errorf("case %q can't be on a shelf", job)
	}
	names, err := c.s.Backend().List(ctx, "jobs/"+job)
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

// IDs names the cases that the shelf has entries of.
func (c Cases) IDs(ctx context.Context) ([]string, error) {
	names, err := c.s.Backend().List(ctx, "jobs")
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
