package capture

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

// Doubt is something about a capture that may be a mistake, and is asked before it begins.
type Doubt struct {
	Kind DoubtKind `json:"kind"`
	Says string    `json:"says"`
}

// DoubtKind is the kind of a doubt; a person's yes is to one of them.
type DoubtKind string

const (
	// FewerDisks: the newest twin of the machine has a disk that isn't among these, or that can't be told.
	FewerDisks DoubtKind = "fewer-disks"
	// OtherMachine: a disk was captured as another machine's.
	OtherMachine DoubtKind = "other-machine"
	// NewMachine: the name is new, and nearly that of a machine on the shelf.
	NewMachine DoubtKind = "new-machine"
)

// Doubts compares the plan with what the shelf knows of its disks and machines.
func (p *Plan) Doubts(ctx context.Context) []Doubt {
	var ids []disk.Identity
	for _, s := range p.Sources {
		ids = append(ids, s.Survey.Device.Identity())
	}
	return DoubtsOf(ctx, p.Shelf, p.Machine, ids)
}

// DoubtsOf compares the disks of a machine with what the shelf knows of them.
func DoubtsOf(ctx context.Context, s *shelf.Shelf, machine string, ids []disk.Identity) []Doubt {
	p := &doubted{s, machine, ids}
	var out []Doubt
	newest := map[string]*shelf.Twin{} // of each machine, by its name as it is written
	for _, t := range shelf.NewestTwins(ctx, s) {
		newest[t.Machine] = t
	}
	if t := newest[p.Machine]; t != nil {
		for _, d := range t.Disks {
			if !p.takes(d.Identity) {
				out = append(out,
					Doubt{FewerDisks,
						fmt.Sprintf("the twin of %s of %s has %s too, which isn't among the disks now; a system that "+
							"needs it won't be whole", p.Machine, units.Moment(t.Taken), disk.Sticker(d.Identity))})
			}
		}
	}
	twins, _ := shelf.TwinsOf(ctx, s, p.Machine)
	if err := p.Shelf.KnownNewest(ctx, p.Machine, twins); err != nil {
		out = append(out,
			Doubt{FewerDisks, fmt.Sprintf("whether these are all disks of %s can't be told: %v", p.Machine, err)})
	}
	for _, name := range slices.Sorted(maps.Keys(newest)) {
		t := newest[name]
		if name == p.Machine {
			continue
		}
		for _, d := range t.Disks {
			if p.takes(d.Identity) {
				out = append(out,
					Doubt{OtherMachine,
						fmt.Sprintf("%s was captured as a disk of %s on %s", disk.Sticker(d.Identity), name,
							units.Moment(t.Taken))})
			}
		}
		if newest[p.Machine] == nil && near(name, p.Machine) {
			out = append(out,
				Doubt{NewMachine,
					fmt.Sprintf("no machine on the shelf is called %q, but one is called %q", p.Machine, name)})
		}
	}
	return out
}

// doubted are the disks of a machine that are compared.
type doubted struct {
	Shelf   *shelf.Shelf
	Machine string
	ids     []disk.Identity
}

// takes says whether a disk is among them. One without a serial number is known by model and size.
func (p *doubted) takes(id disk.Identity) bool {
	return slices.ContainsFunc(p.ids, func(own disk.Identity) bool { return own.Key() == id.Key() })
}

// near says whether two names differ by case and spaces only, or by one letter.
func near(a, b string) bool {
	x, y := []rune(strings.ToLower(strings.Join(strings.Fields(a), " "))),
		[]rune(strings.ToLower(strings.Join(strings.Fields(b), " ")))
	if len(x) > len(y) {
		x, y = y, x
	}
	if len(y)-len(x) > 1 {
		return false
	}
	i := 0
	for i < len(x) && x[i] == y[i] {
		i++
	}
	if len(x) == len(y) { // one letter is another
		return i == len(x) || string(x[i+1:]) == string(y[i+1:]) || i+1 < len(x) && x[i] == y[i+1] && x[i+1] == y[i] &&
			string(x[i+2:]) == string(y[i+2:])
	}
	return string(x[i:]) == string(y[i+1:]) // one letter more
}
