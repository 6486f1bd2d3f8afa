package hive

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"

	"twinshelf/internal/disk"
	"twinshelf/internal/units"
)

// Set puts other bytes into a value, as many as it has.
func (v Value) Set(now []byte) error {
	was, err := v.Bytes()
	if err != nil {
		return err
	}
	if len(now) != len(was) {
		return fmt.Errorf("the value %q has %d bytes, and %d would be put in their place", units.Visible(v.Name()),
			len(was), len(now))
	}
	return v.pieces(func(at int64, b []byte) error {
		some := now[:len(b)]
		now = now[len(b):]
		if bytes.Equal(some, b) {
			return nil
		}
		return v.h.put(headLen+at, bytes.Clone(some))
	})
}

// SetWord is Set for a number of 32 bits.
func (v Value) SetWord(n uint32) error { return v.Set(binary.LittleEndian.AppendUint32(nil, n)) }

// put lays bytes over those of the file.
func (h *Hive) put(at int64, b []byte) error {
	if len(h.over) >= mostEdits {
		return fmt.Errorf("more than %d changes in a registry file", mostEdits)
	}
	p := disk.Patch{Off: at, Data: b}
	var out []disk.Patch
	for _, o := range h.over {
		hit := o.Span().Intersect(p.Span())
		if hit.Empty() {
			out = append(out, o)
			continue
		}
		if o.Off < hit.Start {
			out = append(out, disk.Patch{Off: o.Off, Data: o.Data[:hit.Start-o.Off]})
		}
		if o.Span().End > hit.End {
			out = append(out, disk.Patch{Off: hit.End, Data: o.Data[hit.End-o.Off:]})
		}
	}
	out = append(out, p)
	slices.SortFunc(out, func(a, b disk.Patch) int { return cmp.Compare(a.Off, b.Off) })
	h.over = out
	return nil
}

// Patches are what differs from the file, in its bytes: what was changed, what its logs had, and a first block that
// says that it is whole, with the next number. None where nothing was changed.
func (h *Hive) Patches() []disk.Patch {
	if len(h.over) == 0 {
		return nil
	}
	head := bytes.Clone(h.head)
	next := max(le.Uint32(head[headFirst:]), le.Uint32(head[headSecond:])) + 1
	le.PutUint32(head[headFirst:], next)
	le.PutUint32(head[headSecond:], next)
	le.PutUint32(head[headSum:], sum(head))
	const why = "registry"
	out := []disk.Patch{{Data: head[:headSumLen], Why: why}}
	for _, p := range h.over {
		last := &out[len(out)-1]
		if p.Off == last.Span().End && last.Off > 0 {
			last.Data = append(slices.Clip(last.Data), p.Data...)
			continue
		}
		out = append(out, disk.Patch{Off: p.Off, Data: p.Data, Why: why})
	}
	return out
}
