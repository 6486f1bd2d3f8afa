package shelf

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
)

// A twin's description, the marks, the rules and the journal are small, and a date is lost without them: each has a copy under
// copies/, written before the file itself and removed after it. docs/shelf-format.md, "Copies".

// copyOf is where the copy of a file lies; empty for files that have none.
func copyOf(file string) string {
	for _, dir := range []string{"twins/", "marks/", "journal/"} {
		if strings.HasPrefix(file, dir) {
			return "copies/" + file
		}
	}
	if file == rulesFile || file == retiredFile {
		return "copies/" + file
	}
	return ""
}

// writeKept writes a small file, its copy first.
func (s *Shelf) writeKept(file string, b []byte) error {
	if c := copyOf(file); c != "" {
		if err := s.writeFile(c, b); err != nil {
			return err
		}
	}
	return s.writeFile(file, b)
}

// removeKept removes a small file for good, then its copy: a copy alone never counts as the file.
func (s *Shelf) removeKept(file string) error {
	if err := s.b.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := s.b.SyncDir(path.Dir(file)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if c := copyOf(file); c != "" {
		if err := s.b.Remove(c); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// strayTwins are the files of twins of which only the copy is there: the file itself was lost, or a capture was killed in its
// last moment. What was discarded is none, and its copy is removed.
func (s *Shelf) strayTwins() ([]string, error) {
	var out []string
	machines, err := s.b.List("copies/twins")
	if err != nil {
		return nil, err
	}
	for _, m := range machines {
		copies, err := s.b.List("copies/twins/" + m)
		if err != nil {
			return nil, err
		}
		there, err := s.b.List("twins/" + m)
		if err != nil {
			return nil, err
		}
		for _, n := range copies {
			if _, found := slices.BinarySearch(there, n); !found {
				out = append(out, "twins/"+m+"/"+n)
			}
		}
	}
	if len(out) == 0 {
		return nil, nil
	}
	events, problems := s.Journal()
	if len(problems) > 0 {
		return out, nil
	}
	return slices.DeleteFunc(out, func(file string) bool {
		id := idOf(file)
		gone := slices.ContainsFunc(events, func(e Event) bool { return e.Twin == id && e.What == discarded })
		if gone {
			_ = s.b.Remove(copyOf(file))
		}
		return gone
	}), nil
}

func idOf(file string) string { return strings.TrimSuffix(path.Base(file), ".twin") }

// checkCopies looks at the small files that are there twice. With mend a good one is written over, or in place of, its other.
func (s *Shelf) checkCopies(rep *Report, mend bool) {
	files, _ := s.twinFiles()
	strays, err := s.strayTwins()
	if err != nil {
		rep.Hurt = append(rep.Hurt, err.Error())
	}
	files = append(files, strays...)
	for _, n := range []string{rulesFile, retiredFile} {
		if _, _, err := s.b.Stat(n); err == nil {
			files = append(files, n)
		}
	}
	for _, dir := range []string{"marks", "journal"} {
		names, err := s.b.List(dir)
		if err != nil {
			rep.Hurt = append(rep.Hurt, err.Error())
		}
		for _, n := range names {
			files = append(files, dir+"/"+n)
		}
	}
	for _, f := range files {
		s.checkPair(rep, f, mend)
	}
}

// checkPair looks at a file and its copy.
func (s *Shelf) checkPair(rep *Report, file string, mend bool) {
	both := []string{file, copyOf(file)}
	var good []byte
	var bad []string
	var problems []error
	for _, f := range both {
		b, err := s.readWhole(f, file)
		if err != nil {
			bad, problems = append(bad, f), append(problems, err)
			continue
		}
		good = b
	}
	switch {
	case len(bad) == 0:
		return
	case len(bad) == 2:
		text := problems[0].Error() + "; its copy can't be read either"
		if strings.HasPrefix(file, "twins/") {
			text += fmt.Sprintf(": carry the twin here again from another shelf that has it, or take it off with \"twinshelf shelf discard %s\"", idOf(file))
		}
		rep.Hurt = append(rep.Hurt, text)
		return
	case errors.Is(problems[0], fs.ErrNotExist) && bad[0] != file && !mend:
		return // of an earlier version, which made none; mending makes it
	}
	if mend && s.writeFile(bad[0], good) == nil {
		rep.Mended = append(rep.Mended, bad[0])
		return
	}
	if bad[0] == file {
		rep.Hurt = append(rep.Hurt, fmt.Sprintf("%v; its copy is whole, and \"twinshelf shelf check --mend\" puts it back", problems[0]))
		return
	}
	rep.Hurt = append(rep.Hurt, fmt.Sprintf("the copy of %s can't be read (%v); \"twinshelf shelf check --mend\" makes it anew", file, problems[0]))
}

// readWhole reads a small file at a place, and checks it as the file that it is or copies.
func (s *Shelf) readWhole(at, file string) ([]byte, error) {
	if strings.HasPrefix(file, "twins/") {
		if _, _, _, err := s.openTwinAt(at, file, true); err != nil {
			return nil, err
		}
		return s.b.ReadFile(at, maxTwinFile+headerLen)
	}
	raw, err := s.b.ReadFile(at, maxNote)
	if err != nil {
		return nil, err
	}
	_, err = s.ring.payload(at, slices.Clone(raw), kindNote)
	return raw, err
}

// discarded is the journal's word for a twin that was taken off.
const discarded = "discarded"

// Hopeless says whether there is a twin of that ID whose description can be read neither from its file nor from the copy.
func (s *Shelf) Hopeless(id string) bool {
	files, _ := s.twinFiles()
	i := slices.IndexFunc(files, func(f string) bool { return idOf(f) == id })
	if i < 0 {
		return false
	}
	_, err := s.readTwin(files[i])
	return IsHurt(err)
}

// ErrReadable means that a twin's description can be read, so that it is discarded like any other.
var ErrReadable = errors.New("its description can be read")

// DiscardHurt takes off a twin whose description can be read neither from its file nor from the copy. It goes by the ID alone,
// and gives the damage.
func (s *Shelf) DiscardHurt(id, why string) error {
	files, _ := s.twinFiles()
	i := slices.IndexFunc(files, func(f string) bool { return idOf(f) == id })
	if i < 0 {
		return fmt.Errorf("%w: %q", ErrNoTwin, id)
	}
	if _, err := s.readTwin(files[i]); err == nil {
		return fmt.Errorf("%w: %q", ErrReadable, id)
	}
	release, err := s.exclusive("discarding a twin that can't be read")
	if err != nil {
		return err
	}
	defer release()
	if err := s.journal(Event{What: discarded, Twin: id, Why: why}); err != nil {
		return err
	}
	return s.removeKept(files[i])
}
