// Package takeout puts files and folders of a tree into a folder of this machine, or into a tar or zip stream.
//
// Into a folder everything goes by names relative to folders that are held open, one name at a time and never through a
// link, so nothing that a volume claims can lead outside. A file is written under a name of its own and renamed when it
// is whole: what was cut off goes on with the first file that isn't there.
package takeout

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"twinshelf/internal/fsys"
	"twinshelf/internal/run"
	"twinshelf/internal/units"
)

// Choice is an item that is taken out, with all that is below it.
type Choice struct {
	Tree fsys.Tree
	Item fsys.Item
	Path string // in its part, for reports
	// Source tells trees apart, also those of one part at two dates: names of one file are found again among choices
	// with the same one. It must be comparable.
	Source any
	// Name is what it is called outside; "" takes the item's own.
	Name string
}

func (c Choice) name() string {
	switch {
	case c.Name != "":
		return c.Name
	case c.Item.Name != "":
		return c.Item.Name
	}
	return "everything"
}

// Clash says what happens where there is something else by a name already.
type Clash int

// The ways. What is there is never written over unless that is asked for.
const (
	Skip Clash = iota
	KeepBoth
	Replace
)

// Options are wishes.
type Options struct {
	Clash Clash
	// Tag is put after the name of what is kept beside something else: its date, as a rule.
	Tag string
	// NoStreams leaves alternate streams out; otherwise they become files called NAME:STREAM.
	NoStreams bool
	// NoVerify leaves out reading back.
	NoVerify bool
}

// Left is an item that wasn't taken out, or not whole, and why.
type Left struct {
	Path string `json:"path"`
	Why  string `json:"why"`
}

// Renamed is an item that got another name outside.
type Renamed struct {
	Path string `json:"path"`
	As   string `json:"as"`
	Why  string `json:"why"`
}

// Report is what was done.
type Report struct {
	Files    int       `json:"files"`
	Folders  int       `json:"folders"`
	Links    int       `json:"links"`
	Bytes    int64     `json:"bytes"` // of contents, holes not counted
	Already  int       `json:"already"`
	Verified int       `json:"verified"` // files that were read back
	Renamed  []Renamed `json:"renamed,omitempty"`
	Left     []Left    `json:"skipped,omitempty"`
	// LeftOut is how many were left; Left holds the first of them.
	LeftOut int `json:"skipped_count"`
	// Gaps are files that were taken out although some of them couldn't be read when it was captured: zeros are there
	// instead. GapCount is how many; Gaps holds the first of them.
	Gaps     []Left `json:"gaps,omitempty"`
	GapCount int    `json:"gap_count"`
	// Lost are properties that the destination doesn't hold, in words.
	Lost []string `json:"not_kept,omitempty"`
}

const keptLines = 10_000

func (r *Report) left(path string, err error) {
	r.LeftOut++
	if len(r.Left) < keptLines {
		r.Left = append(r.Left, Left{path, plain(err)})
	}
}

// gap notes a file that has one.
func (r *Report) gap(path string, c fsys.Contents) {
	n := fsys.GapOf(c)
	if n == 0 {
		return
	}
	r.GapCount++
	if len(r.Gaps) < keptLines {
		r.Gaps = append(r.Gaps, Left{path, units.Bytes(n) + " of it couldn't be read when it was captured; " +
			"zeros are there " +
			"instead"})
	}
}

func (r *Report) renamed(path, as, why string) {
	if len(r.Renamed) < keptLines {
		r.Renamed = append(r.Renamed, Renamed{path, as, why})
	}
}

// lost notes once that a property can't be kept.
func (r *Report) lost(what string) {
	for _, l := range r.Lost {
		if l == what {
			return
		}
	}
	r.Lost = append(r.Lost, what)
}

// plain is an error without the path, which stands beside it.
func plain(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}

// Words says it in a sentence.
func (r *Report) Words() string {
	s := fmt.Sprintf("%s (%s)", units.Plural(r.Files, "file"), units.Bytes(r.Bytes))
	if r.Folders > 0 {
		s += " in " + units.Plural(r.Folders, "folder")
	}
	if r.Links > 0 {
		s += ", " + units.Plural(r.Links, "link")
	}
	if r.Already > 0 {
		s += fmt.Sprintf("; %s were there already", units.Plural(r.Already, "file"))
	}
	if r.Verified > 0 {
		s += fmt.Sprintf("; %s read back and equal", units.Plural(r.Verified, "file"))
	}
	if r.GapCount > 0 {
		s += fmt.Sprintf("; %s a gap", hasHave(r.GapCount))
	}
	if r.LeftOut > 0 {
		s += fmt.Sprintf("; %s left out", units.Plural(r.LeftOut, "item"))
	}
	return s
}

func hasHave(n int) string {
	if n == 1 {
		return "1 file has"
	}
	return fmt.Sprintf("%d files have", n)
}

// Phases are those of taking out.
var Phases = []string{phaseCount, phaseTake}

const (
	phaseCount = "Count"
	phaseTake  = "Take out"
)

// count sums up what is chosen, in bytes.
func count(ctx context.Context, choices []Choice) (bytes int64, err error) {
	for _, c := range choices {
		if !c.Item.IsDir() {
			bytes += c.Item.Size
			continue
		}
		err := fsys.Walk(c.Tree, c.Item, c.Path, func(_ string, _ fsys.Item, entries []fsys.Entry, _ error) error {
			for _, e := range entries {
				if e.Err == nil && e.Mode.IsRegular() {
					bytes += e.Size
				}
			}
			return ctx.Err()
		})
		if err != nil {
			return bytes, err
		}
	}
	return bytes, nil
}

// begin counts, and starts the phase that takes out.
func begin(rc *run.Context, choices []Choice) error {
	rc.Phase(phaseCount, 0)
	total, err := count(rc, choices)
	if err != nil {
		return err
	}
	rc.Phase(phaseTake, total)
	return nil
}

const chunk = 1 << 20

// identity is a file with several names.
type identity struct {
	source any
	id     uint64
}

// special says why an item is nothing that can be taken out; empty for files, folders and links.
func special(it fsys.Item) string {
	switch it.Mode.Type() {
	case 0, fs.ModeDir, fs.ModeSymlink:
		return ""
	case fs.ModeNamedPipe:
		return "it is a pipe"
	case fs.ModeSocket:
		return "it is a socket"
	}
	if it.Mode&fs.ModeDevice != 0 {
		return fmt.Sprintf("it is a device (%d:%d)", it.Major, it.Minor)
	}
	return "it is neither a file nor a folder nor a link"
}

// tagged puts a tag after a name and before its ending; n counts the tries from 1.
func tagged(name, tag string, n int) string {
	base, ext := name, ""
	if i := strings.LastIndexByte(name, '.'); i > 0 {
		base, ext = name[:i], name[i:]
	}
	switch {
	case tag == "":
		tag = fmt.Sprint(n + 1)
	case n > 1:
		tag = fmt.Sprintf("%s %d", tag, n)
	}
	return fmt.Sprintf("%s (%s)%s", base, tag, ext)
}
