package tui

import (
	"slices"
	"strings"

	"twinshelf/internal/bench"
	"twinshelf/internal/routine"
	"twinshelf/internal/units"
	"twinshelf/internal/workshop"
)

// isNamed says whether a routine names a disk, to be read or to be written.
func isNamed(s *routine.Standing, d *bench.Disk) bool {
	return d.Identity.Serial != "" && slices.Contains(slices.Concat(s.Disks, s.Spares), routine.DiskOf(d.Identity))
}

// dueOf is the mark of a disk that a routine names which is due or failed last; empty for none.
func (m *routinesPage) dueOf(d *bench.Disk) string {
	for _, s := range m.list {
		if !isNamed(s, d) {
			continue
		}
		e, ran := s.Last()
		switch {
		case s.Running:
			return "⧗ routine runs"
		case s.Pace.Paused:
		case s.Due.Now, s.Due.Waits != "":
			return "⧗ routine due"
		case ran && e.Outcome == routine.Failed:
			return "⧗ routine failed"
		}
	}
	return ""
}

// erasedBy begins what is said of a spare.
const erasedBy = "ERASED BY the routine "

// ofDisk says of each routine that names a disk how it stands with it.
func (m *routinesPage) ofDisk(d *bench.Disk) (out []string) {
	for _, s := range m.list {
		if !isNamed(s, d) {
			continue
		}
		what := "Routine "
		if slices.Contains(s.Spares, routine.DiskOf(d.Identity)) {
			what = erasedBy
		}
		out = append(out, what+strings.Join([]string{s.Name, s.LastWords(), s.NextWords()}, "; ")+".")
	}
	return out
}

// made is the routine that took a twin; empty where none did that is known here.
func (m *routinesPage) made(twin string) string {
	for _, s := range m.list {
		if slices.ContainsFunc(s.History, func(e routine.Entry) bool { return e.Twin == twin }) {
			return s.Name
		}
	}
	return ""
}

// uncarried says how many of the dates on the open shelf that a routine took aren't yet where it carries them; empty
// for none.
func uncarried(m *routinesPage, s *routine.Standing) string {
	n := map[string]int{}
	var to []string
	for _, t := range m.datesPage.twins() {
		for _, name := range workshop.Uncarried([]*routine.Standing{s}, m.datesPage.known, t.ID) {
			if n[name]++; n[name] == 1 {
				to = append(to, name)
			}
		}
	}
	var out []string
	for _, name := range to {
		out = append(out, units.Plural(n[name], "date")+" not carried to "+name+" yet")
	}
	return strings.Join(out, "; ")
}
