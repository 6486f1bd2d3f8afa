// Package signature recognises what stands on a disk or a part of one by the marks that every kind of file system,
// container, encryption and swap area has at places of its own. It knows many more kinds than can be read here: what
// isn't read must still be named, and never be taken for something else.
//
// Sources are the public descriptions of the formats, named beside each kind.
package signature

import (
	"errors"
	"fmt"
	"io"
	"slices"

	"twinshelf/internal/disk"
)

// Class says what a kind means for whoever wants to change it.
type Class int

const (
	// FileSystem holds files.
	FileSystem Class = iota
	// Member is part of something larger: a mirror, a volume group, a pool.
	Member
	// Encrypted can't be read without a key.
	Encrypted
	// Swap holds swapped-out memory.
	Swap
	// Asleep holds the memory of a sleeping system.
	Asleep
)

// Found is a signature that was found.
type Found struct {
	Kind  string // in words: "XFS", "LUKS2", "Linux RAID member"
	Class Class
	Label string
	ID    string // as the systems that use it write it
	At    int64  // byte of the area at which the mark stands
}

func (f Found) String() string { return f.Kind }

// Scan looks for all signatures on an area of size bytes. Kinds that are there more than once are given once. An error
// means that some place couldn't be read, so that there may be more.
func Scan(r io.ReaderAt, size int64) ([]Found, error) {
	a := &area{r: r, size: size, pages: map[int64][]byte{}}
	var out []Found
	for i := range kinds {
		k := &kinds[i]
		for _, at := range k.places(a) {
			if !k.matches(a, at) {
				continue
			}
			f := Found{Kind: k.name, Class: k.class, At: at}
			if k.describe != nil {
				k.describe(a, at, &f)
			}
			if !slices.ContainsFunc(out, func(o Found) bool { return o.Kind == f.Kind }) {
				out = append(out, f)
			}
			break
		}
	}
	return out, errors.Join(a.problems...)
}

// Disc says whether an image of a disc (ISO 9660) begins there: with a table beside it, the disk is claimed twice.
func Disc(r io.ReaderAt, size int64) bool {
	a := &area{r: r, size: size, pages: map[int64][]byte{}}
	return a.has(32<<10+1, "CD001")
}

// kind is how one kind is known.
type kind struct {
	name  string
	class Class
	// at are the places of its mark, in bytes; negative ones count from the end.
	at []int64
	// from gives further places.
	from func(a *area) []int64
	// offset is how far after a place the mark stands.
	offset int64
	magic  string
	// also says whether the rest fits, where the mark alone isn't enough.
	also     func(a *area, at int64) bool
	describe func(a *area, at int64, f *Found)
}

func (k *kind) places(a *area) []int64 {
	var out []int64
	for _, at := range k.at {
		if at < 0 {
			at += a.size
		}
		out = append(out, at)
	}
	if k.from != nil {
		out = append(out, k.from(a)...)
	}
	return out
}

func (k *kind) matches(a *area, at int64) bool {
	return at >= 0 && a.has(at+k.offset, k.magic) && (k.also == nil || k.also(a, at))
}

// page is how much is read at once, in bytes.
const page = 4096

// maxPages bounds what is read of an area.
const maxPages = 1024

// area is what is looked at, page by page.
type area struct {
	r        io.ReaderAt
	size     int64
	pages    map[int64][]byte
	problems []error
}

// bytes gives n bytes at a place; zeros stand for those that aren't there.
func (a *area) bytes(at int64, n int) []byte {
	out := make([]byte, n)
	for done := 0; done < n; {
		pos := at + int64(done)
		if pos < 0 || pos >= a.size {
			break
		}
		within := int(pos % page)
		p := a.page(pos / page)
		if within < len(p) {
			copy(out[done:], p[within:])
		}
		done += page - within
	}
	return out
}

func (a *area) page(n int64) []byte {
	if p, known := a.pages[n]; known {
		return p
	}
	if len(a.pages) >= maxPages {
		return nil
	}
	p := make([]byte, min(page, a.size-n*page))
	if err := disk.ReadFull(a.r, p, n*page); err != nil {
		a.problems = append(a.problems, fmt.Errorf("a place where a signature may lie can't be read: %w", err))
		p = nil
	}
	a.pages[n] = p
	return p
}

func (a *area) has(at int64, magic string) bool { return string(a.bytes(at, len(magic))) == magic }
