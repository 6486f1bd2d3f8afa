package startup

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/span"
	"twinshelf/internal/startup/bcd"
	"twinshelf/internal/startup/windows"
	"twinshelf/internal/table"
)

// Rewritten is what becomes of configuration files when identities change.
type Rewritten struct {
	Patches []disk.Patch // in bytes of the disk
	// Changed are files that name the new identities now, Left those that go on naming old ones, both in words.
	Changed, Left []string
	// Stuck are the old identities that those name.
	Stuck []string
}

// Rewrite puts new identities for old ones into the configuration files of a disk. They must be equally long.
func Rewrite(ctx context.Context, d disk.Device, ids map[string]string) (*Rewritten, error) {
	t, err := table.Read(d, d.Size(), d.SectorSize())
	if err != nil {
		return nil, err
	}
	out := &Rewritten{}
	for _, p := range t.Parts {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		for _, h := range homes(ctx, d, p) {
			if err := out.rewrite(h, ids); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// home is a volume that may have configuration files.
type home struct {
	tree  fsys.Tree
	where string
	// outward puts patches of the volume where its bytes lie on the disk.
	outward func([]disk.Patch) ([]disk.Patch, error)
}

// homes are the volumes on a part whose files can be changed: its own, or those in a container.
func homes(ctx context.Context, d disk.Device, p table.Part) (out []home) {
	v, _ := families.Identify(ctx, disk.Section(d, p.Span.Start, p.Span.Len()), p.Span.Len(), d.SectorSize())
	for _, h := range fsys.Homes(v, p.Span.Start) {
		if tree, err := fsys.TreeOf(h.Volume); err == nil && h.Fixed == "" {
			out = append(out, home{tree, h.Where(p.Number), h.OnDisk})
		}
	}
	return out
}

// rewrite puts new identities for old ones into the files of a volume.
func (out *Rewritten) rewrite(h home, ids map[string]string) error {
	for _, name := range []string{storeUEFI, storeBIOS, SystemHive} {
		if err := out.registry(h, name, ids); err != nil {
			return err
		}
	}
	for _, name := range append(expandAll(fsys.FS(h.tree), configs), recoveryFile) {
		item, err := fsys.Find(h.tree, name)
		if err != nil || !item.Mode.IsRegular() {
			continue
		}
		f, err := h.tree.Open(item, "")
		if err != nil {
			continue
		}
		b := make([]byte, min(f.Size(), maxConfig))
		if err := disk.ReadFull(f, b, 0); err != nil {
			continue
		}
		now, named := replaced(b, ids)
		why := ""
		if name == recoveryFile {
			var more []string
			now, more, why = resigned(now, ids)
			named = append(named, more...)
		}
		if len(named) == 0 {
			continue
		}
		what := name + " on " + h.where
		// Only what lies in clusters of its own can be written over: the rest is under a checksum or packed.
		plain, ok := f.(*fsys.Mapped)
		if !ok || plain.Data().Total() < plain.Size() || why != "" {
			out.Left = append(out.Left, what)
			out.Stuck = append(out.Stuck, named...)
			continue
		}
		patches, err := h.outward(differing(b, now, plain.Spans()))
		if err != nil {
			return fmt.Errorf("%s: %w", what, err)
		}
		out.Changed = append(out.Changed, what)
		out.Patches = append(out.Patches, patches...)
	}
	return nil
}

// registry has a registry file of Windows name the new identities.
func (out *Rewritten) registry(h home, name string, ids map[string]string) error {
	reg, err := openRegistry(h, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	what := name + " on " + h.where
	old := map[string]bool{}
	if err == nil {
		old, err = renamed(reg, ids)
	}
	var patches []disk.Patch
	if err == nil && len(old) > 0 {
		patches, err = reg.patches()
	}
	switch {
	case err != nil:
		out.Left = append(out.Left, fmt.Sprintf("%s (%v)", what, err))
		out.Stuck = append(out.Stuck, slices.Sorted(maps.Keys(old))...)
		if name != SystemHive { // without its store nothing starts: whatever it may name stays
			out.Stuck = append(out.Stuck, bears(h.tree, name, ids)...)
		}
	case len(old) > 0:
		out.Changed = append(out.Changed, what)
		out.Patches = append(out.Patches, patches...)
	}
	return nil
}

// mostStore bounds a store that can't be followed and is searched, in bytes.
const mostStore = 16 << 20

// bears are the identities of disks and parts whose bytes stand anywhere in a file; all where it can't be read.
func bears(t fsys.Tree, name string, ids map[string]string) (out []string) {
	f, err := contents(t, name)
	var b []byte
	if err == nil {
		b = make([]byte, min(f.Size(), mostStore))
		err = disk.ReadFull(f, b, 0)
	}
	for id := range ids {
		raw, failed := table.GUIDBytes(id)
		if failed != nil {
			if raw, failed = hex.DecodeString(diskOf(id)); failed != nil || len(raw) != 4 {
				continue
			}
			slices.Reverse(raw) // the lowest byte first
		}
		if err != nil || bytes.Contains(b, raw) {
			out = append(out, id)
		}
	}
	slices.Sort(out)
	return out
}

// renamed changes the names of disks and parts in a store or among the drives of a registry file, and gives the old
// ones that it found.
func renamed(reg *registry, ids map[string]string) (old map[string]bool, err error) {
	old = map[string]bool{}
	rename := func(at bcd.Place) bcd.Place {
		for _, id := range []*string{&at.Disk, &at.Part} {
			for was, now := range ids {
				if *id != "" && strings.EqualFold(*id, diskOf(was)) && len(was) == len(now) {
					*id, old[was] = diskOf(now), true
					break
				}
			}
		}
		return at
	}
	if reg.name != SystemHive {
		s, err := bcd.Read(reg.Hive)
		if err != nil {
			return old, err
		}
		_, err = s.Rename(func(_ *bcd.Object, at bcd.Place) bcd.Place { return rename(at) })
		return old, err
	}
	drives, err := windows.Drives(reg.Hive)
	if errors.Is(err, fs.ErrNotExist) {
		return old, nil
	}
	for _, d := range drives {
		if to := rename(d.Place); err == nil && to != d.Place {
			err = d.Set(to)
		}
	}
	return old, err
}

// diskOf is the identity of the disk in that of a part on an MBR, which is its signature and the part's number; others
// are what they are.
func diskOf(id string) string {
	const signature = 8
	if len(id) == signature+3 && id[signature] == '-' {
		return id[:signature]
	}
	return id
}

// replaced puts new identities for old ones, as text in whatever case and as the bytes of GUIDs; and gives the old ones
// that it found.
func replaced(b []byte, ids map[string]string) (out []byte, named []string) {
	out = slices.Clone(b)
	lower := bytes.ToLower(b)
	for old, now := range ids {
		if len(old) != len(now) || old == "" {
			continue
		}
		n := 0
		for at := 0; ; at += len(old) {
			i := bytes.Index(lower[at:], []byte(strings.ToLower(old)))
			if i < 0 {
				break
			}
			at += i
			text := strings.ToLower(now)
			if was := string(b[at : at+len(old)]); was == strings.ToUpper(was) {
				text = strings.ToUpper(now)
			}
			copy(out[at:], text)
			n++
		}
		was, err1 := table.GUIDBytes(old)
		is, err2 := table.GUIDBytes(now)
		for at := 0; err1 == nil && err2 == nil; at += len(was) {
			i := bytes.Index(b[at:], was)
			if i < 0 {
				break
			}
			at += i
			copy(out[at:], is)
			n++
		}
		if n > 0 {
			named = append(named, old)
		}
	}
	return out, named
}

// differing gives the patches of what differs between a file's contents, which lie in spans of the volume.
func differing(was, now []byte, spans []span.Span) []disk.Patch {
	var out []disk.Patch
	at := int64(0)
	for _, sp := range spans {
		n := min(sp.Len(), int64(len(was))-at)
		for i := int64(0); i < n; i++ {
			if was[at+i] == now[at+i] {
				continue
			}
			from := i
			for i < n && was[at+i] != now[at+i] {
				i++
			}
			out = append(out,
				disk.Patch{Off: sp.Start + from, Data: now[at+from : at+i], Why: "reference to a new identity"})
		}
		at += max(0, n)
	}
	return out
}
