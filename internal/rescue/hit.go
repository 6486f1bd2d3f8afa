package rescue

import (
	"fmt"
	"strings"
	"time"

	"twinshelf/internal/disk/careful"
	"twinshelf/internal/inside"
	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/startup"
	"twinshelf/internal/units"
)

// mostNamed is how many files a note names.
const mostNamed = 5

// lost is what was tried and couldn't be read so far.
func (p *patient) lost() span.Set {
	return joined(func(yield func(span.Span) bool) {
		for r := range p.runs() {
			if r.State != careful.Got && r.State != careful.Untouched && !yield(r.Span) {
				return
			}
		}
	}, mostMissing)
}

// hits says which files are hit at the end of the passes, and whether the machine needs them to start. What can't be
// found out is no failure: the names may lie in what is lost.
func (s *sitting) hits(q *patient) {
	words, err := s.find(q, q.lost())
	if err != nil {
		s.rc.Note("%swhich files are hit can't be told: %v", s.of(q), err)
	}
	for _, w := range words {
		s.rc.Note("%s", w)
	}
}

// find finds the files that what is lost belongs to, and says which they are and whether the machine should start.
func (s *sitting) find(q *patient, lost span.Set) (words []string, err error) {
	q.hit = shelf.Hit{}
	if lost.Empty() {
		return nil, nil
	}
	k := q.view(s.rc)
	t, err := inside.FilesIn(s.rc, k, lost)
	if err != nil {
		return nil, err
	}
	q.hit = shelf.Hit{Files: len(t.Files), More: t.More, Rest: t.Rest}
	if len(t.Files) > 0 {
		words = append(words, s.of(q)+hitWords(t))
	}
	report, err := startup.Check(s.rc, k, startup.Options{})
	if err == nil && report.Meant() {
		words = append(words, fmt.Sprintf("%swith what is there: %s", s.of(q), report.Words()))
	}
	return words, nil
}

// telling is what was told of hit files in the middle of the work.
type telling struct {
	lost int64 // bytes of which it was told
	ends time.Time
	took time.Duration
}

// tellingShare is how little of the time the telling may take: 1/tellingShare.
const tellingShare = 20

// tell says in the middle of the work which files are hit so far, as far as the names are known.
func (s *sitting) tell() {
	begun := time.Now()
	if begun.Sub(s.told.ends) < tellingShare*s.told.took {
		return
	}
	sets, total := make([]span.Set, len(s.patients)), int64(0)
	for i, q := range s.patients {
		sets[i] = q.lost()
		total += sets[i].Total()
	}
	if total == s.told.lost {
		return
	}
	var found []string
	for i, q := range s.patients {
		words, err := s.find(q, sets[i])
		if err != nil {
			return // it is said at the end
		}
		for _, w := range words {
			found = append(found, "so far: "+w)
		}
	}
	s.rc.Found(found)
	s.told = telling{total, time.Now(), time.Since(begun)}
}

// hitWords name the files that are hit, the first of them.
func hitWords(t *inside.Touching) string {
	var names []string
	for _, f := range t.Files[:min(mostNamed, len(t.Files))] {
		names = append(names, fmt.Sprintf("%d:%s (%s)", f.Part, f.Name(), units.Bytes(f.Bytes)))
	}
	words := fmt.Sprintf("%s hit: %s", units.Plural(len(t.Files), "file"), strings.Join(names, ", "))
	switch more := len(t.Files) - len(names); {
	case t.More:
		words += fmt.Sprintf(", and more than %d others", more)
	case more > 0:
		words += fmt.Sprintf(", and %d others", more)
	}
	return words
}

// slow says which parts of a drive were read much more slowly than most of it.
func (s *sitting) slow(q *patient) {
	if slow := q.drive.Rates().Slow(); !slow.Empty() {
		s.rc.Note("%s%s of the drive, from byte %d on, were read at less than a tenth of the usual rate: they may be "+
			"bad soon",
			s.of(q), units.Bytes(slow.Total()), slow.Bounds().Start)
	}
}
