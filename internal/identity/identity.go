// Package identity gives a planned disk identities of its own, so that it can stand in one machine with the disk that it was made
// from: the table's, the parts', the file systems', and what refers to them in plain files.
package identity

import (
	"context"
	"encoding/hex"
	"fmt"

	"github.com/zeebo/blake3"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
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

// Renew plans other identities for a disk. The part with the number own, 0 for none, has one of its own already.
func Renew(ctx context.Context, d disk.Device, seed string, own int) (*Renewed, error) {
	t, err := table.Read(d, d.Size(), d.SectorSize())
	if err != nil {
		return nil, err
	}
	r := &Renewed{IDs: map[string]string{}}
	patches, ids, err := t.Renew(d, func(old string) string { return Text(t.Kind, Derive(seed, old)) }, d.Size())
	if err != nil {
		return nil, err
	}
	r.Patches = append(r.Patches, patches...)
	for old, now := range ids {
		r.IDs[old] = now
	}
	if len(ids) > 0 {
		r.Does = append(r.Does, fmt.Sprintf("the %s and its parts get identities of their own", t.Kind))
	}
	parts := t.Parts
	if t.Kind == table.None { // one file system on the whole disk
		parts = []table.Part{{Number: 1, Span: span.Span{End: d.Size()}}}
	}
	for _, p := range parts {
		if p.Number == own {
			continue
		}
		if err := r.volume(d, p, seed); err != nil {
			return nil, err
		}
		r.registry(d, p)
	}
	refs, err := startup.Rewrite(ctx, d, r.IDs)
	if err != nil {
		return nil, err
	}
	r.Patches = append(r.Patches, refs.Patches...)
	for _, f := range refs.Changed {
		r.Does = append(r.Does, f+" refers to the new identities")
	}
	for _, f := range refs.Left {
		r.Stays = append(r.Stays, f+" goes on referring to the old identities: it can't be changed here")
	}
	return r, nil
}

// registryFile is where a Windows keeps, among other things, which letter each identity has.
const registryFile = "Windows/System32/config/SYSTEM"

// registry warns of a Windows, whose registry names the old identities.
func (r *Renewed) registry(d disk.Device, p table.Part) {
	v, err := fsys.Identify(disk.Section(d, p.Span.Start, p.Span.Len()), p.Span.Len(), d.SectorSize())
	if err != nil {
		return
	}
	tree, err := fsys.TreeOf(v)
	if err != nil {
		return
	}
	if _, err := fsys.Find(tree, registryFile); err == nil {
		r.Stays = append(r.Stays, fmt.Sprintf("the registry of the Windows on part %d knows its drives by the old identities: drive letters may change, and it may not start", p.Number))
	}
}

// volume plans another identity for the file system of a part.
func (r *Renewed) volume(d disk.Device, p table.Part, seed string) error {
	section := disk.Section(d, p.Span.Start, p.Span.Len())
	v, err := fsys.Identify(section, p.Span.Len(), d.SectorSize())
	if err != nil || v == nil {
		r.Stays = append(r.Stays, fmt.Sprintf("part %d keeps whatever identity it has: its contents aren't known", p.Number))
		return nil
	}
	info := v.Info()
	name := fmt.Sprintf("the %s of part %d", info.Kind, p.Number)
	able, ok := v.(fsys.Renewer)
	why := "that isn't changed here"
	if ok && info.Unclean != "" {
		ok, why = false, info.Unclean
	}
	if ok {
		patches, err := able.Renew(Derive(seed, info.ID))
		if cant, is := err.(*fsys.Cant); is {
			ok, why = false, cant.Why
		} else if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		} else {
			for i := range patches {
				patches[i].Off += p.Span.Start
			}
			now, err := seen(d, patches, p)
			if err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
			r.Patches = append(r.Patches, patches...)
			r.IDs[info.ID] = now
			r.Does = append(r.Does, fmt.Sprintf("%s gets an identity of its own, %s", name, now))
		}
	}
	if !ok {
		r.Stays = append(r.Stays, fmt.Sprintf("%s keeps its identity %s (%s): don't mount both disks at the same time by it", name, info.ID, why))
	}
	return nil
}

// seen is the identity that a part shows with patches over it.
func seen(d disk.Device, patches []disk.Patch, p table.Part) (string, error) {
	o, err := disk.NewOverlay(d, patches, d.Size())
	if err != nil {
		return "", err
	}
	v, err := fsys.Identify(disk.Section(o, p.Span.Start, p.Span.Len()), p.Span.Len(), d.SectorSize())
	if err != nil || v == nil {
		return "", fmt.Errorf("it isn't recognised with another identity (%w)", err)
	}
	return v.Info().ID, nil
}
