package ntfs

import (
	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

var (
	_ fsys.BootSectored = (*Volume)(nil)
	_ fsys.Mountable    = (*Volume)(nil)
	_ fsys.LoaderRead   = (*Volume)(nil)
	_ fsys.WindowsHome  = (*Volume)(nil)
	_ fsys.Stirring     = (*Volume)(nil)
)

// HiddenSectors are in the boot sector, and in its copy after the volume.
func (v *Volume) HiddenSectors(part int64) []int64 {
	at := []int64{bootHidden}
	b := make([]byte, bootLen)
	if end := v.info.Size; end+bootLen <= part && disk.ReadFull(v.r, b, end) == nil &&
		string(b[bootOEM:][:4]) == "NTFS" {
		at = append(at, end+bootHidden)
	}
	return at
}

// mostStirs is how much of the file records counts as a sign of what was written, in bytes.
const mostStirs = 1 << 20

// Stirs are the first file records: those of the volume's own files carry the times of its root and of its bitmap.
func (v *Volume) Stirs() []span.Span {
	var out []span.Span
	left := int64(mostStirs)
	for _, r := range v.mft {
		if r.sparse || left <= 0 {
			continue
		}
		sp := v.clusterSpan(r.lcn, r.n)
		sp.End = min(sp.End, sp.Start+left)
		left -= sp.Len()
		out = append(out, sp)
	}
	return out
}

// Drivers are those of the kernel, the newer one first.
func (v *Volume) Drivers() []fsys.Driver { return []fsys.Driver{{Name: "ntfs3"}, {Name: "ntfs"}} }

// LoaderModule is what loaders call their driver.
func (v *Volume) LoaderModule() string { return "ntfs" }

// WindowsHome marks it as what Windows starts from.
func (v *Volume) WindowsHome() {}
