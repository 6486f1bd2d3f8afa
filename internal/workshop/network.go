package workshop

import (
	"context"
	"fmt"
	"time"

	"twinshelf/internal/machine"
	"twinshelf/internal/network"
	"twinshelf/internal/stick/ramdisk"
	"twinshelf/internal/store/far"
	"twinshelf/internal/units"
)

// Wires bring up the wired network of a machine that was started from a stick.
type Wires interface {
	Cards() ([]network.Card, error)
	// Set is what was set last, by whichever console; nil for nothing.
	Set() *network.Settings
	Automatic(ctx context.Context, card string, before *network.Settings) (*network.Settings, error)
	Use(ctx context.Context, s *network.Settings) error
	Off(card string) error
}

// wired is about the network. Elsewhere than on a machine that was started from a stick the system has it.
type wired struct {
	*room
	// Stands stands in for the machine's own wires; nil where those are meant.
	Stands Wires
}

// Wires are those of this machine.
func (w *wired) Wires() Wires {
	if w.Stands != nil {
		return w.Stands
	}
	return network.Network{Root: w.Bench.Host.Root}
}

// KeysFolder is where keys for servers are looked for on a machine that was started from a stick; empty elsewhere, and
// where the stick has no part for them.
func (w *hosting) KeysFolder() string {
	if g := w.Stick(); g == nil || !g.Records {
		return ""
	}
	return ramdisk.Home + "/.ssh"
}

// MoveClock moves the clock of the system by what a server said that it is wrong; that of the machine stays.
func (w *hosting) MoveClock(by time.Duration) error {
	t := time.Now().Add(by)
	if g := w.Stick(); g != nil && t.Before(g.Made) {
		return fmt.Errorf("%w: the server says %s, and the stick was made on %s", ErrClock, units.Moment(t),
			units.Moment(g.Made))
	}
	return machine.SetClock(t)
}

// FarFound are the remembered shelves that lie far away, as if they had been found; whether they can be reached isn't
// tried.
func FarFound(known []KnownShelf) (out []FoundShelf) {
	for _, k := range known {
		if k.Far {
			out = append(out, FoundShelf{ID: k.ID, Name: k.Name, Folder: k.Path, Sealed: k.Sealed,
				Drive: far.Where(k.Path) + ", " + k.Path, Twins: k.Twins, Newest: k.Seen, Far: true})
		}
	}
	return out
}
