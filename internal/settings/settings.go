// Package settings keeps what the program remembers between two starts, in the
// folders that the XDG Base Directory Specification names.
package settings

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/adrg/xdg"

	"twinshelf/internal/disk"
	"twinshelf/internal/durable"
	"twinshelf/internal/store/pace"
	"twinshelf/internal/units"
)

// State is what the program remembers.
type State struct {
	Memory
	path string // never changes: others read it while what is remembered changes
}

// Memory is what is remembered.
type Memory struct {
	// OutOfReach are the keys of the disks that the person put out of reach.
	OutOfReach []string `json:"out_of_reach"`
	// Shelf is the folder of the shelf that was open last.
	Shelf string `json:"shelf,omitempty"`
	// Shelves are all shelves that were ever open here, by identity.
	Shelves []Known `json:"shelves,omitempty"`
	// BinaryUnits says that the screen says sizes in GiB and not in GB.
	BinaryUnits bool `json:"binary_units,omitempty"`
	// Job is the ID of the case that was chosen last.
	Job string `json:"job,omitempty"`
	// Shop is who works here.
	Shop Shop `json:"shop"`
	// Keyboard is the layout of the keyboard of machines that are started from a stick.
	Keyboard string `json:"keyboard,omitempty"`
	// Mail is the server that mail goes by; without one it goes by the system's sendmail.
	Mail Mail `json:"mail,omitzero"`
	// Lines are how much may go over the lines to far shelves, by their addresses.
	Lines map[string]pace.Pace `json:"lines,omitempty"`
	// Verdicts are what was found out about what protects far shelves, by their identity.
	Verdicts map[string]Verdict `json:"verdicts,omitempty"`
}

// Mail is a server that sends mail.
type Mail struct {
	Server string `json:"server"` // host:port
	From   string `json:"sender"` // address
	User   string `json:"user,omitempty"`
	// Password says where it is: "file /etc/mail.pass", "credential twinshelf.mail" or "kept".
	Password string `json:"password_from,omitempty"`
}

// Known is a shelf that was open here once.
type Known struct {
	ID     string    `json:"id"`
	Name   string    `json:"name"`
	Path   string    `json:"path"`
	Seen   time.Time `json:"seen"`
	Sealed bool      `json:"sealed,omitempty"`
	// Twins are how many it held then.
	Twins int `json:"twins"`
	// Holds are the IDs of its twins then.
	Holds []string `json:"holds,omitempty"`
	// Disks are those that its twins are of, and whose; none of a sealed shelf.
	Disks []KnownDisk `json:"disks,omitempty"`
	// Marks are the twins that were kept for ever, Rules stands for the rules without telling them, Gone is what went
	// without a word.
	Marks []string `json:"marks,omitempty"`
	Rules string   `json:"rules,omitempty"`
	Gone  []string `json:"gone,omitempty"`
	// Drive is the end of the serial number of the drive it lay on, if that could be told.
	Drive string `json:"drive,omitempty"`
}

// Verdict is what protects a far shelf, as it was tried out.
type Verdict struct {
	Safe bool      `json:"safe"`
	Says string    `json:"says"`
	When time.Time `json:"when"`
}

// KnownDisk is a disk that a shelf has twins of.
type KnownDisk struct {
	Model   string    `json:"model"`
	Serial  string    `json:"serial"`
	Machine string    `json:"machine"`
	Newest  time.Time `json:"newest"`
	Twins   int       `json:"twins"`
}

// Remember notes a shelf; last says that it is the one to be opened next time.
func (s *State) Remember(k Known, last bool) error {
	return s.change(func(s *State) {
		s.Shelves = slices.DeleteFunc(s.Shelves, func(o Known) bool { return o.ID == k.ID })
		s.Shelves = append([]Known{k}, s.Shelves...)
		if last {
			s.Shelf = k.Path
		}
	})
}

// SetKeyboard remembers the layout of the keyboard.
func (s *State) SetKeyboard(id string) error { return s.change(func(s *State) { s.Keyboard = id }) }

// SetMail remembers the server that mail goes by; the zero Mail is none.
func (s *State) SetMail(m Mail) error { return s.change(func(s *State) { s.Mail = m }) }

// SetLine remembers how much may go over the line to an address; the zero Pace is no bound.
func (s *State) SetLine(address string, p pace.Pace) error {
	return s.change(func(s *State) {
		if s.Lines == nil {
			s.Lines = map[string]pace.Pace{}
		}
		if s.Lines[address] = p; p == (pace.Pace{}) {
			delete(s.Lines, address)
		}
	})
}

// SetVerdict remembers what protects a shelf.
func (s *State) SetVerdict(id string, v Verdict) error {
	return s.change(func(s *State) {
		if s.Verdicts == nil {
			s.Verdicts = map[string]Verdict{}
		}
		s.Verdicts[id] = v
	})
}

// LineCount is the file in which is counted what goes over the line to an address, as SetLine has it.
func (s *State) LineCount(address string) string {
	sum := sha256.Sum256([]byte(address))
	return filepath.Join(s.Folder(), "lines", hex.EncodeToString(sum[:8])+".json")
}

// Above is the folder that the folder of this program lies in: what XDG_STATE_HOME says.
func (s *State) Above() string { return filepath.Dir(s.Folder()) }

// Dir is the folder for state and logs.
func Dir() string { return filepath.Join(xdg.StateHome, "twinshelf") }

// Load reads the state from dir; a missing one is empty.
func Load(dir string) (*State, error) {
	s := &State{path: filepath.Join(dir, "state.json")}
	b, err := os.ReadFile(s.path)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err == nil {
		err = json.Unmarshal(units.VisibleJSON(b), s)
	}
	if err != nil {
		return nil, fmt.Errorf("what was remembered can't be read: %w; mend or remove %s (disks put out of reach are "+
			"named there)", err, s.path)
	}
	return s, nil
}

// Folder is where the state lies.
func (s *State) Folder() string { return filepath.Dir(s.path) }

// change reads the state again, as another program may have left it, changes it and writes it, all under a lock.
func (s *State) change(do func(*State)) error {
	if err := os.MkdirAll(filepath.Dir(s.path), 0o700); err != nil {
		return err
	}
	lock, err := durable.Lock(s.path+".lock", true)
	if err != nil {
		return fmt.Errorf("what is remembered can't be locked: %w", err)
	}
	defer lock.Close()
	fresh, err := Load(filepath.Dir(s.path))
	if err != nil {
		return err
	}
	do(fresh)
	b, err := json.MarshalIndent(fresh, "", "  ")
	if err != nil {
		return err
	}
	if err := durable.Replace(s.path, append(b, '\n')); err != nil {
		return err
	}
	s.Memory = fresh.Memory // with what other processes remembered meanwhile
	return nil
}

// Shop is who works here, as it is printed on papers. Any of it may be empty.
type Shop struct {
	Name       string   `json:"name,omitempty"`
	Address    []string `json:"address,omitempty"`      // line by line
	Technician string   `json:"technician,omitempty"`   // whose cases are new ones
	Numbers    string   `json:"numbers,omitempty"`      // how cases are numbered, such as "YYYY-NNN"
	Paper      string   `json:"paper,omitempty"`        // A4 or Letter
	Logo       string   `json:"logo,omitempty"`         // path of a PNG or SVG file
	Dates      string   `json:"dates_form,omitempty"`   // how dates are written; empty: as the system does
	Labels     string   `json:"label_sheets,omitempty"` // the usual sheets of labels
	// LabelsRight and LabelsBelow are how far labels are moved for the printer here, in millimetres.
	LabelsRight float64 `json:"labels_right,omitempty"`
	LabelsBelow float64 `json:"labels_below,omitempty"`
}

// UseJob remembers which case is chosen.
func (s *State) UseJob(id string) error { return s.change(func(s *State) { s.Job = id }) }

// SetShop remembers who works here.
func (s *State) SetShop(shop Shop) error { return s.change(func(s *State) { s.Shop = shop }) }

// SaySizes remembers in which units the screen says sizes.
func (s *State) SaySizes(in units.System) error {
	return s.change(func(s *State) { s.BinaryUnits = in == units.BinaryUnits })
}

// Sizes are the units that the screen says sizes in.
func (s *State) Sizes() units.System {
	if s.BinaryUnits {
		return units.BinaryUnits
	}
	return units.Decimal
}

// IsOut says whether the person put a disk out of reach, here or in another program just now. While that can't be read
// again what was known before counts.
func (s *State) IsOut(id disk.Identity) bool {
	known := s.OutOfReach
	if fresh, err := Load(filepath.Dir(s.path)); err == nil {
		s.OutOfReach, known = fresh.OutOfReach, fresh.OutOfReach
	}
	return slices.Contains(known, id.Key())
}

// Toggle puts a disk out of reach or back, and remembers it. It goes by what the person saw: a mark that another
// program has set or taken meanwhile isn't turned round again.
func (s *State) Toggle(id disk.Identity) error {
	out := !slices.Contains(s.OutOfReach, id.Key())
	return s.change(func(s *State) {
		s.OutOfReach = slices.DeleteFunc(s.OutOfReach, func(k string) bool { return k == id.Key() })
		if out {
			s.OutOfReach = append(s.OutOfReach, id.Key())
		}
	})
}

// Note is a small file beside the state, replaced as a whole.
type Note struct{ path string }

// Note gives the note of that name; it needn't exist.
func (s *State) Note(name string) *Note {
	return &Note{filepath.Join(filepath.Dir(s.path), name+".note")}
}

// Load reads the note; nil when there is none.
func (n *Note) Load() ([]byte, error) {
	b, err := os.ReadFile(n.path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return b, err
}

// Save replaces the note and returns once it will outlive a power cut.
func (n *Note) Save(b []byte) error {
	if err := os.MkdirAll(filepath.Dir(n.path), 0o700); err != nil {
		return err
	}
	return durable.Replace(n.path, b)
}

// Clear removes the note.
func (n *Note) Clear() error {
	if err := os.Remove(n.path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}
