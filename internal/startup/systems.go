package startup

import (
	"context"
	"fmt"
	"path"
	"strings"

	"twinshelf/internal/fsys"
	"twinshelf/internal/hive"
	"twinshelf/internal/startup/windows"
	"twinshelf/internal/survey"
	"twinshelf/internal/units"
)

// SoftwareHive is where a Windows says what it is.
const SoftwareHive = "Windows/System32/config/SOFTWARE"

// System is a Windows on a part of a disk.
type System struct {
	Part int `json:"part"`
	windows.Facts
}

// Systems are those on the parts of a disk that was looked at, and in containers on them, as far as their registries
// can be read.
func Systems(ctx context.Context, s *survey.Survey) (out []System) {
	for _, a := range s.Parts() {
		for _, h := range fsys.Homes(a.Content.Volume, a.Span.Start) {
			tree, err := fsys.TreeOf(h.Volume)
			if err != nil || ctx.Err() != nil {
				continue
			}
			if _, err := fsys.Find(tree, SystemHive); err == nil {
				out = append(out, systemIn(ctx, tree, a.Part.Number))
			}
		}
	}
	return out
}

// systemIn is the Windows in the files of a volume.
func systemIn(ctx context.Context, tree fsys.Tree, part int) System {
	open := func(name string) *hive.Hive {
		reg, err := openRegistry(home{tree: tree}, name)
		if err != nil {
			return nil
		}
		return reg.Hive
	}
	out := System{part, windows.FactsOf(open(SystemHive), open(SoftwareHive))}
	w, can := tree.(fsys.Weigher)
	if !can {
		return out
	}
	var folders []fsys.Item
	var whose []*windows.User
	for i := range out.Users {
		it, err := fsys.Find(tree, out.Users[i].Folder)
		if err == nil && it.IsDir() {
			folders, whose = append(folders, it), append(whose, &out.Users[i])
		}
	}
	if sizes, err := w.Weigh(ctx, folders); err == nil {
		for i, n := range sizes {
			whose[i].Bytes = &n
		}
	}
	return out
}

// Words are what is known of it, a sentence for each thing.
func (s *System) Words() []string {
	out := []string{fmt.Sprintf("Part %d: %s", s.Part, s.Facts.Words())}
	if s.Machine != "" {
		out[0] += fmt.Sprintf(", called %s", s.Machine)
	}
	var times []string
	if !s.Installed.IsZero() {
		times = append(times, "Installed "+s.Installed.Format("2006-01-02"))
	}
	if !s.Stopped.IsZero() {
		times = append(times, "shut down last "+units.Moment(s.Stopped))
	}
	if s.Zone != "" {
		times = append(times, "time zone "+s.Zone)
	}
	if len(times) > 0 {
		out = append(out, strings.Join(times, ", "))
	}
	if len(s.Users) > 0 {
		names := make([]string, len(s.Users))
		for i, u := range s.Users {
			names[i] = path.Base(u.Folder)
			if u.Bytes != nil {
				names[i] += " (" + units.Bytes(*u.Bytes) + ")"
			}
		}
		out = append(out, "People: "+strings.Join(names, ", "))
	}
	return out
}
