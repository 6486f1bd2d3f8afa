package ntfs

import (
	"fmt"
	"io"
	"sync"

	"twinshelf/internal/disk"
	"twinshelf/internal/fsys"
	"twinshelf/internal/span"
)

const (
	maxUnit      = 8 // a stream is packed in units of at most 2^8 clusters
	maxUnitBytes = 1 << 20
)

// contents gives the bytes of a stream.
func (v *Volume) contents(s stream, at int64) (fsys.Contents, error) {
	if s.flags&streamEncrypted != 0 {
		return nil, fsys.ErrEncrypted
	}
	if s.value != nil || s.size == 0 {
		return &fsys.Resident{Bytes: s.value, At: []span.Span{span.At(s.valueAt, int64(len(s.value)))}}, nil
	}
	end := int64(0)
	if n := len(s.runs); n > 0 {
		end = (s.runs[n-1].vcn + s.runs[n-1].n) * v.cluster
	}
	if s.size < 0 || s.valid < 0 || min(s.size, s.valid) > end {
		return nil, fsys.Contradiction(at, "a stream claims %d bytes and has clusters for %d", s.size, end)
	}
	if s.flags&streamCompressed != 0 {
		if s.unit < 1 || s.unit > maxUnit || v.cluster<<s.unit > maxUnitBytes {
			return nil, fsys.Contradiction(at, "a stream is packed in units of 2^%d clusters", s.unit)
		}
		return &packed{v: v, s: s, unit: v.cluster << s.unit, held: -1}, nil
	}
	m := &fsys.Mapped{R: v.r, Length: s.size}
	for _, r := range s.runs {
		sp := span.At(r.vcn*v.cluster, r.n*v.cluster).Intersect(span.Span{End: min(s.size, s.valid)})
		if !r.sparse && !sp.Empty() {
			m.Places = append(m.Places, fsys.Stretch{Span: sp, At: r.lcn * v.cluster})
		}
	}
	return m, nil
}

// packed is a compressed stream: units that are stored whole, packed into fewer clusters, or not at all.
type packed struct {
	v    *Volume
	s    stream
	unit int64 // bytes

	mu   sync.Mutex
	held int64 // number of the unit in buf; -1 for none
	buf  []byte
	raw  []byte
}

func (p *packed) Size() int64 { return p.s.size }

func (p *packed) ReadAt(b []byte, off int64) (int, error) {
	if off < 0 || off >= p.s.size {
		return 0, io.EOF
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	want := b[:min(int64(len(b)), p.s.size-off)]
	for done := 0; done < len(want); {
		at := off + int64(done)
		if err := p.hold(at / p.unit); err != nil {
			return done, fmt.Errorf("at byte %d of the file: %w", at, err)
		}
		done += copy(want[done:], p.buf[at%p.unit:])
	}
	if len(want) < len(b) {
		return len(want), io.EOF
	}
	return len(want), nil
}

// hold unpacks unit n.
func (p *packed) hold(n int64) error {
	if p.held == n {
		return nil
	}
	p.held = -1
	if p.buf == nil {
		p.buf, p.raw = make([]byte, p.unit), make([]byte, p.unit)
	}
	stored := p.stored(n)
	have := int64(0)
	for _, sp := range stored {
		if err := disk.ReadFull(p.v.r, p.raw[have:have+sp.Len()], sp.Start); err != nil {
			return err
		}
		have += sp.Len()
	}
	if have == p.unit {
		copy(p.buf, p.raw)
	} else if err := unpack(p.buf, p.raw[:have]); err != nil {
		return err
	}
	if start := n * p.unit; start+p.unit > p.s.valid {
		clear(p.buf[max(0, p.s.valid-start):])
	}
	p.held = n
	return nil
}

// stored is where the clusters of unit n lie.
func (p *packed) stored(n int64) []span.Span {
	per := p.unit / p.v.cluster
	want := span.At(n*per, per)
	var out []span.Span
	for i := firstRun(p.s.runs, want.Start); i < len(p.s.runs) && p.s.runs[i].vcn < want.End; i++ {
		r := p.s.runs[i]
		hit := span.At(r.vcn, r.n).Intersect(want)
		if !r.sparse {
			out = append(out, p.v.clusterSpan(r.lcn+hit.Start-r.vcn, hit.Len()))
		}
	}
	return out
}

// Data is the units of which something is stored.
func (p *packed) Data() span.Set {
	var all []span.Span
	for _, r := range p.s.runs {
		if !r.sparse {
			first, last := r.vcn*p.v.cluster/p.unit, ((r.vcn+r.n)*p.v.cluster+p.unit-1)/p.unit
			all = append(all,
				span.Span{Start: first * p.unit,
					End: last * p.unit}.Intersect(span.Span{End: min(p.s.size, p.s.valid)}))
		}
	}
	return span.Of(all...)
}

// Spans is where the packed bytes lie.
func (p *packed) Spans() []span.Span {
	var out []span.Span
	for _, r := range p.s.runs {
		if !r.sparse {
			out = append(out, p.v.clusterSpan(r.lcn, r.n))
		}
	}
	return out
}
