package workshop

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"twinshelf/internal/bench"
	"twinshelf/internal/disk"
	"twinshelf/internal/firmware"
	"twinshelf/internal/machine"
	"twinshelf/internal/mounts"
	"twinshelf/internal/startup"
	"twinshelf/internal/stick/base"
	"twinshelf/internal/stick/keys"
	"twinshelf/internal/stick/ramdisk"
	"twinshelf/internal/units"
)

// hosting is about the computer that the program runs on.
type hosting struct{ *room }

// root is where the computer's own files are.
func (w *room) root() string { return filepath.Join("/", w.Bench.Host.Root) }

// Computer is the computer that the program runs on.
func (w *room) Computer() *machine.Machine { return machine.Look(w.root()) }

// Stick says what is particular where a machine was started from a stick.
type Stick struct {
	// Made is when the stick's system was collected: no clock may say that it is earlier.
	Made time.Time
	// Records says that the records, logs and papers lie on the stick's data part and are kept.
	Records bool
	// Display says that this program is on the machine's own screen, where its keyboard types.
	Display bool
}

// Stick is what is known of the stick that this machine was started from; nil where it wasn't.
func (w *hosting) Stick() *Stick {
	if !w.Bench.Started {
		return nil
	}
	g := &Stick{Records: within(w.State.Folder(), ramdisk.Records),
		Display: os.Getenv(ramdisk.Console) == ramdisk.Display}
	var m base.Manifest
	if b, err := os.ReadFile(filepath.Join(w.root(), ramdisk.Manifest)); err == nil && json.Unmarshal(b, &m) == nil {
		g.Made = m.Made
	}
	return g
}

// ErrClock means that the clock can't be right.
var ErrClock = errors.New("the clock can't be right")

// checkClock refuses a clock that says a time before the stick was made: a twin taken now would be put among the wrong
// dates. Elsewhere the system keeps the clock.
func (w *room) checkClock() error {
	g := (&hosting{w}).Stick()
	if g == nil || !time.Now().Before(g.Made) {
		return nil
	}
	return fmt.Errorf("%w: it says %s, and the stick that this machine was started from was made on %s; set it first",
		ErrClock, units.Moment(time.Now()), units.Moment(g.Made))
}

// SetClock sets the clock of the system; that of the machine, in its hardware, stays as it is.
func (w *hosting) SetClock(text string) error {
	t, err := machine.ParseMoment(text)
	if err != nil {
		return err
	}
	return w.setClock(t)
}

// MoveClock moves the clock of the system by what a server said that it is wrong; that of the machine stays.
func (w *hosting) MoveClock(by time.Duration) error { return w.setClock(time.Now().Add(by)) }

func (w *hosting) setClock(t time.Time) error {
	if g := w.Stick(); g != nil && t.Before(g.Made) {
		return fmt.Errorf("%w: the stick was made on %s, which is later", ErrClock, units.Moment(g.Made))
	}
	return machine.SetClock(t)
}

// Keyboard is the ID of the layout that was chosen here; empty for none.
func (w *hosting) Keyboard() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.State.Keyboard != "" {
		return w.State.Keyboard
	}
	return strings.TrimSpace(os.Getenv(ramdisk.Keyboard))
}

// UseKeyboard has the machine's keyboard type by a layout.
func (w *hosting) UseKeyboard(id string) error {
	l, known := keys.Find(id)
	if !known {
		return fmt.Errorf("there is no keyboard layout %q", id)
	}
	m, err := keys.Read(os.DirFS(w.root()), l)
	if err != nil {
		return err
	}
	console, err := os.Open(ramdisk.Display)
	if err != nil {
		return err
	}
	defer console.Close()
	return m.Use(console)
}

// RememberKeyboard remembers a layout on the stick: with the records, or where it has no part for them beside its
// system.
func (w *hosting) RememberKeyboard(id string) error {
	w.mu.Lock()
	err := w.State.SetKeyboard(id)
	w.mu.Unlock()
	part := os.Getenv(ramdisk.SystemPart)
	if g := w.Stick(); err != nil || g == nil || g.Records || part == "" {
		return err
	}
	return mounts.Briefly(part, func(dir string) error {
		return mounts.WriteSmall(filepath.Join(dir, ramdisk.KeyboardFile), []byte(id+"\n"))
	})
}

// End tells the first process of a machine that was started from a stick what to do when the full screen is left: off,
// restart, setup (restart into the firmware's set-up), or leave.
func (w *hosting) End(how string) error {
	if how == "leave" {
		return nil
	}
	if how == "setup" {
		if err := w.Variables().OpenSetup(); err != nil {
			return err
		}
		how = "restart"
	}
	return mounts.WriteSmall(ramdisk.End, []byte(how+"\n"))
}

// News is what went wrong with the stick's system since the screen was opened; empty for nothing.
func (w *hosting) News() string {
	b, err := os.ReadFile(filepath.Join(w.root(), ramdisk.News))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(b))
}

// Reachable says whether a folder can be read.
func (w *hosting) Reachable(dir string) bool {
	_, err := os.ReadDir(dir)
	return err == nil
}

// ProposeName proposes a name for the machine that a disk is of, which nobody has named yet: on a machine that was
// started from a stick what its firmware calls it, for disks that are built in; otherwise what a Windows on the disk is
// called.
func (w *hosting) ProposeName(d *bench.Disk) string {
	if w.Bench.Started && !d.Removable && d.Identity.Bus != "USB" {
		return w.Computer().Name()
	}
	for _, s := range d.Systems {
		if s.Machine != "" {
			return s.Machine
		}
	}
	return ""
}

// PowerWarning says that the computer runs on its battery; empty where it doesn't.
func (w *room) PowerWarning() string {
	if w.Demo {
		return ""
	}
	return w.Computer().Power.Warning()
}

// StartEntry is a loader on a disk that the firmware of this machine can be told to start.
type StartEntry struct {
	startup.Loader
	Place firmware.Place
}

// StartEntries are the loaders of a probed disk that the firmware can be given an entry for, the best first.
func (w *hosting) StartEntries(ctx context.Context, d *bench.Disk) ([]StartEntry, error) {
	if d.Device == nil {
		return nil, fmt.Errorf("%s can't be read: %s", d.Path, d.Words())
	}
	loaders, err := startup.Loaders(ctx, disk.Until(ctx, d.Device))
	if err != nil {
		return nil, err
	}
	sector := int64(d.Device.SectorSize())
	var out []StartEntry
	for _, l := range loaders {
		out = append(out, StartEntry{l, firmware.Place{Part: uint32(l.Part.Number),
			Start: uint64(l.Part.Span.Start / sector),
			Size:  uint64(l.Part.Span.Len() / sector), ID: l.Part.GUID, GPT: true}})
	}
	return out, nil
}

// Variables are those of this machine's firmware.
func (w *hosting) Variables() firmware.Variables {
	return firmware.Variables{Dir: filepath.Join(w.root(), firmware.Usual)}
}

// AddStartEntry has the firmware start a loader before anything else.
func (w *hosting) AddStartEntry(e StartEntry, title string) (*firmware.Undo, error) {
	return w.Variables().Add(title, `\`+strings.ReplaceAll(e.File, "/", `\`), e.Place)
}
