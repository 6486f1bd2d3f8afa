package survey

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/fsys/families"
	"twinshelf/internal/span"
	"twinshelf/internal/units"
)

// Remain is something that begins at a place of a disk that no table names.
type Remain struct {
	At    int64 // byte of the disk
	Size  int64 // bytes, as it says itself; 0 when it can't be told
	Kind  string
	Label string
}

// Words says what begins where.
func (r Remain) Words() string {
	s := r.Kind
	if r.Label != "" {
		s += " “" + r.Label + "”"
	}
	return fmt.Sprintf("%s %s begins at %s", article(r.Kind), s, place(r.At))
}

// article is "a" or "an", by how a name is said: ext4, exFAT, NTFS, XFS begin with a vowel's sound.
func article(name string) string {
	spoken := []string{"FAT", "Linux", "LUKS", "Storage", "Minix", "Reiser"} // as words, not letter by letter
	word := slices.ContainsFunc(spoken, func(w string) bool { return strings.HasPrefix(name, w) })
	if strings.ContainsRune("aeioAEFHILMNORSX", rune(name[0])) && !word {
		return "an"
	}
	return "a"
}

// place is a byte of a disk in the largest unit that it is whole in.
func place(at int64) string {
	switch {
	case at > 0 && at%units.GiB == 0:
		return fmt.Sprintf("%d GiB", at/units.GiB)
	case at > 0 && at%units.MiB == 0:
		return fmt.Sprintf("%d MiB", at/units.MiB)
	case at > 0 && at%units.KiB == 0:
		return fmt.Sprintf("%d KiB", at/units.KiB)
	}
	return "byte " + units.Grouped(at)
}

const (
	// blankHead and blankTail are read whole before a disk is called blank, in bytes: what lies at the usual starts
	// shows there.
	blankHead, blankTail = 64 << 20, 16 << 20
	// samples is how many further places of a whole disk are looked at, spread evenly.
	samples   = 512
	sampleLen = 4 << 10
	blankStep = 1 << 20
	// blankData is how much data of a sparse image is read; more than that isn't blank.
	blankData = 256 << 20
)

// usualStarts are where tables let their first parts begin.
func usualStarts(sector int) []int64 {
	return []int64{1 << 20, 63 * int64(sector), 4 << 10, 64 << 10, 2048 * int64(sector), 256 * int64(sector), 32 << 10,
		2 << 20, 4 << 20, 8 << 20, 16 << 20, 1 << 30, 2 << 30}
}

// Blank says whether the disk holds no table, no file system and nothing else as far as was looked: its first 64 and
// last 16 MiB, the places of copies that file systems keep further on, and samples over all of it; of a sparse image
// all of its data.
func (s *Survey) Blank() bool { return s.blank }

// Unnamed says in words what is on a disk of which no part is known; nil when it is blank or has parts.
func (s *Survey) Unnamed() []string {
	if s.blank || len(s.Parts()) > 0 {
		return nil
	}
	if len(s.Remains) == 0 {
		if s.random {
			return []string{"contents that aren't known: no table, and its bytes look random: encrypted, packed or " +
				"wiped, which can't be told"}
		}
		return []string{"contents that aren't known: no table, but not blank"}
	}
	var all []string
	for _, r := range s.Remains {
		all = append(all, r.Words())
	}
	return []string{"no table, but something is on it: " + strings.Join(all, ", ")}
}

// lookForRemains looks what is on a disk without a table.
func (s *Survey) lookForRemains(ctx context.Context) error {
	var err error
	if s.blank, err = s.allZero(ctx); s.blank || err != nil {
		return err
	}
	s.Remains, err = Lost(ctx, s.Device)
	s.random = len(s.Remains) == 0 && fsys.LooksRandom(s.Device, s.Device.Size())
	return err
}

// Random says that a disk without a table begins with bytes that bear no order at all.
func (s *Survey) Random() bool { return s.random }

// Lost are the file systems, and what else bears a signature, that begin at the usual places of a disk whose table is
// lost, in ascending order. What lies inside another isn't counted. The error is of the context.
func Lost(ctx context.Context, d disk.Device) ([]Remain, error) {
	size := d.Size()
	var out []Remain
	starts := usualStarts(d.SectorSize())
	slices.Sort(starts)
	end := int64(0)
	for _, at := range slices.Compact(starts) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if at >= size || at < end {
			continue
		}
		v, err := families.Identify(ctx, disk.Section(d, at, size-at), size-at, d.SectorSize())
		if err != nil || v == nil {
			continue
		}
		r := Remain{At: at, Kind: v.Info().Kind, Label: v.Info().Label}
		if v.Info().Opaque == "" {
			r.Size = v.Info().Size
		}
		end = max(end, at+r.Size)
		out = append(out, r)
	}
	return out, nil
}

// allZero says whether everything that was looked at is zeros. What can't be read isn't.
func (s *Survey) allZero(ctx context.Context) (bool, error) {
	size := s.Device.Size()
	b := make([]byte, blankStep)
	zero := func(sp span.Span) (bool, error) {
		for sp := range disk.Chunks(sp.Intersect(span.Span{End: size}), blankStep) {
			if err := ctx.Err(); err != nil {
				return false, err
			}
			if disk.ReadFull(s.Device, b[:sp.Len()], sp.Start) != nil || !disk.IsZero(b[:sp.Len()]) {
				return false, nil
			}
		}
		return true, nil
	}
	if sparse, ok := s.Device.(disk.Sparse); ok {
		if known, all, err := dataIsZero(sparse, size, zero); known || err != nil {
			return all, err
		}
	}
	// what isn't blank shows here, mostly
	places := []span.Span{{End: sampleLen}, span.At(max(0, size-sampleLen), sampleLen)}
	for _, at := range usualStarts(s.Device.SectorSize()) {
		places = append(places, span.At(at, sampleLen))
	}
	// Copies of super blocks: ext in groups 1 and 3 of 4 and 1 KiB blocks, btrfs at 64 MiB and 256 GiB.
	for _, start := range []int64{0, 63 << 9, 1 << 20} {
		for _, at := range []int64{8193 << 10, 24577 << 10, 128 << 20, 384 << 20, 640 << 20, 64 << 20, 256 << 30} {
			places = append(places, span.At(start+at, sampleLen))
		}
	}
	for i := range int64(64) {
		places = append(places, span.At(i<<30, sampleLen))
	}
	places = append(places, span.Span{End: blankHead}, span.Span{Start: max(0, size-blankTail), End: size})
	for i := range int64(samples) {
		places = append(places, span.At(size/samples*i/sampleLen*sampleLen, sampleLen))
	}
	for _, sp := range places {
		if ok, err := zero(sp); !ok || err != nil {
			return false, err
		}
	}
	return true, nil
}

// dataIsZero goes over the data of a sparse device. known is false where the device doesn't know its holes.
func dataIsZero(d disk.Sparse, size int64, zero func(span.Span) (bool, error)) (known, all bool, err error) {
	read := int64(0)
	for at := int64(0); at < size; {
		data, err := d.NextData(at)
		if errors.Is(err, io.EOF) {
			return true, true, nil
		}
		if err != nil || read == 0 && data.Covers(span.Span{End: size}) {
			return false, false, nil
		}
		if read += data.Len(); read > blankData {
			return true, false, nil
		}
		if ok, err := zero(data); !ok || err != nil {
			return true, false, err
		}
		at = data.End
	}
	return true, true, nil
}
