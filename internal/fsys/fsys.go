// Package fsys is what the tool knows of file systems: which one a part holds
// and which of its bytes matter. Each family has a package of its own below
// this one that registers a probe; none knows another. Import fsys/families to
// have them all.
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
	"maps"
	"slices"
	"strings"
	"sync"

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
	// Unclean says in words why the volume's maps may be stale: mounted, not
	// unmounted cleanly, journal not replayed, hibernated. Empty when quiet.
	Unclean string `json:"unclean,omitempty"`
	// Opaque says in words why nothing of it is believed or changed here although it is known by its signature. Empty for
	// what can be read.
	Opaque string `json:"opaque,omitempty"`
}

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

// Probe looks at a part of size bytes and returns the volume on it, nil when
// it isn't of this family, or an error when it is but can't be understood.
// sector is the disk's logical sector size in bytes.
type Probe func(r io.ReaderAt, size int64, sector int) (Volume, error)

var (
	mu     sync.RWMutex
	probes = map[string]Probe{}
)

// Register makes a family known. It is called from the families' init.
func Register(family string, p Probe) {
	mu.Lock()
	defer mu.Unlock()
	probes[family] = p
}

// Identify returns the volume on a part, or nil when nothing is known there. What is known only by its signature, or bears
// more than one, is an opaque volume. An error comes with the reason in words; the part must then be taken whole.
func Identify(r io.ReaderAt, size int64, sector int) (Volume, error) {
	found, problem := probe(r, size, sector)
	marks, err := signature.Scan(r, size)
	if err != nil {
		return nil, err
	}
	if slices.ContainsFunc(marks, func(f signature.Found) bool { return f.Kind == signature.BitLockerToGo }) {
		found, problem = slices.DeleteFunc(found, isFAT), nil // the FAT is what systems see that don't know it
	}
	switch {
	case len(marks) == 0 && len(found) == 1:
		return found[0], nil
	case len(marks)+len(found) > 0:
		return opaque(found, marks, size), nil
	}
	return nil, problem
}

func isFAT(v Volume) bool { return strings.HasPrefix(v.Info().Kind, "FAT") }

// probe asks every family.
func probe(r io.ReaderAt, size int64, sector int) (found []Volume, problem error) {
	mu.RLock()
	defer mu.RUnlock()
	for _, family := range slices.Sorted(maps.Keys(probes)) {
		v, err := probes[family](r, size, sector)
		if err != nil {
			problem = errors.Join(problem, fmt.Errorf("%s: %w", family, err))
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
