package ntfs

import (
	"encoding/binary"
	"fmt"
	"strings"

	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

// rootEntry is a name in the root directory.
type rootEntry struct {
	name string
	ref  ref
}

func (v *Volume) readRoot() ([]rootEntry, error) {
	rec, err := v.readRecord(recRoot)
	if err != nil {
		return nil, err
	}
	var out []rootEntry
	err = v.index(rec, func(e indexEntry) bool {
		out = append(out, rootEntry{e.name, ref(e.ref)})
		return true
	})
	return out, err
}

// rootFile finds the contents of a file in the root directory. The record must say the same as the directory: that it
// is in use, by this file, under this name.
func (v *Volume) rootFile(name string) (s stream, record int64, ok bool, err error) {
	for _, e := range v.rootEntries {
		if !strings.EqualFold(e.name, name) {
			continue
		}
		rec, err := tree{v}.open(e.ref)
		if err != nil {
			return stream{}, 0, false, fmt.Errorf("%s: %w", name, err)
		}
		if !rec.named(name) {
			return stream{}, 0, false, fmt.Errorf("%s: %w", name, fsys.Contradiction(rec.at,
				"file record %d, which the root directory gives that name, has another", rec.number))
		}
		s, err := v.stream(rec, attrData, "")
		return s, rec.number, err == nil && s.found, err
	}
	return stream{}, 0, false, nil
}

// named says whether the record has a name in the root directory.
func (r *record) named(name string) bool {
	le := binary.LittleEndian
	for _, a := range r.attributes() {
		if a.kind != attrFileName || len(a.value) < nameInFileName {
			continue
		}
		if le.Uint64(a.value)&recNumberBytes == recRoot && strings.EqualFold(nameIn(a.value), name) {
			return true
		}
	}
	return false
}

// nameIn is the name in a file name attribute; empty where it has none that can be read.
func nameIn(b []byte) string {
	if len(b) < nameInFileName {
		return ""
	}
	n := int(b[nameLenInFileName]) * 2
	if nameInFileName+n > len(b) {
		return ""
	}
	return utf16String(b[nameInFileName : nameInFileName+n])
}

// anew is a file in the root directory whose contents the system makes anew at its next start.
type anew struct {
	name, what string
	record     int64
	runs       []run
	spans      span.Set // bytes of the volume
}

// madeAnew are the swap files and the hibernation file of a volume, those that are there.
func madeAnew(v *Volume) ([]anew, error) {
	image := "the hibernation image"
	if !v.left.Asleep() {
		image = "a spent hibernation image"
	}
	var out []anew
	for _, f := range []anew{{name: "pagefile.sys", what: "swapped-out memory"},
		{name: "swapfile.sys", what: "swapped-out memory"}, {name: hiberName, what: image}} {
		s, record, ok, err := v.rootFile(f.name)
		if err != nil {
			return nil, err
		}
		f.record, f.runs = record, s.runs
		var spans []span.Span
		for _, r := range s.runs {
			if ok && !r.sparse {
				spans = append(spans, v.clusterSpan(r.lcn, r.n))
			}
		}
		if f.spans = span.Of(spans...); !f.spans.Empty() {
			out = append(out, f)
		}
	}
	return out, nil
}

func (f anew) omission(left span.Set) fsys.Omission {
	return fsys.Omission{What: f.what + " (" + f.name + ")", Why: "the system makes it anew when it starts",
		Bytes: left.Total(), Spans: left}
}

// Omissions names the swap files and a hibernation file that is known to be spent: the system makes their contents
// anew at its next start. The head of the hibernation file stays: what lies in its place on another disk may look as
// if there were something to wake up from.
func (v *Volume) Omissions() ([]fsys.Omission, error) {
	files, err := madeAnew(v)
	if err != nil || v.left.Asleep() {
		return nil, err
	}
	var out []fsys.Omission
	for _, f := range files {
		left := f.spans
		if f.name == hiberName {
			if v.hiber != imageSpent {
				continue // what it holds isn't known
			}
			left = left.Subtract(headOf(v, f.runs, hiberPage))
		}
		if !left.Empty() {
			out = append(out, f.omission(left))
		}
	}
	return out, nil
}
