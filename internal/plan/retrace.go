package plan

import (
	"bytes"
	"context"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/fit"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/identity"
	"twinshelf/internal/span"
	"twinshelf/internal/startup"
	"twinshelf/internal/table"
)

// Retrace finds the plan by which a disk was made that exists already: where its parts were put, whether it was given
// identities of its own, what it was told of other disks, and whether repairs were declined. The order's wish doesn't
// count. A disk that was laid out otherwise gets the plan with every part where it was; what differs is for whoever
// compares them.
func Retrace(ctx context.Context, o Order, made disk.Device) (*Plan, error) {
	was, err := table.Read(o.Source, o.Source.Size(), o.Source.SectorSize())
	if err != nil {
		return nil, err
	}
	o.Wish = laidOut(ctx, o.Source, made, was)
	if t, err := table.Read(made, made.Size(), made.SectorSize()); err == nil && t.ID != was.ID {
		o.Wish.Fresh = t.ID == identity.Text(t.Kind, identity.Derive(o.Seed, was.ID))
	}
	p, err := Rehearse(ctx, o)
	if err != nil && o.Wish.Places != nil { // by somebody else
		o.Wish = Wish{Wish: fit.Wish{Keep: true}}
		p, err = Rehearse(ctx, o)
	}
	if err != nil {
		return nil, err
	}
	if p, err = driven(ctx, &o, p, made); err != nil {
		return nil, err
	}
	g, err := gapsOf(ctx, o, p, made)
	if err != nil {
		return nil, err
	}
	if o.Wish.Gaps = g; g != (Gaps{}) {
		if p, err = Rehearse(ctx, o); err != nil {
			return nil, err
		}
	}
	if len(o.Elsewhere) > 0 {
		if o.Others, err = startup.Told(ctx, p.Disk, made, o.Elsewhere); err != nil {
			return nil, err
		}
		if len(o.Others) > 0 {
			if p, err = Rehearse(ctx, o); err != nil {
				return nil, err
			}
		}
	}
	if slices.ContainsFunc(p.Repairs, func(q disk.Patch) bool { return !bears(made, p.Disk, q) }) {
		o.Wish.AsItStarts = true
		return Rehearse(ctx, o)
	}
	return p, nil
}

// driven is the plan with which a Windows starts in other machines too, where the disk that was made does and the
// planned one doesn't.
func driven(ctx context.Context, o *Order, p *Plan, made disk.Device) (*Plan, error) {
	is, err := startup.AnyHardware(ctx, made)
	if err != nil || !is {
		return p, err
	}
	if was, err := startup.AnyHardware(ctx, p.Disk); err != nil || was {
		return p, err
	}
	o.Wish.OtherHardware = true
	return Rehearse(ctx, *o)
}

// bears says whether a disk holds where a patch would be written what a planned one does, on which other identities may
// stand in it.
func bears(made, planned disk.Device, q disk.Patch) bool {
	a, b := make([]byte, q.Span().Len()), make([]byte, q.Span().Len())
	return disk.ReadFull(made, a, q.Off) == nil && disk.ReadFull(planned, b, q.Off) == nil && bytes.Equal(a, b)
}

// laidOut is the wish that a restored disk shows by its own table: its parts are where they were put. source is what it
// was made from, and want its table.
func laidOut(ctx context.Context, source, made disk.Device, want *table.Table) Wish {
	t, err := table.Read(made, made.Size(), made.SectorSize())
	if err == nil && t.Kind == table.None && want.Kind == table.None {
		return Wish{Wish: fit.Wish{Keep: volumeSize(ctx, made) == volumeSize(ctx, source)}}
	}
	if err != nil || t.Kind != want.Kind || t.Kind == table.None {
		return Wish{Wish: fit.Wish{Keep: true}}
	}
	wish := Wish{Wish: fit.Wish{Places: map[int]span.Span{}}}
	logical := slices.DeleteFunc(slices.Clone(want.Parts), func(p table.Part) bool { return !p.Logical })
	for _, p := range t.Parts {
		i := slices.IndexFunc(want.Parts, func(q table.Part) bool {
			return q.Number == p.Number && q.Logical == p.Logical
		})
		if p.Logical { // these are counted, so one that was left out changes the numbers after it
			n := slices.IndexFunc(logical, func(q table.Part) bool {
				return q.Type == p.Type && volumeID(ctx, source, q) == volumeID(ctx, made, p)
			})
			if i = -1; n >= 0 {
				i = slices.IndexFunc(want.Parts, func(q table.Part) bool { return q.Number == logical[n].Number })
				logical = logical[n+1:]
			}
		}
		section := disk.Section(made, p.Span.Start, p.Span.Len())
		v, _ := families.Identify(ctx, section, p.Span.Len(), made.SectorSize())
		switch {
		case i >= 0:
			wish.Places[want.Parts[i].Number] = p.Span
		case v != nil && wish.NewPart.Kind == "" && len(wish.Places) == len(want.Parts):
			wish.NewPart = NewPart{v.Info().Kind, v.Info().Label} // it was made of the room that was left
		default:
			return Wish{Wish: fit.Wish{Keep: true}} // another layout: the proof says so
		}
	}
	return wish
}

// volumeSize is how large the file system on a whole disk is, in bytes; 0 when that isn't known.
func volumeSize(ctx context.Context, d disk.Device) int64 {
	v, err := families.Identify(ctx, d, d.Size(), d.SectorSize())
	if err != nil || v == nil {
		return 0
	}
	return v.Info().Size
}

// volumeID is the identity of the file system on a part; "" when it isn't known.
func volumeID(ctx context.Context, d disk.Device, p table.Part) string {
	v, err := families.Identify(ctx, disk.Section(d, p.Span.Start, p.Span.Len()), p.Span.Len(), d.SectorSize())
	if err != nil || v == nil {
		return ""
	}
	return v.Info().ID
}
