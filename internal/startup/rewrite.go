package startup

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/span"
	"twinshelf/internal/table"
)

// binaries are start-up files that name parts by the bytes of their GUIDs.
var binaries = []string{"EFI/Microsoft/Boot/BCD"}

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
		v, _ := families.Identify(disk.Section(d, p.Span.Start, p.Span.Len()), p.Span.Len(), d.SectorSize())
		tree, err := fsys.TreeOf(v)
		if err != nil {
			continue
		}
		for _, name := range append(expandAll(fsys.FS(tree), configs), binaries...) {
			item, err := fsys.Find(tree, name)
			if err != nil || !item.Mode.IsRegular() {
				continue
			}
			f, err := tree.Open(item, "")
			if err != nil {
				continue
			}
			b := make([]byte, min(f.Size(), maxConfig))
			if err := disk.ReadFull(f, b, 0); err != nil {
				continue
			}
			now, named := replaced(b, ids)
			if len(named) == 0 {
				continue
			}
			what := fmt.Sprintf("%s on part %d", name, p.Number)
			// Only what lies in clusters of its own can be written over: the rest is under a checksum or packed.
			plain, ok := f.(*fsys.Mapped)
			if !ok || plain.Data().Total() < plain.Size() {
				out.Left = append(out.Left, what)
				out.Stuck = append(out.Stuck, named...)
				continue
			}
			out.Changed = append(out.Changed, what)
			out.Patches = append(out.Patches, differing(b, now, plain.Spans(), p.Span.Start)...)
		}
	}
	return out, nil
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

// differing gives the patches of what differs between a file's contents, which lie in spans of the part that begins at
// byte start.
func differing(was, now []byte, spans []span.Span, start int64) []disk.Patch {
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
				disk.Patch{Off: start + sp.Start + from, Data: now[at+from : at+i], Why: "reference to a new identity"})
		}
		at += max(0, n)
	}
	return out
}
