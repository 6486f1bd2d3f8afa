package workshop

import (
	"context"
	"errors"
	"fmt"

	"twinshelf/internal/routine"
	"twinshelf/internal/shelf"
	"twinshelf/internal/store"
)

// firstShelf opens the first shelf of a routine that can be had; for a capture one that takes captures.
func (w *Workshop) firstShelf(ctx context.Context, r *routine.Routine) error {
	var problems []error
	for _, name := range r.Shelves {
		s, open := w.shelf(), true
		if !answersTo(s, name) {
			var err error
			open = false
			if s, err = w.openFor(ctx, r, name); err != nil {
				problems = append(problems, fmt.Errorf("%s: %w", name, err))
				continue
			}
		}
		if refused := shelf.Takes(ctx, s); refused != nil && captures(r) {
			problems = append(problems, fmt.Errorf("%s: %w", name, refused))
			if !open {
				s.Close()
			}
			continue
		}
		if !open {
			w.Use(ctx, s)
		}
		return nil
	}
	return fmt.Errorf("no shelf of it can be had: %w", errors.Join(problems...))
}

// answersTo says whether an open shelf is the one that a routine names, by its name, its identity or its folder.
func answersTo(s *shelf.Shelf, name string) bool {
	return s != nil && (s.Head().Name == name || s.Head().ID == name || s.Place() == name)
}

// openFor opens a shelf with the passphrases that a routine names. Where it names none, a person is asked who is there.
func (w *Workshop) openFor(ctx context.Context, r *routine.Routine, name string) (*shelf.Shelf, error) {
	if len(r.Passphrases) == 0 {
		s, err := w.OpenOther(ctx, name)
		if errors.Is(err, store.ErrSealed) {
			err = fmt.Errorf("%w; where nobody can be asked the routine has to say where it comes from (passphrase: "+
				"file /etc/oak.pass)", err)
		}
		return s, err
	}
	var problems []error
	for _, from := range r.Passphrases {
		s, err := w.openNamed(ctx, name, func(ctx context.Context, dir string) (*shelf.Shelf, error) {
			return w.openBy(ctx, dir, func() ([]byte, error) { return w.Routines().Passphrase(r, from) })
		})
		if err == nil {
			return s, nil
		}
		if problems = append(problems, err); !errors.Is(err, store.ErrPassphrase) {
			continue
		}
		problems[len(problems)-1] = fmt.Errorf("%s: %w", from, err)
	}
	return nil, errors.Join(problems...)
}
