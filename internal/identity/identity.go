// Package identity gives a planned disk identities of its own, so that it can stand in one machine with the disk that
// it was made from: the table's, the parts', the file systems', and what refers to them in plain files.
package identity

import (
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/zeebo/blake3"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/span"
	"twinshelf/internal/startup"
	"twinshelf/internal/table"
)

// Renewed is what changes on a disk that gets other identities.
type Renewed struct {
	Patches []disk.Patch // in bytes of the disk
	// IDs are the new identities by the old ones.
	IDs map[string]string
	// Does says what changes, Stays what goes on naming the old disk, both in words.
	Does, Stays []string
	// Asks is what may keep the disk from working and needs a yes of its own, in words.
	Asks  []string
	fixed []string // texts that can't be changed
}

// Derive makes a new identity from an old one: the same for the same seed, so that a plan can be made again.
func Derive(seed, old string) [16]byte {
	sum := blake3.Sum256([]byte(seed + "\n" + old))
	id := [16]byte(sum[:16])
	id[6], id[8] = id[6]&0x0F|0x40, id[8]&0x3F|0x80 // a random one (RFC 9562, section 5.4)
	return id
}

// Text is how a table writes an identity: a GUID, or the eight hex digits of an MBR.
func Text(kind table.Kind, id [16]byte) string {
	if kind == table.MBR {
		return hex.EncodeToString(id[:4])
	}
	return table.NewGUID(id)
}

// Options say from what identities are made, and what else gets some.
type Options struct {
	Seed string
	Own  int // number of a part that has an identity of its own already; 0 for none
	// Others are the new identities by the old ones of disks that are restored together with this one.
	Others map[string]string
}

// Renew plans other identities for a disk. What is named in a place that can't be changed keeps its identity.
func Renew(ctx context.Context, d disk.Device, o Options) (*Renewed, error) {
	fixed, err := startup.Fixed(ctx, d)
	if err != nil {
		return nil, err
	}
	r, refs, err := renew(ctx, d, o, fixed)
	if err == nil && len(refs.Stuck) > 0 {
		r, refs, err = renew(ctx, d, o, append(fixed, refs.Stuck...))
	}
	if err != nil {
		return nil, err
	}
	r.refer(refs)
	return r, nil
}

// Follow changes what a disk that keeps its identities says of others that don't.
func Follow(ctx context.Context, d disk.Device, others map[string]string) (*Renewed, error) {
	refs, err := startup.Rewrite(ctx, d, others)
	if err != nil {
		return nil, err
	}
	r := &Renewed{}
	r.refer(refs)
	return r, nil
}

// refer takes in what becomes of the references in files.
func (r *Renewed) refer(refs *startup.Rewritten) {
	r.Patches = append(r.Patches, refs.Patches...)
	for _, f := range refs.Changed {
		r.Does = append(r.Does, f+" refers to the new identities")
	}
	for _, f := range refs.Left {
		if strings.HasPrefix(f, startup.SystemHive) {
			r.Asks = append(r.Asks, "the registry of a Windows goes on knowing its drives by the old identities ("+f+
				"): drive letters may change, and it may not start")
			continue
		}
		r.Stays = append(r.Stays, f+" goes on referring to the old identities: it can't be changed here")
	}
}

// renew plans it once: what the fixed texts name is kept.
func renew(ctx context.Context, d disk.Device, o Options, fixed []string) (*Renewed, *startup.Rewritten, error) {
	t, err := table.Read(d, d.Size(), d.SectorSize())
	if err != nil {
		return nil, nil, err
	}
	r := &Renewed{IDs: map[string]string{}, fixed: fixed}
	patches, ids, err := t.Renew(d, func(old string) string {
		if r.named(old) || t.Dynamic() {
			return old
		}
		return Text(t.Kind, Derive(o.Seed, old))
	}, d.Size())
	if err != nil {
		return nil, nil, err
	}
	r.Patches = append(r.Patches, patches...)
	for old, now := range ids {
		if old != now {
			r.IDs[old] = now
		}
	}
	if t.Dynamic() {
		r.Stays = append(r.Stays, fmt.Sprintf("the %s and its parts keep their identities: the database of the "+
			"dynamic disk goes by them", t.Kind))
	}
	if len(r.IDs) > 0 {
		r.Does = append(r.Does, fmt.Sprintf("the %s and its parts get identities of their own", t.Kind))
	}
	parts := t.Parts
	if t.Kind == table.None { // one file system on the whole disk
		parts = []table.Part{{Number: 1, Span: span.Span{End: d.Size()}}}
	}
	for _, p := range parts {
		if p.Number == o.Own {
			continue
		}
		if err := r.volume(ctx, d, p, o.Seed); err != nil {
			return nil, nil, err
		}
	}
	all := maps.Clone(o.Others)
	if all == nil {
		all = map[string]string{}
	}
	maps.Copy(all, r.IDs)
	refs, err := startup.Rewrite(ctx, d, all)
	return r, refs, err
}

// named says whether an identity stands in a text that can't be changed.
func (r *Renewed) named(id string) bool {
	low := strings.ToLower(id)
	return id != "" && slices.ContainsFunc(r.fixed, func(text string) bool {
		return strings.Contains(strings.ToLower(text), low)
	})
}

// target is a file system that may get another identity.
type target struct {
	fsys.Home
	name string // in words
	// on finds the same volume on a disk that was changed.
	on func(disk.Device) (fsys.Volume, error)
}

// volume plans other identities for the file system of a part, or for those in a container on it.
func (r *Renewed) volume(ctx context.Context, d disk.Device, p table.Part, seed string) error {
	on := func(d disk.Device) (fsys.Volume, error) {
		return families.Identify(ctx, disk.Section(d, p.Span.Start, p.Span.Len()), p.Span.Len(), d.SectorSize())
	}
	v, err := on(d)
	if err != nil || v == nil {
		r.Stays = append(r.Stays,
			fmt.Sprintf("part %d keeps whatever identity it has: its contents aren't known", p.Number))
		return nil
	}
	for i, h := range fsys.Homes(v, p.Span.Start) {
		if h.Fixed != "" {
			r.Stays = append(r.Stays, fmt.Sprintf("%s keeps its identity: %s", h.Where(p.Number), h.Fixed))
			continue
		}
		if h.Volume == nil {
			r.Stays = append(r.Stays,
				fmt.Sprintf("%s keeps whatever identity it has: its contents aren't known", h.Device))
			continue
		}
		x := target{h, fmt.Sprintf("the %s of %s", h.Volume.Info().Kind, cmp.Or(h.Device, h.Where(p.Number))),
			func(d disk.Device) (fsys.Volume, error) {
				v, err := on(d)
				if all := fsys.Homes(v, p.Span.Start); err == nil && i < len(all) {
					return all[i].Volume, nil
				}
				return nil, err
			}}
		if err := r.reidentify(d, x, seed); err != nil {
			return err
		}
	}
	if _, ok := v.(fsys.Layered); ok {
		r.Stays = append(r.Stays, fmt.Sprintf("the %s %s on part %d keeps its name and its own identities: a machine "+
			"that has both disks takes one for the other", v.Info().Kind, v.Info().Label, p.Number))
	}
	return nil
}

// reidentify plans another identity for a file system.
func (r *Renewed) reidentify(d disk.Device, x target, seed string) error {
	info := x.Volume.Info()
	able, ok := x.Volume.(fsys.Reidentifier)
	why := "that isn't changed here"
	if ok && info.Unclean != "" {
		ok, why = false, info.Unclean
	}
	if ok && r.named(info.ID) {
		ok, why = false, "the start-up code names it and can't be told another"
	}
	if ok {
		patches, err := able.Reidentify(Derive(seed, info.ID))
		var cant *fsys.Cant
		if errors.As(err, &cant) {
			ok, why = false, cant.Why
		} else if err != nil {
			return fmt.Errorf("%s: %w", x.name, err)
		} else if err := r.give(d, x, patches); err != nil {
			return fmt.Errorf("%s: %w", x.name, err)
		}
	}
	if !ok {
		r.Stays = append(r.Stays,
			fmt.Sprintf("%s keeps its identity%s (%s): don't mount both disks at the same time by it", x.name,
				strings.TrimRight(" "+info.ID, " "), why))
	}
	return nil
}

// give enters the patches that give a file system another identity, as it shows with them.
func (r *Renewed) give(d disk.Device, x target, patches []disk.Patch) error {
	patches, err := x.OnDisk(patches)
	if err != nil {
		return err
	}
	o, err := disk.NewOverlay(d, patches, d.Size())
	if err != nil {
		return err
	}
	v, err := x.on(o)
	if err != nil || v == nil {
		return fmt.Errorf("it isn't recognised with another identity (%w)", err)
	}
	now := v.Info().ID
	r.Patches = append(r.Patches, patches...)
	r.IDs[x.Volume.Info().ID] = now
	r.Does = append(r.Does, fmt.Sprintf("%s gets an identity of its own, %s", x.name, now))
	return nil
}
