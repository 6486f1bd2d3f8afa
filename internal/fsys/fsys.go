// Package fsys is what the tool knows of file systems: which one a part holds, which of its bytes matter, and what can
// be done with it. Each family has a package of its own below this one; none knows another. fsys/families lists them.
//
// Everything here reads bytes that nobody vouches for: probes and walks are
// bounded, and what doesn't add up is an error with a place in it.
package fsys

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"

	"twinshelf/internal/signature"
	"twinshelf/internal/span"
)

// Volume is a file system that was recognised on a part.
type Volume interface {
	Info() Info
	// Used yields the bytes of the volume that matter, ascending, not
	// overlapping, within [0, Info().Size): everything allocated and
	// everything the file system needs that no allocation map names. An error
	// ends it and means that the maps can't be trusted.
	Used() iter.Seq2[span.Span, error]
}

// Info describes a volume.
type Info struct {
	Kind  string `json:"kind"` // "ext4", "NTFS", "FAT32", "swap" …
	Label string `json:"label,omitempty"`
	ID    string `json:"id,omitempty"` // UUID or serial, as blkid writes it
	Size  int64  `json:"size"`         // bytes, may be less than the part's
	Unit  int64  `json:"unit"`         // allocation unit in bytes
	// Swap says that it holds swapped-out memory and no files.
	Swap bool `json:"swap,omitempty"`
	// Unclean says in words why the volume's maps may be stale: mounted, not
	// unmounted cleanly, journal not replayed, hibernated. Empty when quiet.
	Unclean string `json:"unclean,omitempty"`
	// Opaque says in words why nothing of it is believed or changed here although it is known by its signature. Empty
	// for what can be read.
	Opaque string `json:"opaque,omitempty"`
}

// Known says whether anything was recognised: a file system, or a container.
func (i Info) Known() bool { return i.Kind != "" }

// Omission is something a volume holds that nobody needs after a restore.
type Omission struct {
	What  string   `json:"what"`
	Why   string   `json:"why"`
	Bytes int64    `json:"bytes"`
	Spans span.Set `json:"-"` // relative to the volume
}

// Omitter is a Volume that can name what may be left out.
type Omitter interface {
	Omissions() ([]Omission, error)
}

// Unchanging is a Volume whose own records prove which contents are what they were earlier.
type Unchanging interface {
	// Unchanged calls proven with stretches, relative to the volume and in any order, whose bytes are what they were
	// on before, the same volume earlier. Nothing is proven when that is another volume.
	Unchanged(ctx context.Context, before Volume, proven func(span.Span) error) error
	// Caveat says in words why the records of this family may miss a change; empty when a change always shows.
	Caveat() string
}

// Witness is an Unchanging whose system keeps a journal of what it changes.
type Witness interface {
	// Witness says in words what the journal tells of the time since before, or why it tells nothing; empty where
	// before is another volume.
	Witness(ctx context.Context, before Volume) string
}

// Probe looks at a part of size bytes and returns the volume on it, nil when
// it isn't of this family, or an error when it is but can't be understood.
// sector is the disk's logical sector size in bytes.
type Probe func(r io.ReaderAt, size int64, sector int) (Volume, error)

// Family is what makes a family of file systems known.
type Family struct {
	Name  string
	Probe Probe
	// Hides is the name of a signature whose holder looks like this family to systems that don't know it.
	Hides string
	// Makers are the kinds that it makes.
	Makers []Maker
	// Mirrors are where a volume of the family would keep copies of what can't be done without; see Families.Mirrors.
	// Nil where there are none.
	Mirrors func(r io.ReaderAt, size, sector int64) []Mirror
}

// Families are the families that are known, in the order in which they are asked.
type Families []Family

// Identify returns the volume on a part, or nil when nothing is known there. What is known only by its signature, or
// bears more than one, is an opaque volume. An error comes with the reason in words; the part must then be taken whole.
func (f Families) Identify(r io.ReaderAt, size int64, sector int) (Volume, error) {
	marks, err := signature.Scan(r, size)
	if err != nil {
		return nil, err
	}
	found, problem := f.probe(r, size, sector, marks)
	switch {
	case len(marks) == 0 && len(found) == 1:
		return found[0], nil
	case len(marks)+len(found) > 0:
		return opaque(found, marks, size), nil
	}
	return nil, problem
}

// probe asks every family but those that only seem to be there.
func (f Families) probe(r io.ReaderAt, size int64, sector int,
	marks []signature.Found) (found []Volume, problem error) {
	for _, family := range f {
		hides := func(m signature.Found) bool { return m.Kind == family.Hides }
		if slices.ContainsFunc(marks, hides) {
			continue
		}
		v, err := family.Probe(r, size, sector)
		if err != nil {
			problem = errors.Join(problem, fmt.Errorf("%s: %w", family.Name, err))
		} else if v != nil {
			found = append(found, v)
		}
	}
	return found, problem
}

// Contradiction is what a family reports when a volume's own accounts don't agree.
func Contradiction(off int64, format string, args ...any) error {
	return fmt.Errorf("at byte %d: %s", off, fmt.Sprintf(format, args...))
}
