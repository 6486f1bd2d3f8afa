package ntfs

import (
	"context"
	"encoding/binary"
	"fmt"

	"twinshelf/internal/fsys"
)

// Bounds of what is weighed: records, since all of them are read, and folders in each other.
const (
	mostWeighed = 1 << 20
	maxWay      = 4096
)

var _ fsys.Weigher = tree{}

// scales is what a pass over the file records finds of each, by its number.
type scales struct {
	parent []uint32 // the number of its folder; 0 where it isn't in use
	size   []int64  // bytes of its contents
	owner  []int32  // which of the folders it is below, from 1; 0 where that isn't known yet, -1 for none
}

// Weigh adds up the files below folders, in one pass over the file records: a file with several names counts once, as
// long as it is, whether it is packed or has holes.
func (t tree) Weigh(ctx context.Context, folders []fsys.Item) ([]int64, error) {
	v := t.v
	n := v.mftSize / v.record
	if n > mostWeighed {
		return nil, fmt.Errorf("folders of a volume with more than %d file records aren't weighed", mostWeighed)
	}
	s := &scales{make([]uint32, n), make([]int64, n), make([]int32, n)}
	for i, f := range folders {
		r, ok := f.Ref.(ref)
		if !ok || r.number() >= n || !f.IsDir() {
			return nil, fmt.Errorf("%s is no folder of this volume", f.Name)
		}
		s.owner[r.number()] = int32(i + 1)
	}
	chunk := max(1, mftChunk/v.record)
	b := make([]byte, chunk*v.record)
	for first := int64(0); first < n; first += chunk {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		b := b[:min(chunk, n-first)*v.record]
		if _, err := v.readRuns(v.mft, b, first*v.record); err != nil {
			return nil, err
		}
		for at := int64(0); at < int64(len(b)); at += v.record {
			s.enter(first+at/v.record, b[at:at+v.record])
		}
	}
	out := make([]int64, len(folders))
	for i, size := range s.size {
		if size > 0 {
			if k := s.below(uint32(i)); k > 0 {
				out[k-1] += size
			}
		}
	}
	return out, nil
}

// enter takes in what a record says. One that can't be read has nothing.
func (s *scales) enter(number int64, b []byte) {
	le := binary.LittleEndian
	if unfix(b, recMagic, 0) != nil || le.Uint16(b[recFlags:])&recordInUse == 0 {
		return
	}
	of := number
	if base := int64(le.Uint64(b[recBaseRecord:]) & recNumberBytes); base != 0 {
		of = base
	}
	if of >= int64(len(s.size)) {
		return
	}
	for _, a := range (&record{b: b}).attributes() {
		switch {
		case a.kind == attrFileName && len(a.value) >= 8 && s.parent[of] == 0:
			s.parent[of] = uint32(min(le.Uint64(a.value)&recNumberBytes, mostWeighed))
		case a.kind != attrData || a.name != "":
		case a.nonResident && a.firstVCN == 0:
			s.size[of] += min(a.size, 1<<42)
		case !a.nonResident:
			s.size[of] += int64(len(a.value))
		}
	}
}

// below says which of the folders a record is below, or is; -1 for none.
func (s *scales) below(n uint32) int32 {
	var way []uint32
	found := int32(-1)
	for at := n; at < uint32(len(s.owner)) && len(way) < maxWay; at = s.parent[at] {
		if s.owner[at] != 0 {
			found = s.owner[at]
			break
		}
		if way = append(way, at); at == recRoot || s.parent[at] == 0 {
			break
		}
	}
	for _, at := range way {
		s.owner[at] = found
	}
	return found
}
