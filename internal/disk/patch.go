package disk

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"unique"

	"github.com/klauspost/compress/s2"

	"twinshelf/internal/span"
)

// Patch is a run of bytes that stands at byte Off instead of what the base holds: Data, or Zeros zero bytes when there
// is no Data. Several patches may share one Data. Where it comes from a Packer its bytes are packed, and Data is nil:
// whoever doesn't know asks Kind, Bytes and Part.
type Patch struct {
	Off   int64
	Data  []byte
	Zeros int64
	Why   string // in words, for the plan and the proof

	packed *packed
}

// packed are a patch's bytes in less memory, as a block of S2. Plans for several targets have the same ones: they are
// kept once.
type packed struct {
	b unique.Handle[string]
	n int64 // bytes that they are unpacked
}

// leastPacked is how many bytes are worth packing.
const leastPacked = 512

// Packer makes patches that take less memory where their bytes pack well. It is for one goroutine.
type Packer struct{ scratch []byte }

// Patch gives a patch with a copy of data.
func (k *Packer) Patch(off int64, data []byte, why string) Patch {
	p := Patch{Off: off, Why: why}
	if len(data) < leastPacked {
		p.Data = bytes.Clone(data)
		return p
	}
	if n := s2.MaxEncodedLen(len(data)); len(k.scratch) < n {
		k.scratch = make([]byte, n)
	}
	if b := s2.Encode(k.scratch, data); len(b) < len(data)*3/4 {
		p.packed = &packed{unique.Make(string(b)), int64(len(data))}
		return p
	}
	p.Data = bytes.Clone(data)
	return p
}

// Span is the bytes that the patch covers.
func (p Patch) Span() span.Span {
	switch {
	case p.packed != nil:
		return span.At(p.Off, p.packed.n)
	case p.Data == nil:
		return span.At(p.Off, p.Zeros)
	}
	return span.At(p.Off, int64(len(p.Data)))
}

// Kind is Zero for a patch of zeros, otherwise Data.
func (p Patch) Kind() PieceKind {
	if p.Data == nil && p.packed == nil {
		return Zero
	}
	return Data
}

// Bytes are what a patch of data writes; nil for zeros. They may be the patch's own and mustn't be changed.
func (p Patch) Bytes() []byte {
	if p.packed == nil {
		return p.Data
	}
	return p.unpacked(make([]byte, p.packed.n))
}

// unpacked unpacks into dst's memory. What was packed here can be unpacked, unless memory fails; then nothing is
// written that anybody could take for right.
func (p Patch) unpacked(dst []byte) []byte {
	b, err := s2.Decode(dst, []byte(p.packed.b.Value()))
	if err != nil || int64(len(b)) != p.packed.n {
		panic(fmt.Sprintf("the memory that says what stands at byte %d (%s) has changed: %v", p.Off, p.Why, err))
	}
	return b
}

// Part is what of the patch lies in a stretch that it covers.
func (p Patch) Part(sp span.Span) Patch {
	out := Patch{Off: sp.Start, Why: p.Why}
	switch {
	case sp == p.Span():
		return p
	case p.Kind() == Zero:
		out.Zeros = sp.Len()
	default:
		out.Data = p.Bytes()[sp.Start-p.Off : sp.End-p.Off]
	}
	return out
}

// Write puts the patch onto a device. step, which may be nil, hears of each
// stretch and whether it had to be written, and stops the work with its error.
func (p Patch) Write(w Writable, step func(sp span.Span, written bool) error) error {
	if p.Kind() == Zero {
		return WriteZeros(w, p.Span(), step)
	}
	const most = 4 << 20
	data := p.Bytes()
	for at := 0; at < len(data); at += most {
		b := data[at:min(len(data), at+most)]
		if _, err := w.WriteAt(b, p.Off+int64(at)); err != nil {
			return err
		}
		if step != nil {
			if err := step(span.At(p.Off+int64(at), int64(len(b))), true); err != nil {
				return err
			}
		}
	}
	return nil
}

// read fills dst, which begins at byte off of the device, as far as the patch covers it.
func (p Patch) read(dst []byte, off int64) {
	hit := p.Span().Intersect(span.At(off, int64(len(dst))))
	if hit.Empty() {
		return
	}
	to := dst[hit.Start-off : hit.End-off : hit.End-off]
	switch {
	case p.Kind() == Zero:
		clear(to)
	case p.packed != nil && hit == p.Span():
		p.unpacked(to)
	default:
		copy(to, p.Bytes()[hit.Start-p.Off:])
	}
}

// SortPatches orders patches by place and refuses those that overlap or lie
// beyond a device of size bytes. Empty ones are dropped. Patches that are so already aren't copied: nobody may change
// them afterwards.
func SortPatches(patches []Patch, size int64) ([]Patch, error) {
	ps := ordered(patches, Patch.Span, func(p Patch) int64 { return p.Off })
	end := int64(0)
	for _, p := range ps {
		if p.Off < end || p.Span().End > size {
			return nil, fmt.Errorf("patch %s (%s) overlaps another one or lies beyond the end at byte %d", p.Span(),
				p.Why, size)
		}
		end = p.Span().End
	}
	return ps, nil
}

// ordered are those that cover anything, ascending by where they begin: the same slice where all are so already.
// Patches and moves of a worn volume take megabytes.
func ordered[T any](all []T, covers func(T) span.Span, at func(T) int64) []T {
	empty := func(x T) bool { return covers(x).Empty() }
	less := func(a, b T) int { return cmp.Compare(at(a), at(b)) }
	if slices.IsSortedFunc(all, less) && !slices.ContainsFunc(all, empty) {
		return slices.Clip(all)
	}
	out := slices.DeleteFunc(slices.Clone(all), empty)
	slices.SortFunc(out, less)
	return slices.Clip(out)
}

// Over lays patches over others: where both cover a byte, the upper ones win. Neither list may overlap in itself.
func Over(upper, lower []Patch) []Patch {
	var covered span.Set
	for _, p := range upper {
		covered.Add(p.Span())
	}
	out := slices.Clone(upper)
	for _, p := range lower {
		for sp := range span.Of(p.Span()).Subtract(covered.Clip(p.Span())).All() {
			out = append(out, p.Part(sp))
		}
	}
	return out
}
