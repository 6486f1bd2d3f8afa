package inside

import (
	"cmp"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"twinshelf/internal/fsys"
	"twinshelf/internal/names"
	"twinshelf/internal/units"
)

// SortEntries orders a folder: folders first, then by name, by size (largest first) or by the time of the last change
// (newest first).
func SortEntries(all []fsys.Entry, by string) {
	type keyed struct {
		*fsys.Entry
		name string // as it counts where case doesn't
	}
	list := make([]keyed, len(all))
	for i, e := range slices.Clone(all) {
		list[i] = keyed{&e, strings.ToLower(e.Name)}
	}
	slices.SortFunc(list, func(a, b keyed) int {
		if a.IsDir() != b.IsDir() {
			if a.IsDir() {
				return -1
			}
			return 1
		}
		switch by {
		case "size":
			if c := cmp.Compare(b.Size, a.Size); c != 0 {
				return c
			}
		case "changed":
			if c := b.Modified.Compare(a.Modified); c != 0 {
				return c
			}
		}
		return cmp.Or(strings.Compare(a.name, b.name), strings.Compare(a.Name, b.Name))
	})
	for i, e := range list {
		all[i] = *e.Entry
	}
}

// ItemWord is what an item is, in a word.
func ItemWord(it fsys.Item) string {
	switch {
	case it.IsDir():
		return "folder"
	case it.Mode.IsRegular():
		return "file"
	case it.Mode.Type() == fs.ModeSymlink:
		return "link"
	}
	return "device or pipe"
}

// Unseen says whether an item is hidden or the system's own.
func Unseen(it fsys.Item) bool { return it.Attr&(fsys.Hidden|fsys.System) != 0 }

// Visible is a name without what would move a terminal's cursor or turn its text around.
func Visible(name string) string { return units.Visible(name) }

// KindWord is what an entry of an index is, in a word.
func KindWord(k names.Kind) string {
	return map[names.Kind]string{names.File: "file", names.Folder: "folder", names.Link: "link", names.Other: "other",
		names.Broken: "unreadable"}[k]
}

// DifferenceWords sums up what differs in a part.
func DifferenceWords(d PartDifference) string {
	if d.Why != "" {
		return "can't be compared: " + d.Why
	}
	if len(d.All) == 0 {
		return "nothing differs"
	}
	counts := map[names.Way]int{}
	came, went := int64(0), int64(0)
	for _, x := range d.All {
		counts[x.Way]++
		switch x.Way {
		case names.Added:
			came += x.New.Size
		case names.Removed:
			went += x.Old.Size
		}
	}
	var out []string
	for _, w := range []names.Way{names.Added, names.Removed, names.Changed, names.Moved} {
		if n := counts[w]; n > 0 {
			s := fmt.Sprintf("%d %s", n, w)
			if w == names.Added {
				s += " (" + units.Bytes(came) + ")"
			} else if w == names.Removed {
				s += " (" + units.Bytes(went) + ")"
			}
			out = append(out, s)
		}
	}
	return strings.Join(out, ", ")
}

// DifferenceSize says how the size changed.
func DifferenceSize(x names.Difference) string {
	switch {
	case x.Way == names.Added && x.New.Kind == names.File:
		return units.Bytes(x.New.Size)
	case x.Way == names.Removed && x.Old.Kind == names.File:
		return units.Bytes(x.Old.Size)
	case x.Way == names.Changed && x.Unsure:
		return "same size"
	case x.Way == names.Changed:
		return units.Bytes(x.Old.Size) + " → " + units.Bytes(x.New.Size)
	case x.Way == names.Moved && x.New.Kind == names.File:
		return units.Bytes(x.New.Size)
	}
	k := x.New.Kind
	if x.Way == names.Removed {
		k = x.Old.Kind
	}
	return KindWord(k)
}

// DifferencePath says where.
func DifferencePath(x names.Difference) string {
	if x.Way != names.Moved {
		return x.Path
	}
	s := x.From + " → " + x.Path
	if x.Below > 0 {
		s += fmt.Sprintf(" (with %s)", units.Plural(x.Below, "item"))
	}
	return s
}

// Damage that is named by file: of so many disks of twins, and so many files of each.
