package workshop

import (
	"context"

	"twinshelf/internal/network"
	"twinshelf/internal/store/far"
)

// Wires bring up the wired network of a machine that was started from a stick.
type Wires interface {
	Cards() ([]network.Card, error)
	// Set is what was set last, by whichever console; nil for nothing.
	Set() *network.Settings
	Automatic(ctx context.Context, card string, before *network.Settings) (*network.Settings, error)
	// Renew waits until a lease is to be renewed, and renews it; nil where something else was set meanwhile.
	Renew(ctx context.Context, s *network.Settings) (*network.Settings, error)
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
