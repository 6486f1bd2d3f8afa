// Package lzxtest packs pieces of files as Windows does, for tests: closely (LZX) and quickly (LZ77 with Huffman
// codes), and puts what it packed into archives that other programs unpack.
package lzxtest

import (
	"encoding/binary"
	"math/bits"
	"slices"

	"twinshelf/internal/lzx"
)

var le = binary.LittleEndian

// token is a byte, or a match.
type token struct {
	b       byte
	n, back int // n is 0 for a byte
}

// tokens finds matches of at most so many bytes.
func tokens(b []byte, most int) (out []token) {
	last := map[[3]byte]int{}
	for at := 0; at < len(b); {
		n, back := 0, 0
		if at+3 <= len(b) {
			key := [3]byte(b[at:])
			if p, is := last[key]; is {
				back = at - p
				for n < most && at+n < len(b) && b[p+n] == b[at+n] {
					n++
				}
			}
			last[key] = at
		}
		if n < 3 {
			out = append(out, token{b: b[at]})
			at++
			continue
		}
		out = append(out, token{n: n, back: back})
		at += n
	}
	return out
}

// lengths are the lengths of Huffman codes by how often symbols come, at most so many bits.
func lengths(often []int, most int) []uint8 {
	type node struct {
		n     int
		leafs []int
	}
	out := make([]uint8, len(often))
	var all []node
	for s, n := range often {
		if n > 0 {
			all = append(all, node{n, []int{s}})
		}
	}
	for s := 0; len(all) < 2; s++ { // a tree has two at least
		if often[s] == 0 {
			all = append(all, node{1, []int{s}})
		}
	}
	for len(all) > 1 {
		slices.SortStableFunc(all, func(a, b node) int { return a.n - b.n })
		for _, s := range slices.Concat(all[0].leafs, all[1].leafs) {
			out[s]++
		}
		all = append([]node{{all[0].n + all[1].n, slices.Concat(all[0].leafs, all[1].leafs)}}, all[2:]...)
	}
	if int(slices.Max(out)) > most { // flatter
		less := make([]int, len(often))
		for s, n := range often {
			less[s] = (n + 1) / 2
			if n > 0 {
				less[s]++
			}
		}
		return lengths(less, most)
	}
	return out
}

// codes are the codes for lengths.
func codes(lens []uint8) []uint32 {
	out := make([]uint32, len(lens))
	code := uint32(0)
	for n := 1; n <= 16; n++ {
		for s, l := range lens {
			if int(l) == n {
				out[s] = code
				code++
			}
		}
		code <<= 1
	}
	return out
}

// writer puts bits into units of 16 bits, the highest first.
type writer struct {
	out   []byte
	have  uint64
	count int
}

func (w *writer) put(v uint32, n int) {
	w.have = w.have<<n | uint64(v)
	for w.count += n; w.count >= 16; w.count -= 16 {
		w.out = le.AppendUint16(w.out, uint16(w.have>>(w.count-16)))
	}
}

// align goes to the next unit; from the beginning of one to the one after it.
func (w *writer) align() { w.put(0, 16-w.count) }

// Kinds of blocks.
const (
	Verbatim = 1
	Aligned  = 2
	Plain    = 3
)

// LZX packs a piece, in blocks of the given kinds, whose calls in machine code have become places.
func LZX(b []byte, kinds ...int) []byte {
	b = places(b)
	w := &writer{}
	e := &encoder{w: w, recent: [3]int{1, 1, 1}, mainLens: make([]uint8, 256+240), lengthLens: make([]uint8, 249)}
	all := tokens(b, 256)
	at := 0
	for i, kind := range kinds {
		n := 0
		some := all
		if i < len(kinds)-1 {
			some = all[:len(all)/2]
		}
		all = all[len(some):]
		for _, t := range some {
			n += max(1, t.n)
		}
		w.put(uint32(kind), 3)
		if n == lzx.Window {
			w.put(1, 1)
		} else {
			w.put(0, 1)
			w.put(uint32(n), 16)
		}
		if kind == Plain {
			e.plain(b[at : at+n])
		} else {
			e.block(some, kind == Aligned)
		}
		at += n
	}
	if w.count > 0 {
		w.align()
	}
	return w.out
}

type encoder struct {
	w                    *writer
	recent               [3]int
	mainLens, lengthLens []uint8
}

func (e *encoder) plain(b []byte) {
	e.w.align()
	for _, r := range e.recent {
		e.w.out = le.AppendUint32(e.w.out, uint32(r))
	}
	e.w.out = append(e.w.out, b...)
	if len(b)%2 == 1 {
		e.w.out = append(e.w.out, 0)
	}
}

// match is a match as symbols and bits.
type match struct {
	main, length int // length is -1 where there is none
	slot, extra  int
	bits         int
}

// symbols are those of a token.
func (e *encoder) symbols(t token) match {
	if t.n == 0 {
		return match{main: int(t.b), length: -1}
	}
	m := match{length: -1}
	head := min(t.n-2, 7)
	if head == 7 {
		m.length = t.n - 9
	}
	if i := slices.Index(e.recent[:], t.back); i >= 0 {
		m.slot = i
		e.recent[0], e.recent[i] = e.recent[i], e.recent[0]
	} else {
		for m.slot = 3; m.slot < 29; m.slot++ {
			if next, _ := lzx.Slot(m.slot + 1); next > t.back+2 {
				break
			}
		}
		base, extra := lzx.Slot(m.slot)
		m.extra, m.bits = extra, t.back+2-base
		e.recent = [3]int{t.back, e.recent[0], e.recent[1]}
	}
	m.main = 256 + m.slot*8 + head
	return m
}

func (e *encoder) block(all []token, aligned bool) {
	var out []match
	mains, lens, near := make([]int, 256+240), make([]int, 249), make([]int, 8)
	for _, t := range all {
		m := e.symbols(t)
		out = append(out, m)
		mains[m.main]++
		if m.length >= 0 {
			lens[m.length]++
		}
		if m.extra >= 3 {
			near[m.bits&7]++
		}
	}
	mainLens, lengthLens, nearLens := lengths(mains, 16), lengths(lens, 16), lengths(near, 7)
	if aligned {
		for _, l := range nearLens {
			e.w.put(uint32(l), 3)
		}
	}
	e.tree(mainLens[:256], e.mainLens[:256])
	e.tree(mainLens[256:], e.mainLens[256:])
	e.tree(lengthLens, e.lengthLens)
	e.mainLens, e.lengthLens = mainLens, lengthLens
	mainCodes, lengthCodes, nearCodes := codes(mainLens), codes(lengthLens), codes(nearLens)
	for _, m := range out {
		e.w.put(mainCodes[m.main], int(mainLens[m.main]))
		if m.length >= 0 {
			e.w.put(lengthCodes[m.length], int(lengthLens[m.length]))
		}
		if aligned && m.extra >= 3 {
			e.w.put(uint32(m.bits>>3), m.extra-3)
			e.w.put(nearCodes[m.bits&7], int(nearLens[m.bits&7]))
		} else {
			e.w.put(uint32(m.bits), m.extra)
		}
	}
}

// tree writes lengths of codes, as differences from what they were, with runs.
func (e *encoder) tree(now, was []uint8) {
	type op struct{ symbol, bits, n, then int }
	var ops []op
	for i := 0; i < len(now); {
		run := 1
		for i+run < len(now) && now[i+run] == now[i] {
			run++
		}
		diff := (int(was[i]) - int(now[i]) + 17) % 17
		same := run > 3 && slices.Equal(was[i:i+4], slices.Repeat(was[i:i+1], 4))
		switch {
		case now[i] == 0 && run >= 20:
			run = min(run, 51)
			ops = append(ops, op{18, run - 20, 5, -1})
		case now[i] == 0 && run >= 4:
			run = min(run, 19)
			ops = append(ops, op{17, run - 4, 4, -1})
		case same:
			run = 4
			ops = append(ops, op{19, 0, 1, diff})
		default:
			run = 1
			ops = append(ops, op{diff, 0, 0, -1})
		}
		i += run
	}
	often := make([]int, 20)
	for _, o := range ops {
		often[o.symbol]++
		if o.then >= 0 {
			often[o.then]++
		}
	}
	lens := lengths(often, 15)
	for _, l := range lens {
		e.w.put(uint32(l), 4)
	}
	c := codes(lens)
	for _, o := range ops {
		e.w.put(c[o.symbol], int(lens[o.symbol]))
		e.w.put(uint32(o.bits), o.n)
		if o.then >= 0 {
			e.w.put(c[o.then], int(lens[o.then]))
		}
	}
}

// places gives calls in machine code the places that they lead to instead of distances.
func places(b []byte) []byte {
	const size = 12_000_000
	out := slices.Clone(b)
	for i := 0; i < len(out)-10; i++ {
		if out[i] != 0xE8 {
			continue
		}
		far := int32(le.Uint32(out[i+1:]))
		switch {
		case far >= -int32(i) && far < size-int32(i):
			le.PutUint32(out[i+1:], uint32(far+int32(i)))
		case far >= size-int32(i) && far < size:
			le.PutUint32(out[i+1:], uint32(far-size))
		}
		i += 4
	}
	return out
}

// Xpress packs a piece quickly.
func Xpress(b []byte) []byte {
	all := tokens(b, 40_000)
	often := make([]int, 512)
	symbol := func(t token) int {
		if t.n == 0 {
			return int(t.b)
		}
		return 256 + 16*(bits.Len(uint(t.back))-1) + min(t.n-3, 15)
	}
	for _, t := range all {
		often[symbol(t)]++
	}
	often[256] = 1 // the end
	lens := lengths(often, 15)
	c := codes(lens)
	table := make([]byte, 256)
	for s, l := range lens {
		table[s/2] |= l << (4 * (s % 2))
	}
	w := &mixed{}
	for _, t := range all {
		s := symbol(t)
		w.put(c[s], int(lens[s]))
		if t.n == 0 {
			continue
		}
		switch n := t.n - 3; {
		case n < 15:
		case n-15 < 255:
			w.bytes(byte(n - 15))
		default:
			w.bytes(255, byte(n), byte(n>>8))
		}
		far := bits.Len(uint(t.back)) - 1
		w.put(uint32(t.back-1<<far), far)
	}
	w.put(c[256], int(lens[256]))
	return append(table, w.end()...)
}

// mixed puts bits into units of 16 bits, and bytes between them where their reader looks for the next unit: two of them
// are read ahead.
type mixed struct {
	out   []byte
	units []int // places of those that were kept free
	have  uint64
	count int
	next  int
}

func (m *mixed) reserve() {
	m.units = append(m.units, len(m.out))
	m.out = append(m.out, 0, 0)
}

func (m *mixed) put(v uint32, n int) {
	if m.units == nil {
		m.reserve()
		m.reserve()
	}
	m.have = m.have<<n | uint64(v)
	if m.count += n; m.count > 16 { // the reader takes another one
		m.count -= 16
		le.PutUint16(m.out[m.units[m.next]:], uint16(m.have>>m.count))
		m.next++
		m.reserve()
	}
}

func (m *mixed) bytes(b ...byte) { m.out = append(m.out, b...) }

func (m *mixed) end() []byte {
	le.PutUint16(m.out[m.units[m.next]:], uint16(m.have<<(16-m.count)))
	return m.out
}

// Chunked is a file's contents as they are kept packed: where its pieces begin, and the pieces, each packed or as it
// is.
func Chunked(b []byte, size int, pack func([]byte) []byte) []byte {
	var table, out []byte
	for at := 0; at < len(b); at += size {
		piece := b[at:min(len(b), at+size)]
		if at > 0 {
			table = le.AppendUint32(table, uint32(len(out)))
		}
		if p := pack(piece); len(p) < len(piece) {
			piece = p
		}
		out = append(out, piece...)
	}
	return append(table, out...)
}
