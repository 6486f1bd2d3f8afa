package rescue

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"twinshelf/internal/disk"
	"twinshelf/internal/disk/health"
	"twinshelf/internal/run"
	"twinshelf/internal/shelf"
	"twinshelf/internal/units"
)

const (
	// largeRate is assumed for what is read in large pieces, in bytes per second.
	largeRate = 100 * units.MB
	// badTime is assumed for a read of a bad sector.
	badTime = time.Second
	// mostCounted bounds the estimate: beyond it nobody waits for the end.
	mostCounted = 1_000_000
)

// Words say what the sitting will do.
func (p *Plan) Words(ctx context.Context) []string {
	var out []string
	if t := p.Before(ctx); t != nil {
		out = append(out, fmt.Sprintf("it goes on from the sitting of %s (%s); what was got isn't read again",
			units.Moment(t.Taken), t.RescueWords()))
		if n := p.left(t); n > 0 {
			out = append(out, fmt.Sprintf("%s are left, up to %s: trying each once takes about %s where a bad one "+
				"takes a second", units.Bytes(t.Missing()), units.Plural(int(n), "sector"), units.Duration(trying(n))))
		}
	} else {
		out = append(out, "it is the first sitting with these drives")
	}
	for _, s := range p.Sources {
		if v := s.Health.Verdict(); v.Level >= health.Watch {
			out = append(out, disk.Sticker(s.Device.Identity())+": "+v.Words())
		}
	}
	return append(out, "it can be stopped at any time: what was read by then is on the shelf, and another "+
		"sitting goes "+
		"on")
}

// left is how many physical sectors a twin misses, at the most.
func (p *Plan) left(t *shelf.Twin) (n int64) {
	for i, d := range t.Disks {
		sector := p.Sources[i].physical()
		for sp := range d.Missing.All() {
			n += (sp.Len() + sector - 1) / sector
		}
	}
	return n
}

func trying(sectors int64) time.Duration { return time.Duration(min(sectors, mostCounted)) * badTime }

// Expected is how long each pass will probably take, as far as the twins of the machine tell.
func (p *Plan) Expected(ctx context.Context) run.Expected {
	out := make(run.Expected, len(Phases))
	large := func(n int64) time.Duration { return time.Duration(float64(n) / largeRate * float64(time.Second)) }
	if t := p.Before(ctx); t != nil {
		out[Stride-1] = large(t.Missing())
		if p.until() == Single {
			out[Single-1] = trying(p.left(t))
		}
		return out
	}
	twins, _ := p.Shelf.Twins(ctx) // newest first within a machine
	i := slices.IndexFunc(twins, func(t *shelf.Twin) bool { return strings.EqualFold(t.Machine, p.Machine) })
	if i < 0 {
		return nil
	}
	out[Stride-1] = large(twins[i].Used)
	return out
}
