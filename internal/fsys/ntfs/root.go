package ntfs

import (
	"fmt"
	"strings"

	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// rootEntry is a name in the root directory.
type rootEntry struct {
	name   string
	record int64
}

func (v *Volume) readRoot() ([]rootEntry, error) {
	rec, err := v.readRecord(recRoot)
	if err != nil {
		return nil, err
	}
	var out []rootEntry
	err = v.index(rec, func(e indexEntry) bool {
		out = append(out, rootEntry{e.name, int64(e.ref & recNumberBytes)})
		return true
	})
	return out, err
}

func (v *Volume) rootFile(name string) (stream, bool, error) {
	for _, e := range v.rootEntries {
		if strings.EqualFold(e.name, name) {
			rec, err := v.readRecord(e.record)
			if err != nil {
				return stream{}, false, fmt.Errorf("%s: %w", name, err)
			}
			s, err := v.stream(rec, attrData, "")
			return s, err == nil && s.found, err
		}
	}
	return stream{}, false, nil
}

// hibernated looks for a memory image that a system would wake up from: it
// begins with "hibr", a spent one doesn't.
func (v *Volume) hibernated() (bool, error) {
	s, ok, err := v.rootFile("hiberfil.sys")
	if err != nil || !ok || s.size < 4 || len(s.runs) == 0 {
		return false, err
	}
	b := make([]byte, 4)
	if _, err := v.readRuns(s.runs, b, 0); err != nil {
		return false, err
	}
	return strings.EqualFold(string(b), "hibr"), nil
}

// Omissions names the swap files and a spent hibernation file in the root
// directory: the system makes their contents anew at its next start.
func (v *Volume) Omissions() ([]fsys.Omission, error) {
	var out []fsys.Omission
	for _, o := range []struct{ name, what string }{
		{"pagefile.sys", "swapped-out memory (pagefile.sys)"},
		{"swapfile.sys", "swapped-out memory (swapfile.sys)"},
		{"hiberfil.sys", "a spent hibernation image (hiberfil.sys)"},
	} {
		s, ok, err := v.rootFile(o.name)
		if err != nil {
			return nil, err
		}
		var spans []span.Span
		for _, r := range s.runs {
			if ok && !r.sparse {
				spans = append(spans, v.clusterSpan(r.lcn, r.n))
			}
		}
		if set := span.Of(spans...); !set.Empty() {
			out = append(out, fsys.Omission{What: o.what, Why: "the system makes it anew when it starts",
				Bytes: set.Total(), Spans: set})
		}
	}
	return out, nil
}
