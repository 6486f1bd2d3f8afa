package shelf

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"twinshelf/internal/store"
	"twinshelf/internal/store/backend"
	"twinshelf/internal/units"
)

// StrayTwins are the files of twins of which only the copy is there: the file itself was lost, or a capture was killed
// in its last moment. What was discarded is none, and its copy is removed.
func (s *Shelf) StrayTwins(ctx context.Context) ([]string, error) {
	var out []string
	machines, err := s.Backend().List(ctx, "copies/twins")
	if err != nil {
		return nil, err
	}
	in, errs := make([][]string, len(machines)), make([]error, len(machines))
	backend.Each(s.Backend(), len(machines), func(i int) { in[i], errs[i] = straysIn(ctx, s, machines[i]) })
	if err := errors.Join(errs...); err != nil {
		return nil, err
	}
	for _, files := range in {
		out = append(out, files...)
	}
	return undiscarded(ctx, s, out)
}

// straysIn are those of a machine's folder, discarded or not.
func straysIn(ctx context.Context, s *Shelf, folder string) (out []string, err error) {
	copies, err := s.Backend().List(ctx, "copies/twins/"+folder)
	if err != nil {
		return nil, err
	}
	there, err := s.Backend().List(ctx, "twins/"+folder)
	if err != nil {
		return nil, err
	}
	for _, n := range copies {
		if _, found := slices.BinarySearch(there, n); !found {
			out = append(out, "twins/"+folder+"/"+n)
		}
	}
	return out, nil
}

// undiscarded are those of strays of which the journal doesn't say that they were discarded.
func undiscarded(ctx context.Context, s *Shelf, out []string) ([]string, error) {
	if len(out) == 0 {
		return nil, nil
	}
	events, problems := s.Journal(ctx)
	if len(problems) > 0 {
		return out, nil
	}
	return slices.DeleteFunc(out, func(file string) bool {
		id := FileID(file)
		gone := slices.ContainsFunc(events, func(e Event) bool { return e.Twin == id && e.What == discarded })
		if gone {
			_ = s.Backend().Delete(ctx, store.CopyOf(file))
		}
		return gone
	}), nil
}

// FileID is the ID of the twin in a file.
func FileID(file string) string { return strings.TrimSuffix(path.Base(file), ".twin") }

// discarded is the journal's word for a twin that was taken off.
const discarded = "discarded"

// Hopeless says whether there is a twin of that ID whose description can be read neither from its file nor from the
// copy. The error is that of a folder that can't be listed.
func (s *Shelf) Hopeless(ctx context.Context, id string) (bool, error) {
	file, err := s.fileOf(ctx, id)
	if errors.Is(err, ErrNoTwin) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	_, err = s.readTwin(ctx, file)
	return store.IsHurt(err), nil
}

// fileOf finds the file of a twin by its ID alone. The error is an ErrNoTwin, or that of a folder that can't be listed.
func (s *Shelf) fileOf(ctx context.Context, id string) (string, error) {
	files, problems := s.TwinFiles(ctx)
	if i := slices.IndexFunc(files, func(f string) bool { return FileID(f) == id }); i >= 0 {
		return files[i], nil
	}
	if len(problems) > 0 {
		return "", fmt.Errorf("the twin %q can't be looked for: %w", id, problems[0])
	}
	return "", fmt.Errorf("%w: %q", ErrNoTwin, id)
}

// ErrReadable means that a twin's description can be read, so that it is discarded like any other.
var ErrReadable = errors.New("its description can be read")

// DiscardHurt takes off a twin whose description can be read neither from its file nor from the copy. It goes by the ID
// alone, and gives the damage.
func (s *Shelf) DiscardHurt(ctx context.Context, id, why string) error {
	file, err := s.fileOf(ctx, id)
	if err != nil {
		return err
	}
	_, damage := s.readTwin(ctx, file)
	if damage == nil {
		return fmt.Errorf("%w: %q", ErrReadable, id)
	}
	if !store.IsHurt(damage) { // it may well be readable tomorrow
		return fmt.Errorf("whether the twin %q is hurt can't be told now: %w", id, damage)
	}
	l, err := s.Exclusive(ctx, "discarding a twin that can't be read")
	if err != nil {
		return err
	}
	defer l.Release()
	if err := s.Record(ctx, Event{What: discarded, Twin: id, Why: why}); err != nil {
		return err
	}
	return s.DeleteKept(ctx, file)
}

// Discard takes a twin off the shelf, for the reason that goes into the journal. Its room comes back
// with GiveBack. A twin that is kept for ever stays.
func (s *Shelf) Discard(ctx context.Context, t *Twin, why string) error {
	marks, err := s.Pins(ctx)
	if err != nil {
		return err
	}
	if m, kept := marks[t.ID]; kept {
		return fmt.Errorf("the twin of %s of %s is kept for ever (%s): take the mark away first", t.Machine,
			units.Moment(t.Taken), m.Note)
	}
	l, err := s.Acquire(ctx, store.Holder{What: "discarding a twin", Machine: s.slug(t.Machine)})
	if err != nil {
		return fmt.Errorf("the twin can't be discarded now: %w", err)
	}
	defer l.Release()
	// The journal first: nothing is ever dropped that it doesn't tell of.
	if err := s.Record(ctx, Event{What: discarded, Machine: t.Machine, Twin: t.ID, Why: why}); err != nil {
		return err
	}
	if err := l.Held(ctx); err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx) // the journal has told
	// It must not come back after its blocks are gone.
	if err := s.DeleteKept(ctx, s.twinPath(t.Machine, t.ID)); err != nil {
		return fmt.Errorf("the twin can't be discarded: %w", err)
	}
	s.dropListing(ctx, t.ID)
	TriesOn(s).drop(ctx, t.ID)
	if err := KeysOn(s).Forget(ctx, t.ID); err != nil {
		s.Note(err.Error())
	}
	proofs, err := s.Backend().List(ctx, "proofs/"+t.ID)
	if err != nil { // they stay, and prove nothing that is there
		s.Note(err.Error())
	}
	for _, p := range proofs {
		_ = s.Backend().Delete(ctx, "proofs/"+t.ID+"/"+p)
	}
	return nil
}
