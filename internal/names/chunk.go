package names

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"time"

	"github.com/cespare/xxhash/v2"
)

// Sizes of chunks: an entry whose path's hash ends in cutBits zeros ends its chunk, and so does one that makes it too
// long.
const (
	cutBits    = 10
	maxNames   = 40 << 10 // bytes of names and paths
	maxEntries = 1 << 11
	maxPath    = 16 << 10 // a longer one isn't listed

	formatNames = 1
	formatAttrs = 1
	formatKeys  = 1

	hiddenBit = 0x80
	kindBits  = 0x0F
	noTime    = math.MinInt64
)

// chunk is a stretch of the index, decoded.
type chunk struct {
	// names are the entries' names, each with a zero after it: what a search looks through.
	names   []byte
	folders []folder
	kinds   []byte
}

// folder is one whose entries, or some of them, stand in a chunk.
type folder struct {
	path  string // "" for the root
	count int
}

type attrs struct {
	id, size []int64
	when     []int64 // ns since 1970; noTime for none
}

// writer collects a chunk.
type writer struct {
	chunk
	attrs
	bytes int
}

func (w *writer) add(path string, e Entry) (full bool) {
	dir, name := split(path)
	if n := len(w.folders); n == 0 || w.folders[n-1].path != dir {
		w.folders = append(w.folders, folder{dir, 0})
		w.bytes += len(dir)
	}
	w.folders[len(w.folders)-1].count++
	w.names = append(append(w.names, name...), 0)
	w.bytes += len(name)
	k := byte(e.Kind)
	if e.Hidden {
		k |= hiddenBit
	}
	w.kinds = append(w.kinds, k)
	w.id, w.size = append(w.id, int64(e.ID)), append(w.size, e.Size)
	when := int64(noTime)
	if !e.Modified.IsZero() {
		when = e.Modified.UnixNano()
	}
	w.when = append(w.when, when)
	return len(w.kinds) >= maxEntries || w.bytes >= maxNames || xxhash.Sum64String(path)&(1<<cutBits-1) == 0
}

// encode gives the two chunks: the names, and what changes more often.
func (w *writer) encode() (names, rest []byte) {
	names = []byte{formatNames}
	names = binary.AppendUvarint(names, uint64(len(w.kinds)))
	names = binary.AppendUvarint(names, uint64(len(w.names)))
	names = append(append(names, w.names...), w.kinds...)
	names = binary.AppendUvarint(names, uint64(len(w.folders)))
	for _, f := range w.folders {
		names = binary.AppendUvarint(names, uint64(f.count))
		names = binary.AppendUvarint(names, uint64(len(f.path)))
		names = append(names, f.path...)
	}
	rest = []byte{formatAttrs}
	rest = binary.AppendUvarint(rest, uint64(len(w.id)))
	for _, column := range [][]int64{w.id, w.size, w.when} {
		for _, n := range column {
			rest = binary.LittleEndian.AppendUint64(rest, uint64(n))
		}
	}
	return names, rest
}

var errGarbled = errors.New("a chunk of the index of names is garbled")

// reader takes numbers and stretches off bytes; after an error it gives zeros.
type reader struct {
	b   []byte
	bad bool
}

func (r *reader) number(limit int) int {
	n, k := binary.Uvarint(r.b)
	if k <= 0 || n > uint64(limit) {
		r.bad, r.b = true, nil
		return 0
	}
	r.b = r.b[k:]
	return int(n)
}

func (r *reader) bytes(n int) []byte {
	if n > len(r.b) {
		r.bad, r.b = true, nil
		return nil
	}
	out := r.b[:n]
	r.b = r.b[n:]
	return out
}

func (r *reader) format(want byte) error {
	if b := r.bytes(1); b == nil || b[0] != want {
		if b != nil {
			return fmt.Errorf("a chunk of the index of names has format %d, which isn't known", b[0])
		}
		return errGarbled
	}
	return nil
}

func decodeNames(b []byte) (*chunk, error) {
	r := reader{b: b}
	if err := r.format(formatNames); err != nil {
		return nil, err
	}
	count := r.number(maxEntries)
	c := &chunk{names: r.bytes(r.number(len(b)))}
	c.kinds = r.bytes(count)
	total := 0
	for range r.number(count) {
		f := folder{count: r.number(count)}
		f.path = string(r.bytes(r.number(len(b))))
		total += f.count
		c.folders = append(c.folders, f)
	}
	zeros := 0
	for _, x := range c.names {
		if x == 0 {
			zeros++
		}
	}
	if r.bad || total != count || zeros != count || len(r.b) > 0 {
		return nil, errGarbled
	}
	return c, nil
}

func decodeAttrs(b []byte) (*attrs, error) {
	r := reader{b: b}
	if err := r.format(formatAttrs); err != nil {
		return nil, err
	}
	count := r.number(maxEntries)
	var out attrs
	for _, column := range []*[]int64{&out.id, &out.size, &out.when} {
		p := r.bytes(8 * count)
		if r.bad {
			return nil, errGarbled
		}
		*column = make([]int64, count)
		for i := range *column {
			(*column)[i] = int64(binary.LittleEndian.Uint64(p[8*i:]))
		}
	}
	return &out, nil
}

// entry puts together what the two chunks say of entry i.
func (a *attrs) entry(path string, kind byte, i int) (Entry, error) {
	if i >= len(a.id) {
		return Entry{}, errGarbled
	}
	e := Entry{Path: path, Kind: Kind(kind & kindBits), Hidden: kind&hiddenBit != 0, ID: uint64(a.id[i]),
		Size: a.size[i]}
	if a.when[i] != noTime {
		e.Modified = time.Unix(0, a.when[i])
	}
	return e, nil
}

// paths calls each with the number and path of every entry.
func (c *chunk) paths(each func(i int, path string) bool) {
	rest, i := c.names, 0
	for _, f := range c.folders {
		for range f.count {
			n := 0
			for n < len(rest) && rest[n] != 0 {
				n++
			}
			name := string(rest[:n])
			rest = rest[min(n+1, len(rest)):]
			if f.path != "" {
				name = f.path + "/" + name
			}
			if !each(i, name) {
				return
			}
			i++
		}
	}
}
