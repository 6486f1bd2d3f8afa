package windows

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"twinshelf/internal/hive"
	"twinshelf/internal/units"
)

// Facts are what a Windows says of itself; what it doesn't say is empty.
type Facts struct {
	// Edition is as people know it, "Windows 11 Pro"; Version "23H2", and Build "22631.3155".
	Edition string `json:"edition,omitempty"`
	Version string `json:"version,omitempty"`
	Build   string `json:"build,omitempty"`
	// Machine is the computer's name, Zone the name of its time zone.
	Machine string `json:"machine,omitempty"`
	Zone    string `json:"time_zone,omitempty"`
	// Installed is when this version came to be, Stopped when it was shut down last.
	Installed time.Time `json:"installed,omitzero"`
	Stopped   time.Time `json:"stopped,omitzero"`
	Users     []User    `json:"users,omitempty"`
}

// User is somebody with a folder.
type User struct {
	Folder string `json:"folder"` // with slashes, without its drive
	// Bytes is how much the files in it have; nil where that isn't known.
	Bytes *int64 `json:"bytes,omitempty"`
}

// FactsOf reads the registry files SYSTEM and SOFTWARE; either may be nil.
func FactsOf(system, software *hive.Hive) Facts {
	f := Facts{}
	if system != nil {
		f.system(system)
	}
	if software != nil {
		f.software(software)
	}
	return f
}

// text is a value below a key; empty where there is none.
func text(k hive.Key, below, name string) string {
	k, err := k.Find(below)
	if err != nil {
		return ""
	}
	return own(k, name)
}

func own(k hive.Key, name string) string {
	v, err := k.Value(name)
	if err != nil {
		return ""
	}
	s, err := v.Text()
	if err != nil {
		return ""
	}
	return units.Visible(s)
}

func word(k hive.Key, name string) uint32 {
	v, err := k.Value(name)
	if err != nil {
		return 0
	}
	n, err := v.Word()
	if err != nil {
		return 0
	}
	return n
}

func (f *Facts) system(h *hive.Hive) {
	set, err := control(h)
	if err != nil {
		return
	}
	f.Machine = text(set, `Control\ComputerName\ComputerName`, "ComputerName")
	f.Zone = text(set, `Control\TimeZoneInformation`, "TimeZoneKeyName")
	if k, err := set.Find(`Control\Windows`); err == nil {
		if v, err := k.Value("ShutdownTime"); err == nil {
			if b, err := v.Bytes(); err == nil && len(b) == 8 {
				f.Stopped = hive.Time(le.Uint64(b))
			}
		}
	}
}

// current is where a Windows says what it is, profiles where its people's folders are.
const (
	current  = `Microsoft\Windows NT\CurrentVersion`
	profiles = "ProfileList"
	// firstOf11 is the build from which on it is Windows 11, which goes on calling itself 10.
	firstOf11  = 22000
	peoplesSID = "S-1-5-21-"
	mostUsers  = 100
)

func (f *Facts) software(h *hive.Hive) {
	k, err := h.Find(current)
	if err != nil {
		return
	}
	f.Edition, f.Version, f.Build = own(k, "ProductName"), own(k, "DisplayVersion"), own(k, "CurrentBuildNumber")
	if f.Version == "" {
		f.Version = own(k, "CSDVersion")
	}
	if n, err := strconv.Atoi(f.Build); err == nil && n >= firstOf11 {
		f.Edition = strings.Replace(f.Edition, "Windows 10", "Windows 11", 1)
	}
	if n := word(k, "UBR"); n > 0 && f.Build != "" {
		f.Build += fmt.Sprintf(".%d", n)
	}
	if n := word(k, "InstallDate"); n > 0 {
		f.Installed = time.Unix(int64(n), 0).UTC()
	}
	list, err := k.Find(profiles)
	if err != nil {
		return
	}
	all, err := list.Keys()
	if err != nil {
		return
	}
	for _, u := range all[:min(len(all), mostUsers)] {
		_, folder, ok := strings.Cut(own(u, "ProfileImagePath"), `:\`)
		if folder = path.Clean(strings.ReplaceAll(folder, `\`, "/")); ok && strings.HasPrefix(u.Name(), peoplesSID) &&
			!slices.ContainsFunc(f.Users, func(o User) bool { return o.Folder == folder }) {
			f.Users = append(f.Users, User{Folder: folder})
		}
	}
}

// Words is what it is: "Windows 11 Pro 23H2 (build 22631.3155)".
func (f *Facts) Words() string {
	out := f.Edition
	if out == "" {
		out = "Windows"
	}
	if f.Version != "" {
		out += " " + f.Version
	}
	if f.Build != "" {
		out += " (build " + f.Build + ")"
	}
	return out
}
